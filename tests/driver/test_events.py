"""Events: found, located to rounding, recorded whole, in order."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods

ORDERS = {m.name: m.order for m in all_methods()}
METHODS = [
    {"method": m.name, **({"rtol": 1e-9} if m.adaptive and m.order > 2 else {"step": 1e-3})} for m in all_methods()
]


@pytest.mark.parametrize("options", METHODS, ids=lambda o: o["method"])
@pytest.mark.parametrize("backward", [False, True])
def test_located_on_the_solution_itself(oscillator: uh.Problem, options: dict, backward: bool) -> None:
    problem = oscillator.with_(interval=(0, 5))
    if backward:
        problem = problem.with_(interval=(5, 0), initial={"x": np.sin(5), "v": np.cos(5)})
    run = uh.integrate(problem, **options, events=[uh.Event("x = 0.5", name="half")])
    found = run.events
    assert len(found) == 2
    # weights of step polynomials of high order cancel by some digits
    assert np.abs(found["x"] - 0.5).max() < 1e-13
    assert np.abs(run.at(found["time"].to_numpy()) - found[["x", "v"]].to_numpy()).max() < 1e-15
    exact = np.array([np.pi / 6, 5 * np.pi / 6])
    order = exact[::-1] if backward else exact
    assert np.abs(found["time"] - order).max() < (1e-2, 1e-5, 1e-6)[min(ORDERS[options["method"]], 3) - 1]


@pytest.mark.parametrize("kind", ["written", "Python", "a held switch"])
@pytest.mark.parametrize("method", [m for m in all_methods() if m.adaptive and m.order > 3], ids=lambda m: m.name)
def test_two_crossings_in_a_step_are_found(oscillator: uh.Problem, method: object, kind: str) -> None:
    problem = oscillator.with_(interval=(0, 36))
    for level in (0.9, 0.999, 0.99999):
        tops = np.pi / 2 + 2 * np.pi * np.arange(6)
        times = np.sort([*(tops - np.arccos(level)), *(tops + np.arccos(level))])
        if kind == "a held switch":
            counting = uh.Problem.from_text(
                f"x' = v\nv' = -x\nabove' = where(x > {level}, 1, 0)",
                initial={"x": 0, "v": 1, "above": 0}, interval=(0, 36),
            )  # fmt: skip
            found = uh.integrate(counting, method, rtol=1e-8).switches["time"]
            assert found.to_numpy() == pytest.approx(times, abs=1e-3)
            continue
        watch = f"x = {level}" if kind == "written" else lambda t, x, level=level: x - level
        run = uh.integrate(problem, method, rtol=1e-8, events=[uh.Event(watch, name="near the top")])
        assert run.events["time"].to_numpy() == pytest.approx(times, abs=1e-3)


def test_directions(oscillator: uh.Problem) -> None:
    counts = {}
    for going in ("up", "down", "either"):
        run = uh.integrate(oscillator, events=[uh.Event("x = 0.5", name="half", going=going)])
        counts[going] = len(run.events)
        expected = {"up": [1], "down": [-1], "either": [1, -1]}[going]
        assert set(np.sign(run.events["v"])) == set(expected)
    assert counts == {"up": 4, "down": 3, "either": 7}


def test_a_stop_ends_the_run_there(oscillator: uh.Problem) -> None:
    events = [
        uh.Event("x = 0.2", name="before"),
        uh.Event("x = 0.5", name="stop", stop=True),
        uh.Event("x = 0.6", name="never"),
    ]
    # steps so long that all three lie in one
    run = uh.integrate(oscillator, "dormand-prince-54", step=2.0, events=events)
    assert list(run.events["name"]) == ["before", "stop"]
    assert run.ending.reason == "event"
    assert run.ending.as_requested
    assert "'stop'" in run.ending.message
    assert run.times[-1] == run.ending.time == run.events["time"].iloc[-1]
    assert run.final["x"] == pytest.approx(0.5, abs=1e-15)
    assert np.allclose(run.at(run.ending.time), run.states[-1], atol=0)
    with pytest.raises(uh.RunError, match="outside"):
        run.at(run.ending.time + 0.01)
    recorded = uh.integrate(oscillator, events=events, record=[0.0, 0.3, 0.9])
    assert recorded.times.tolist() == [0.0, 0.3, recorded.ending.time]
    assert recorded.states[-1, 0] == pytest.approx(0.5, abs=1e-15)


def test_a_start_on_the_condition_does_not_count(oscillator: uh.Problem) -> None:
    run = uh.integrate(oscillator.with_(interval=(0, 4)), events=[uh.Event("x = 0", name="zero", stop=True)])
    assert run.ending.time == pytest.approx(np.pi, rel=1e-7)


def test_a_condition_met_exactly_at_a_step_counts_once() -> None:
    problem = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 4))
    run = uh.integrate(
        problem, "euler", step=0.5, events=[uh.Event("x = 2", name="two"), uh.Event("x = 4", name="four")]
    )
    assert list(run.events["time"]) == [2.0, 4.0]


def test_a_touch_is_never_two_crossings() -> None:
    problem = uh.Problem.from_text("x' = 2*(t - 1)", initial={"x": 1}, interval=(0, 3))
    assert len(uh.integrate(problem, rtol=1e-10, events=[uh.Event("x = 0")]).events) <= 1


def test_many_events_overflow_no_buffer() -> None:
    problem = uh.Problem.from_text("x' = cos(t)", initial={"x": 0}, interval=(0, 2000))
    levels = np.linspace(-0.9, 0.9, 40)
    events = [uh.Event(f"x = {level}", name=f"e{i}") for i, level in enumerate(levels)]
    found = uh.integrate(problem, rtol=1e-8, events=events).events
    assert found["time"].is_monotonic_increasing
    turns = 2 * np.pi * np.arange(400)
    for i, level in enumerate(levels):
        times = np.concatenate([np.arcsin(level) + turns, np.pi - np.arcsin(level) + turns])
        assert (found["name"] == f"e{i}").sum() == ((times > 0) & (times < 2000)).sum()


def test_names_must_differ(pond: uh.Problem) -> None:
    one, other = (uh.Event(f"level = {level}", name="one") for level in (1, 2))
    with pytest.raises(uh.FormulationError, match="two events"):
        uh.integrate(pond, events=[one, other])
    with pytest.raises(uh.FormulationError, match="two events"):
        pond.with_(events=[one, other])
    for wrong in ({"going": "sideways"}, {"stop": 1}):
        with pytest.raises(uh.FormulationError):
            uh.Event("level = 1", **wrong)


def test_conditions_on_time_and_derived_quantities() -> None:
    problem = uh.Problem.from_text(
        "x' = -x\nsquare = x^2",
        initial={"x": 1},
        interval=(0, 5),
        events=[uh.Event("t = pi"), uh.Event("square = 0.01")],
    )
    for method in ("dormand-prince-54", "radau-iia-5"):
        found = uh.integrate(problem, method, rtol=1e-10).events
        assert list(found["name"]) == ["square = 0.01", "t = pi"]
        assert found["time"].to_numpy() == pytest.approx([np.log(10), np.pi], rel=1e-9)


def test_events_of_one_step_come_in_the_order_of_the_run(oscillator: uh.Problem) -> None:
    events = [uh.Event(f"x = {level}", name=str(level), stop=level == 0.3) for level in (0.5, 0.1, 0.3, 0.2, 0.4)]
    up = uh.integrate(oscillator, step=1.5, events=events)
    assert list(up.events["name"]) == ["0.1", "0.2", "0.3"]
    back = oscillator.with_(interval=(1.2, 0), initial={"x": np.sin(1.2), "v": np.cos(1.2)})
    down = uh.integrate(back, step=1.2, events=events)
    assert list(down.events["name"]) == ["0.5", "0.4", "0.3"]
    assert down.ending.time == pytest.approx(np.arcsin(0.3), abs=1e-3)
    assert down.times[0] > down.times[-1] == down.ending.time


def test_a_condition_that_is_no_number_is_no_event() -> None:
    problem = uh.Problem.from_text("x' = 1", initial={"x": -1}, interval=(0, 3))
    run = uh.integrate(problem, step=0.25, events=[uh.Event("sqrt(x) = 1", name="root")])
    # undefined before x = 0, a true crossing at x = 1
    assert list(run.events["time"]) == pytest.approx([2.0])


def test_event_functions_that_fail_are_heard() -> None:
    def gauge(t, x):
        if t > 0.5:
            raise OSError("the gauge is under water")
        return x - 10

    problem = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 3))
    for method in ("dormand-prince-54", "radau-iia-5"):
        with pytest.raises(OSError, match="under water") as caught:
            uh.integrate(problem, method, largest_step=0.1, events=[uh.Event(gauge)])
        assert "event function" in caught.value.__notes__[0]


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5", "verner-76"])
def test_what_swings_many_times_in_a_step_is_followed(method: str) -> None:
    # a straight line and a slow decay: the steps are as long as the interval allows
    problem = uh.Problem.from_text("x' = 1\ny' = -0.1*y", initial={"x": 0, "y": 1}, interval=(0, 20))
    fine = np.linspace(0, 20, 400_001)
    for text, values in {
        "sin(9*x) = 0.3": np.sin(9 * fine) - 0.3,
        "sin(50*t) = y": np.sin(50 * fine) - np.exp(-0.1 * fine),
        "x = 7.77 + 1.5*cos(20*x)*y": fine - 7.77 - 1.5 * np.cos(20 * fine) * np.exp(-0.1 * fine),
    }.items():
        run = uh.integrate(problem, method, rtol=1e-4, events=[uh.Event(text)])
        indices = np.flatnonzero(values[1:] * values[:-1] < 0)
        assert run.tally.accepted < 20
        assert run.events["time"].to_numpy() == pytest.approx(fine[indices], abs=2e-4)
