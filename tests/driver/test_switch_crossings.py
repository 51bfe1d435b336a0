"""Crossing jumps and kinks: order kept, times exact, nothing lost and nothing found twice."""

from __future__ import annotations

import math
import warnings

import numba
import numpy as np
import pytest
from representatives import general

import unhurried_heron as uh
from unhurried_heron.testing.contract import takes_fixed_steps

LEAK = "level' = springs - leak*level\nleak = where(t < cut, tight, 10*tight)"


def leaking(**more) -> uh.Problem:
    values = {"springs": 0.2, "tight": 0.15, "cut": 3.9269908169872414}
    return uh.Problem.from_text(LEAK, parameters=values, initial={"level": 1.0}, **{"interval": (0, 10), **more})


def leaked(t: float) -> float:
    """The closed form on each side of the cut."""
    cut = 3.9269908169872414

    def towards(start: float, k: float, time: float) -> float:
        return 0.2 / k + (start - 0.2 / k) * math.exp(-k * time)

    return towards(1.0, 0.15, t) if t < cut else towards(towards(1.0, 0.15, cut), 1.5, t - cut)


# that methods keep their order across a known jump is a check of the contract, `order_is_observed`
@pytest.mark.parametrize("name", [m.name for m in general() if m.order >= 4 and takes_fixed_steps(m)])
def test_the_order_is_lost_without_landing_on_the_jump(name: str) -> None:
    steps = [0.2, 0.1, 0.05]
    errors = [abs(uh.integrate(leaking(), name, step=h).final["level"] - leaked(10)) for h in steps]
    blind = [abs(uh.integrate(leaking(), name, step=h, switches=False).final["level"] - leaked(10)) for h in steps]
    assert max(blind) > 20 * max(errors[-2:])


def test_known_times_are_landed_on_and_marked() -> None:
    problem = leaking()
    (switch,) = problem.switches
    assert (switch.text, switch.kind, switch.times) == ("t < cut", "jump", (3.9269908169872414,))
    run = uh.integrate(problem, rtol=1e-6)
    assert switch.times[0] in run.times
    ledger = run.ledger
    (row,) = ledger.index[ledger["switch"] == "t < cut"]
    assert ledger["time"][row] + ledger["step"][row] == pytest.approx(switch.times[0], rel=1e-15)
    assert run.switches.to_dict("records") == [{"time": switch.times[0], "switch": "t < cut", "value": 0.0}]
    assert uh.integrate(problem, switches=False).switches.empty
    back = uh.integrate(leaking(interval=(10, 0)).with_(initial={"level": leaked(10)}), rtol=1e-10)
    assert back.switches["value"].tolist() == [1.0]
    waves = uh.Problem.from_text("x' = where(sin(t) > 0, 1, -1)", initial={"x": 1}, interval=(10, 0))
    assert waves.switches[0].times == pytest.approx([3 * np.pi, 2 * np.pi, np.pi], abs=1e-14)
    assert back.final["level"] == pytest.approx(1.0, rel=1e-4)


def test_recorded_times_and_changed_parameters_follow_the_switch() -> None:
    times = [0.5, 3.9269908169872414, 4.0, 9.5]
    run = uh.integrate(leaking(), rtol=1e-10, record=times)
    assert run["level"] == pytest.approx([leaked(t) for t in times], rel=1e-8)
    assert run["leak"].tolist() == [0.15, 1.5, 1.5, 1.5]
    later = uh.integrate(leaking(), parameters={"cut": 8.5}).switches
    assert later["time"].tolist() == [8.5]
    assert uh.integrate(leaking(), parameters={"cut": 11.0}).switches.empty


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5", "fehlberg-45", "heun-2"])
def test_a_switch_of_the_state_is_located(method: str) -> None:
    # falls at speed 1 down to 1, then decays: reaches 1 at t = 2, and exp(-(t - 2)) afterwards
    problem = uh.Problem.from_text("x' = where(x > 1, -1, -x)", initial={"x": 3.0}, interval=(0, 4))
    run = uh.integrate(problem, method, rtol=1e-8)
    assert run.switches["time"].tolist() == pytest.approx([2.0], abs=1e-12)
    assert run.final["x"] == pytest.approx(math.exp(-2), rel=1e-6)
    assert run.tally.refused <= 1


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_friction_that_changes_sign_with_the_speed(method: str) -> None:
    # dry friction: each half swing is a cosine about a shifted middle, so the highest points fall by 2f each time
    problem = uh.Problem.from_text(
        "z'' + z + f*sign(z') = 0", parameters={"f": 0.05}, initial={"z": 1.0, "z'": 0.0}, interval=(0, 4.5 * math.pi)
    )
    turns = uh.integrate(problem, method, rtol=1e-10).switches
    times = turns["time"].to_numpy()
    assert times[-4:] == pytest.approx(np.pi * np.arange(1, 5), abs=1e-6)
    run = uh.integrate(problem, method, rtol=1e-10)
    assert run.at(times[-4:])[:, 0] == pytest.approx([-0.9, 0.8, -0.7, 0.6], abs=1e-6)


