"""Stages that stretch the stable interval of the negative axis."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.quiet import quietly
from unhurried_heron.testing import check_method

CHEBYSHEV, ORTHOGONAL = map(find_method, ("runge-kutta-chebyshev-2", "runge-kutta-chebyshev-4"))


def rod(n: int) -> uh.Problem:
    """Heat in a rod, whose slowest mode decays alone; its fastest is four times k."""
    text = f"u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) for i in 1..{n}\nu[0] = 0\nu[{n + 1}] = 0"
    start = np.sin(np.pi * np.arange(1, n + 1) / (n + 1))
    return uh.Problem.from_text(text, initial={"u": start}, parameters={"k": (n + 1.0) ** 2}, interval=(0, 0.2))


@pytest.mark.parametrize("method", [CHEBYSHEV, ORTHOGONAL])
@pytest.mark.long
def test_a_given_number_of_stages_keeps_the_contract(method: uh.Method) -> None:
    check_method(method.of_stages(7))


@pytest.mark.parametrize(
    ("method", "stages"),
    [*((CHEBYSHEV, s) for s in (2, 3, 10, 51, 200)), *((ORTHOGONAL, s) for s in (5, 9, 20, 80))],
)
def test_stages_reach_as_far_as_they_say(method: uh.Method, stages: int) -> None:
    region = uh.stability(method, stages=stages)
    limit = region.region.real
    # Hairer and Wanner, IV.2, up to R inside; an odd number leaves for R = -1 a little farther
    stated = 2 / 3 * (stages**2 - 1) * (1 - 2 / 15 * 0.15) if method is CHEBYSHEV else 0.35 * (stages**2 - 8)
    assert 0.99 * stated < limit < (1.01 + 2 / stages**2) * stated
    inside = -np.linspace(0.1 * limit, 0.9 * limit, 999)
    assert (region(inside) <= 0.97).all()
    # the kernel's steps, on both sides of the limit
    for share, bounded in ((0.999, True), (1.002, False)):
        decay = uh.Problem.from_text(f"x' = -{share * limit}*x", initial={"x": 1}, interval=(0, 4000))
        with quietly():
            run = uh.integrate(decay, method.of_stages(stages), step=1, record=2)
        assert bool(run.ending.as_requested and abs(run.final["x"]) <= 1) == bounded
        assert abs(region(-share * limit)) <= 1 if bounded else region(-share * limit) > 1
    for wrong in (1, 201, 2.5) if method is CHEBYSHEV else (4, 21, 2.5):
        with pytest.raises(uh.MethodError, match="number of stages"):
            uh.stability(method, stages=wrong)


@pytest.mark.parametrize("method", [CHEBYSHEV, ORTHOGONAL])
def test_every_step_takes_the_stages_it_needs(method: uh.Method) -> None:
    problem = rod(80)
    run = uh.integrate(problem, method, rtol=1e-4)
    decay = 4 * 81**2 * np.sin(np.pi / 162) ** 2
    times = np.linspace(0, 0.2, 301)
    assert np.abs(run.at(times)[:, 40] - run.states[0, 40] * np.exp(-decay * times)).max() < 1e-4
    rows = run.ledger.query("accepted")
    fastest = 4 * 81**2 * np.cos(np.pi / 162) ** 2
    limits = {s: uh.stability(method, stages=s).region.real for s in rows["iterations"].unique()}
    reach = rows["iterations"].map(limits) / (rows["step"].abs() * fastest)
    assert (reach > 1).all()
    # and hardly more
    assert reach[rows["iterations"] > 5].max() < 2.5
    assert run.tally.rate_evaluations < uh.integrate(problem, "dormand-prince-54", rtol=1e-4).tally.rate_evaluations / 5
    held = uh.stability_limited_steps(run)
    assert held.share == 0
    assert {region.name for region in held.regions} == {f"{method.name}, {s} stages" for s in limits}
    with pytest.raises(uh.RunError, match="which tells the method, order and stages"):
        uh.stability_limited_steps(uh.integrate(problem, method, step=0.01, ledger=False))


@pytest.mark.parametrize(
    ("method", "pulled", "end", "most"),
    [(CHEBYSHEV, "1e7*(cos(t) - x)", np.cos(1), 150), (ORTHOGONAL, "1e6*(1 - x) + 0*t", 1.0, 79)],
)
def test_what_no_stages_reach_is_marched_in_shorter_steps(
    method: uh.Method, pulled: str, end: float, most: int
) -> None:
    fast = uh.Problem.from_text(f"x' = {pulled}", initial={"x": 1}, interval=(0, 1))
    run = uh.integrate(fast, method, rtol=1e-2)
    assert run.final["x"] == pytest.approx(end, rel=1e-2)
    assert run.ledger["iterations"].max() > most
    # told once, then known
    assert run.tally.refused < 0.1 * run.tally.accepted
    called = uh.integrate(fast.with_(interval=(0, 1e-6)), method, count=2, trace=True).trace["purpose"]
    assert called.str.startswith("largest eigenvalue").any()
    assert called.iloc[-1] == "end of the step"


@pytest.mark.parametrize("method", [CHEBYSHEV, ORTHOGONAL])
def test_states_between_steps_are_damped_as_those_at_their_ends(method: uh.Method) -> None:
    """A wall turned warm at once: the start meets it with modes that decay at all rates."""
    text = "u[i]' = 2601*(u[i-1] - 2*u[i] + u[i+1]) for i in 1..50\nu[0] = 1\nu[51] = 0"
    problem = uh.Problem.from_text(text, initial={"u": 0}, interval=(0, 1))
    run = uh.integrate(problem, method, rtol=1e-3, atol=1e-4)
    k, x, times = np.arange(1, 51), np.arange(1, 51) / 51, np.linspace(0.03, 1, 200)
    modes = np.sin(np.pi * np.outer(x, k)) * np.sqrt(2 / 51)
    rates = 4 * 2601 * np.sin(np.pi * k / 102) ** 2
    exact = (1 - x) - np.exp(-np.outer(times, rates)) * (modes.T @ (1 - x)) @ modes.T
    assert np.abs(run.at(times) - exact).max() < 1e-3


def test_steps_that_leave_all_bounds_are_shortened() -> None:
    steep = uh.Problem.from_text("x' = -x^9", initial={"x": 3}, interval=(0, 10))
    run = uh.integrate(steep, CHEBYSHEV.of_stages(5), rtol=1e-4, starting_step=10, budget={"steps": 20_000})
    assert run.final["x"] == pytest.approx((3**-8 + 80) ** -0.125, rel=1e-4)
    assert 3 < run.tally.refused < 40
