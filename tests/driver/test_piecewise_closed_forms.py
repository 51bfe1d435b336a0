"""Random problems made of smooth pieces, against their closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh

GROWTHS = st.lists(st.floats(-2, 2), min_size=2, max_size=5)
METHODS = st.sampled_from(["dormand-prince-54", "radau-iia-5", "fehlberg-45", "heun-2"])


def stairs(values: list[float], condition: str) -> str:
    """Nested choices: the first value up to the first level, and so on."""
    text = repr(values[-1])
    for k in reversed(range(len(values) - 1)):
        text = f"where({condition.format(k)}, {values[k]!r}, {text})"
    return text


@settings(max_examples=40, deadline=None)
@given(GROWTHS, METHODS, st.booleans(), st.data())
def test_growth_that_jumps_at_known_times(growths: list[float], method: str, backwards: bool, data) -> None:
    count = len(growths) - 1
    gaps = data.draw(st.lists(st.floats(0.05, 1.0), min_size=count + 1, max_size=count + 1))
    edges = np.concatenate([[0.0], np.cumsum(gaps)])
    parameters = {f"edge{k}": float(edges[k + 1]) for k in range(count)}
    problem = uh.Problem.from_text(
        f"x' = ({stairs(growths, 't < edge{}')})*x",
        initial={"x": 1.0},
        parameters=parameters,
        interval=(float(edges[-1]), 0.0) if backwards else (0.0, float(edges[-1])),
    )
    run = uh.integrate(problem, method, rtol=1e-7)
    exact = math.exp((-1 if backwards else 1) * float(np.dot(growths, np.diff(edges))))
    assert run.final["x"] == pytest.approx(exact, rel=3e-5)
    changes = [k for k in range(count) if growths[k] != growths[k + 1]]
    # a where whose two sides are equal is no switch at all
    assert {parameters[f"edge{k}"] for k in changes} <= set(run.times)
    assert run.switches["time"].is_monotonic_increasing or backwards


@settings(max_examples=40, deadline=None)
@given(st.lists(st.floats(0.3, 3), min_size=2, max_size=5), METHODS, st.data())
def test_speeds_that_depend_on_the_place(speeds: list[float], method: str, data) -> None:
    count = len(speeds) - 1
    gaps = data.draw(st.lists(st.floats(0.1, 1.0), min_size=count + 1, max_size=count + 1))
    marks = np.concatenate([[0.0], np.cumsum(gaps)])
    problem = uh.Problem.from_text(
        f"x' = {stairs(speeds, 'x < mark{}')}",
        initial={"x": 0.0},
        parameters={f"mark{k}": float(marks[k + 1]) for k in range(count)},
        interval=(0.0, float(np.sum(np.diff(marks) / speeds))),
    )
    run = uh.integrate(problem, method, rtol=1e-6)
    # straight lines are integrated exactly, so only the place of a switch could go wrong
    assert run.final["x"] == pytest.approx(marks[-1], rel=1e-9)
    passed = np.cumsum(np.diff(marks) / speeds)[:-1]
    different = [k for k in range(count) if speeds[k] != speeds[k + 1]]
    found = run.switches["time"].to_numpy()
    assert all(np.abs(found - passed[k]).min() < 1e-9 for k in different)


@settings(max_examples=30, deadline=None)
@given(st.floats(0.05, 0.9), st.floats(0.5, 3.0), METHODS)
def test_a_clipped_wave(level: float, speed: float, method: str) -> None:
    # the part of a sine above a level: kinks of known times, two to each wave
    problem = uh.Problem.from_text(
        "x' = max(sin(speed*t) - level, 0)",
        initial={"x": 0.0},
        parameters={"level": level, "speed": speed},
        interval=(0.0, 2 * math.pi / speed),
    )
    rises = math.asin(level) / speed
    (switch,) = problem.switches
    assert switch.times == pytest.approx((rises, math.pi / speed - rises), rel=1e-10)
    exact = 2 * math.cos(speed * rises) / speed - level * (math.pi / speed - 2 * rises)
    assert uh.integrate(problem, method, rtol=1e-8).final["x"] == pytest.approx(exact, rel=1e-5, abs=1e-9)


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_two_switches_at_once(method: str) -> None:
    # x and y reach their levels at the same time by symmetry; a third switch has the same known time as a fourth
    problem = uh.Problem.from_text(
        """
        x' = where(x > 1, 0.25, 1) + step(t - 2)
        y' = where(y >= 1, 0.25, 1) + where(t < 2, 0, 1)
        """,
        initial={"x": 0.0, "y": 0.0},
        interval=(0, 3),
    )
    run = uh.integrate(problem, method)
    assert run.final["x"] == pytest.approx(1 + 0.25 + 1.25, rel=1e-10)
    assert run.final["y"] == run.final["x"]
    assert run.switches["time"].to_numpy() == pytest.approx([1, 1, 2], abs=1e-9)


def test_conditions_that_stay_on_their_limit() -> None:
    # floor(x) is 0 for a while: > and >= are different things there
    for condition, rate in (("floor(x) > 0", 2), ("floor(x) >= 0", 1), ("floor(x) < 0", 2), ("floor(x) <= 0", 1)):
        problem = uh.Problem.from_text(f"x' = where({condition}, 1, 2)", initial={"x": 0.1}, interval=(0, 0.3))
        assert uh.integrate(problem).final["x"] == pytest.approx(0.1 + 0.3 * rate), condition
    still = uh.Problem.from_text("x' = where(y > 0, 1, 2)\ny' = 0", initial={"x": 0, "y": 0}, interval=(0, 1))
    assert uh.integrate(still).final["x"] == pytest.approx(2.0)


def test_work_is_counted_and_budgets_hold_across_switches() -> None:
    problem = uh.Problem.from_text("x' = sign(sin(40*t))", initial={"x": 0}, interval=(0, 10))
    run = uh.integrate(problem)
    count = len(problem.switches[0].times)
    assert count == 127
    assert len(run.switches) == count
    # each piece is one straight line: few steps, no refusals, and every evaluation counted
    assert run.tally.refused == 0
    assert len(run.ledger) == run.tally.accepted
    assert run.tally.rate_evaluations >= 6 * run.tally.accepted + 2 * count
    assert uh.integrate(problem, budget={"steps": 50}).ending.reason == "budget"
    assert uh.integrate(problem, budget={"rate_evaluations": 300}).tally.rate_evaluations < 400
    few = uh.integrate(problem, record=11)
    assert few["x"] == pytest.approx(run.at(few.times)[:, 0], abs=1e-12)


def test_a_fixed_step_lands_and_goes_on() -> None:
    problem = uh.Problem.from_text("x' = where(t < 0.25, 1, 3)", initial={"x": 0}, interval=(0, 1))
    run = uh.integrate(problem, "classical-rk-4", step=0.1)
    assert run.times == pytest.approx([0, 0.1, 0.2, 0.25, 0.35, 0.45, 0.55, 0.65, 0.75, 0.85, 0.95, 1.0])
    assert run.final["x"] == pytest.approx(0.25 + 0.75 * 3, rel=1e-14)