def test_two_levels_with_a_memory() -> None:
    # a store fills at 1 and empties at 1 between two levels: a triangle wave of period 2*(2 - 1)
    problem = uh.Problem.from_text(
        """
        level' = where(valve > 0.5, -1, 1)
        valve' = 1e4*(where(level > 2, 1, where(level < 1, 0, where(valve > 0.5, 1, 0))) - valve)
        """,
        initial={"level": 1.5, "valve": 0},
        interval=(0, 9),
    )
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-8)
    found = run.switches
    highs = found[(found["switch"] == "level > 2") & (found["value"] == 1)]["time"]
    assert highs.to_numpy() == pytest.approx([0.5, 2.5, 4.5, 6.5, 8.5], abs=1e-2)
    assert run["level"].max() < 2.001


def test_an_event_on_a_switch_is_found_once() -> None:
    text = "level' = inflow - 0.5*max(level - crest, 0)\ninflow = 1.1*sin(t)"
    for going, count in (("up", 2), ("down", 2), ("either", 4)):
        problem = uh.Problem.from_text(
            text,
            parameters={"crest": 1.0},
            initial={"level": 0.3},
            interval=(0, 12.5),
            events=[uh.Event("level = crest", going=going), uh.Event("level = 1.2", name="higher", going="up")],
        )
        for rtol in (1e-5, 1e-8, 1e-11):
            run = uh.integrate(problem, rtol=rtol)
            found = run.events.groupby("name")["time"].apply(list)
            assert len(found["level = crest"]) == count
            assert len(found["higher"]) == 2
            crossings = run.switches["time"].to_numpy()
            assert all(np.abs(crossings - time).min() < 1e-9 for time in found["level = crest"])
    stop = [uh.Event("level = crest", name="stop", going="up", stop=True)]
    run = uh.integrate(problem.with_(events=[]), events=stop)
    assert run.ending.reason == "event"
    assert run.final["level"] == pytest.approx(1.0, abs=1e-9)


def test_a_whole_number_that_both_sides_lead_back_to_ends_the_run() -> None:
    problem = uh.Problem.from_text("x' = 1 - 3*floor(x)", initial={"x": 0.0}, interval=(0, 5))
    with pytest.warns(uh.IncompleteRunWarning, match="back and forth"):
        run = uh.integrate(problem)
    assert (run.ending.reason, run.ending.time) == ("switching", pytest.approx(1.0, abs=1e-9))
    assert "floor(x)" in run.ending.message
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert uh.integrate(problem, switches=False, rtol=1e-4).final["x"] == pytest.approx(1.0, abs=1e-2)


def test_beyond_a_switch_a_formula_need_not_exist() -> None:
    # below the crest the root is of a negative number; a trial beyond it must not end the run
    problem = uh.Problem.from_text(
        "level' = -where(level > 1, sqrt(level - 1) + 0.01, 0.3)", initial={"level": 2.0}, interval=(0, 6)
    )
    run = uh.integrate(problem, rtol=1e-9)
    # integral of dx/(sqrt(x - 1) + a) from 1 to 2 is 2 - 2 a log(1 + 1/a)
    reached = 2 - 0.02 * math.log(101)
    # the condition, and the root that comes to zero there
    assert run.switches["time"].tolist() == pytest.approx([reached] * 2, abs=3e-5)
    assert run.final["level"] == pytest.approx(1 - 0.3 * (6 - reached), abs=1e-5)


