"""Events happen as often as they should: counted, against a number that follows from the end state."""

import math
from typing import Any

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import find_method

TOLERANCES = (1e-4, 1e-6, 1e-8, 1e-10, 1e-12)
ADAPTIVE = representatives()
COUNTED = {"then": "n = n + 1"}


def count(text: str, initial: dict[str, float], end: float, event: uh.Event, method: str, rtol: float) -> uh.Run:
    counts = {"parameters": {"n": 0}} if event.then == COUNTED["then"] else {}
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, end), events=[event], **counts)
    run = uh.integrate(problem, method, rtol=rtol, atol=rtol, record=2)
    assert run.ending.reason == "end", run.ending.message
    if counts:
        assert run["n"][-1] == len(run.events)
    return run


def sharp(method: str, rtol: float) -> float:
    """Return a tolerance that a method of low order reaches in good time."""
    return max(rtol, {1: 1e-4, 2: 1e-6, 3: 1e-8}.get(find_method(method).order, 0.0))


@pytest.mark.parametrize("acts", [{}, COUNTED], ids=["seen", "acting"])
@pytest.mark.parametrize("method", ADAPTIVE)
def test_turns_are_counted(method: str, acts: dict[str, Any]) -> None:
    """A rotor that comes up to speed, whose steps become far longer than a turn."""
    for rtol in TOLERANCES:
        turn = uh.Event("sin(angle) = 0", name="turn", going="up", **acts)
        start = {"angle": 0.1, "f": 1.0}
        run = count("angle' = 2*pi*f\nf' = -0.05*(f - 50)", start, 30, turn, method, sharp(method, rtol))
        assert len(run.events) == math.floor(run.final["angle"] / (2 * math.pi)), rtol
        assert np.abs(np.sin(run.events["angle"].to_numpy())).max() < 1e-9


@pytest.mark.parametrize("acts", [{}, COUNTED], ids=["seen", "acting"])
@pytest.mark.parametrize("method", ADAPTIVE)
def test_teeth_of_a_saw_are_counted(method: str, acts: dict[str, Any]) -> None:
    """Each tooth passes its level once; where it falls back it jumps over it, and fulfils no equation."""
    for rtol in TOLERANCES:
        run = count("x' = 1 + x/1000", {"x": 0.0}, 50, uh.Event("x - floor(x) = 0.25", **acts), method,
                    sharp(method, rtol))  # fmt: skip
        assert len(run.events) == math.floor(run.final["x"] - 0.25) + 1
        relation = count(
            "x' = 1 + x/1000", {"x": 0.0}, 50, uh.Event("ceil(x) >= 5", **acts), method, sharp(method, rtol)
        )
        assert len(relation.events) == 1


@pytest.mark.parametrize("method", ["auto", *(name for name in ADAPTIVE if find_method(name).stiff)])
def test_a_stiff_follower_passes_once(method: str) -> None:
    for rtol in TOLERANCES:
        run = count("y' = -1e6*(y - cos(t)) - sin(t)", {"y": 1.0}, 10, uh.Event("y = 0.3", **COUNTED), method,
                    sharp(method, rtol))  # fmt: skip
        assert len(run.events) == 3, (rtol, run.events["time"].tolist())


@pytest.mark.parametrize("method", ["auto", *(name for name in ADAPTIVE if find_method(name).stiff)])
def test_a_stiff_follower_passes_once_where_a_state_counts(method: str) -> None:
    """The action changes another state than those that the event looks at."""
    for rate in (1e4, 1e6):
        problem = uh.Problem.from_text(
            "y' = -l*(y - cos(t)) - sin(t)\nn' = 0", initial={"y": 1, "n": 0}, parameters={"l": rate}, interval=(0, 9),
            events=[uh.Event("y = 0.3", then="n = n + 1")],
        )  # fmt: skip
        for rtol in (1e-3, 1e-4, 1e-5, 1e-6, 1e-8)[: 3 if method == "backward-euler" else None]:
            assert uh.integrate(problem, method, rtol=rtol).final["n"] == 3, (rate, rtol)


@pytest.mark.parametrize("method", ADAPTIVE)
def test_a_ball_stays_above_the_floor(method: str) -> None:
    g, kept, fall = 9.81, 0.5, math.sqrt(20 / 9.81)
    for rtol in TOLERANCES:
        event = uh.Event("x = 0", going="down", then="v = -0.5*v")
        run = count(f"x' = v\nv' = -{g}", {"x": 10.0, "v": 0.0}, 4.2, event, method, sharp(method, rtol))
        wanted = np.append(fall, fall + 2 * fall * np.cumsum(kept ** np.arange(1, 12)))
        # a method of order 1 is early or late by some per cent
        assert len(run.events) == int((wanted < 4.2).sum()) or (method == "euler" and len(run.events) > 3)
        assert run.events["x"].abs().max() < 1e-9
        assert run.states[:, 0].min() > -1e-6


@pytest.mark.parametrize("method", ["auto", "dormand-prince-54", "radau-iia-5", "adams-variable", "esdirk-43"])
@pytest.mark.parametrize("states", [1, 30, 1000, 5000])
def test_large_systems_miss_none(states: int, method: str) -> None:
    problem = uh.Problem.from_text(
        "u[i]' = -u[i]/10 + i/n for i in 1..n", initial={"u": 1.0}, parameters={"n": states}, interval=(0, 10),
        events=[uh.Event("sin(20*t) = 0.3", name="swing")],
    )  # fmt: skip
    assert len(uh.integrate(problem, method, record=2).events) == 64


def test_events_within_one_fixed_step_are_all_found() -> None:
    problem = uh.Problem.from_text("x' = 1", initial={"x": 0.0}, interval=(0, 1e4), events=[uh.Event("sin(x) = 0.5")])
    for method in ("euler", "classical-rk-4", "radau-iia-5"):
        run = uh.integrate(problem, method, count=2)
        assert len(run.events) == 2 * math.floor(1e4 / (2 * math.pi)) + 1 + (1e4 % (2 * math.pi) > math.pi - 0.5236)
        assert run.tally.accepted == 2


@pytest.mark.parametrize("value", ["1/(y - 1)", "log(x - 1)", "exp(800*y)"])
@pytest.mark.parametrize("named", ["y", "mode"])
def test_an_action_without_a_number_ends_the_run(value: str, named: str) -> None:
    problem = uh.Problem.from_text(
        "x' = -1\ny' = mode", initial={"x": 1, "y": 1}, parameters={"mode": 0}, interval=(0, 3),
        events=[uh.Event("x = 0", name="empty", then=f"{named} = {value}")],
    )  # fmt: skip
    with pytest.warns(uh.IncompleteRunWarning):
        run = uh.integrate(problem)
    assert run.ending.reason == "not finite"
    assert abs(run.ending.time - 1) < 1e-6
    assert f"the event 'empty' gives '{named}' a value that is not finite" in run.ending.message
    assert np.isfinite(run.states).all()


# rates, starting values, length, events: each is integrated as it is, and with all rates negated on a backward interval
MIRRORED = {
    "a dip in a step": ({"u": "1 + 0*v", "v": "-0.01*v"}, (0, 1), 100, uh.Event("1/(1 + ((u - 40)/4)^2) = 0.6")),
    "a ball": ({"x": "v", "v": "-9.81"}, (2, 0), 5, uh.Event("x = 0", going="down", then="v = -0.8*v")),
    "friction": ({"x": "2*sin(w) - 1.5*sign(x)", "w": "1"}, (1, 0), 20, uh.Event("x = 0.5")),
    "a tank": ({"h": "0.1*exp(-w) - 0.5*sqrt(max(h, 0))", "w": "1"}, (1, 0), 15, uh.Event("h = 0.2")),
}


@pytest.mark.parametrize("case", MIRRORED)
@pytest.mark.parametrize("method", [name for name in ADAPTIVE if find_method(name).order > 1])
def test_an_interval_that_runs_backwards_is_the_mirror_of_one_that_runs_forwards(method: str, case: str) -> None:
    rates, start, length, event = MIRRORED[case]
    found = []
    for way in (1, -1):
        problem = uh.Problem.from_text(
            "\n".join(f"{name}' = {way}*({rate})" for name, rate in rates.items()),
            initial=dict(zip(rates, start, strict=True)), interval=(0, way * length), events=[event],
        )  # fmt: skip
        found.append(uh.integrate(problem, method, rtol=1e-5, atol=1e-8))
    forwards, backwards = found
    assert forwards.ending.reason == backwards.ending.reason == "end"
    assert len(forwards.events) == len(backwards.events) > 0
    assert [*backwards.final.values()] == pytest.approx([*forwards.final.values()], rel=1e-6, abs=1e-7)