def test_staircases_pulses_and_switches_within_switches() -> None:
    stairs = uh.Problem.from_text("x' = floor(2*t) + ceil(x/100)", initial={"x": 0.5}, interval=(0.1, 3.1))
    run = uh.integrate(stairs)
    # 0 to 5 stand for half a second each but the ends, and ceil is 1 throughout
    assert run.final["x"] == pytest.approx(0.5 + 0.5 * (1 + 2 + 3 + 4 + 5) + 0.1 * 6 + 3.0, rel=1e-9)
    assert run.switches["value"].tolist() == [1, 2, 3, 4, 5, 6]
    nested = uh.Problem.from_text(
        "x' = where(x > where(t < 1, 5, 0.5), 0, 1) + 2*pulse(t, 1.5, 1.75)", initial={"x": 0}, interval=(0, 3)
    )
    # at t = 1 the level drops below x = 1, so x stands still but for the pulse
    assert uh.integrate(nested, rtol=1e-10).final["x"] == pytest.approx(1.5, rel=1e-9)
    counted = uh.Problem.from_text("x' = floor(x) + 1", initial={"x": 0.0}, interval=(0, 1 + 1 / 2 + 1 / 3 + 0.125))
    assert uh.integrate(counted, rtol=1e-10).final["x"] == pytest.approx(3.5, rel=1e-9)
    falling = uh.Problem.from_text("x' = -ceil(x)", initial={"x": 2.5}, interval=(0, 0.5 / 3 + 1 / 2 + 0.25))
    assert uh.integrate(falling, rtol=1e-10).final["x"] == pytest.approx(0.75, rel=1e-9)


def step_rates(t, x, high):
    return [high if t >= 2.0 else 1.0]


@pytest.mark.parametrize("rates", [step_rates, numba.njit(step_rates)], ids=["python", "njit"])
@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_functions_say_their_switches(rates, method: str) -> None:
    problem = uh.Problem.from_rates(
        rates, initial={"x": 0.0}, parameters={"high": 50.0}, interval=(0, 3), switches=["t = 2", lambda x: x - 30.0]
    )
    run = uh.integrate(problem, method)
    # a constant on each side: only a rate asked on the wrong side of the jump could spoil it
    assert run.final["x"] == pytest.approx(52.0, rel=1e-12)
    assert run.switches["time"].tolist() == pytest.approx([2.0, 2.56], rel=1e-9)
    assert run.tally.refused == 0


@pytest.mark.parametrize("between", ["previous", "linear", "cubic"])
def test_measured_inputs_are_landed_on(between: str) -> None:
    times, values = [0.0, 1.0, 1.5, 4.0, 6.0], [1.0, 3.0, -2.0, 0.5, 0.5]
    table = uh.Measured(times, values, between)
    text = "x' = rain\ntwice = 2*rain"
    problem = uh.Problem.from_text(text, inputs={"rain": table}, initial={"x": 0.0}, interval=(0, 6))
    for method in ("dormand-prince-54", "radau-iia-5"):
        run = uh.integrate(problem, method, rtol=1e-4)
        # between the rows the input is a cubic at most, which these methods integrate without error
        pieces = [np.linspace(a, b, 20001) for a, b in zip(times, times[1:], strict=False)]
        inside = [table(np.nextafter((grid[1:] + grid[:-1]) / 2, 9)) for grid in pieces]
        exact = sum(float(part.mean() * (grid[-1] - grid[0])) for part, grid in zip(inside, pieces, strict=True))
        assert run.final["x"] == pytest.approx(exact, rel=1e-7)
        assert set(times[1:-1]) <= set(run.times)
        # what jumps has two rows, before and after
        rows = np.isin(run.times, times[1:-1])
        assert rows.sum() == (6 if between == "previous" else 3)
        assert (np.unique(run["twice"][rows]).size == 4) == (between == "previous")
    smeared = uh.integrate(problem, rtol=1e-7, switches=False)
    assert smeared.final["x"] == pytest.approx(exact, rel=1e-2)
    assert smeared.tally.accepted + smeared.tally.refused > 5


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
@pytest.mark.parametrize("level", [0.3, 7.0])
def test_a_switch_follows_one_that_it_depends_on(level: float, method: str) -> None:
    text = f"x' = 1\nwave = where(x > 1, {level}, -{level}) - where(x > 2, 2*{level}, 0)\ny' = where(wave > 0, 1, -1)"
    run = uh.integrate(uh.Problem.from_text(text, initial={"x": 0, "y": 0}, interval=(0, 4)), method)
    assert run.at([1, 2, 4], "y") == pytest.approx([-1, 0, -2], abs=1e-9)
    assert run.switches["switch"].tolist() == ["x > 1", "x > 2"]
