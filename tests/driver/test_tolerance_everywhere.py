"""The tolerance holds wherever the solution is used: between the steps, in events, over growth, far from time zero."""

from __future__ import annotations

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods, find_method

TOLERANCES = (1e-4, 1e-6, 1e-8, 1e-10, 1e-12)
# more than twice as many as this are not needed by any error estimate that sees what happens
MAX_STEPS = 5000


def pulled(rate: float) -> tuple[uh.Problem, object]:
    """A quantity pulled at some speed to a moving equilibrium (A. Prothero and A. Robinson, 1974)."""
    problem = uh.Problem.from_text(
        "y' = -l*(y - cos(t)) - sin(t)", initial={"y": 1}, parameters={"l": rate}, interval=(0, 10)
    )
    return problem, np.cos


def logistic() -> tuple[uh.Problem, object]:
    problem = uh.Problem.from_text("y' = y*(1 - y)", initial={"y": 0.1}, interval=(0, 12))
    return problem, lambda t: 1 / (1 + 9 * np.exp(-t))


@pytest.mark.parametrize("rtol", TOLERANCES)
@pytest.mark.parametrize("case", [pulled(1e6), pulled(300.0), pulled(20.0), pulled(0.1), logistic()])
def test_between_the_steps(case: tuple, rtol: float) -> None:
    problem, exact = case
    times = np.linspace(*problem.interval, 3001)
    run = uh.integrate(problem, "radau-iia-5", rtol=rtol, events=[uh.Event("y = 0.5", name="half")])
    assert run.tally.accepted < MAX_STEPS
    assert np.abs(run.at(times)[:, 0] - exact(times)).max() < 10 * rtol
    recorded = uh.integrate(problem, "radau-iia-5", rtol=rtol, record=times)
    assert np.abs(recorded.states[:, 0] - exact(times)).max() < 10 * rtol
    crossings = np.flatnonzero(np.diff(np.sign(exact(times) - 0.5)))
    assert len(run.events) == crossings.size
    for time in run.events["time"]:
        assert abs(exact(time) - 0.5) < 10 * rtol


GROWING = {
    "ignition": ("a' = -1e-4*a - 2e4*a*b + 20*b^2\nb' = 1e-4*a + 2e4*a*b - 20*b^2 - b\nc' = b",
                 {"a": 1, "b": 0, "c": 0}),
    "flame": ("r' = 50*(r^2 - r^3)", {"r": 1e-2}),
    "autocatalysis": ("a' = -1e3*a*b\nb' = 1e3*a*b - 1e-3*b\nw' = -1e5*(w - a)", {"a": 1, "b": 1e-12, "w": 1}),
    "fork": ("x' = 1e3*(x - x^3)\ny' = -1e5*(y - x)", {"x": 1e-14, "y": 0}),
    "two forks": ("x' = 50*(x - x^3)\ny' = 50*(y - y^3)\nw' = -1e6*(w - cos(t))", {"x": 1e-12, "y": 1e-12, "w": 1}),
    "pendulum on its head": ("x' = v\nv' = 100*sin(x) - 20*v\nw' = -1e6*(w - cos(t))", {"x": 1e-10, "v": 0, "w": 1}),
    "epidemic": ("s' = -40*s*i\ni' = 40*s*i - i\nq' = -1e5*(q - i)", {"s": 1, "i": 1e-13, "q": 0}),
    "bistable": ("x' = 200*x*(1 - x)*(x + 0.1)\nw' = -1e6*(w - x)", {"x": 1e-11, "w": 0}),
    "laser": ("n' = 10 - n - 50*n*p\np' = 50*n*p - 100*p + 1e-12\nw' = -1e6*(w - n)", {"n": 0, "p": 0, "w": 0}),
    "spiral": ("x' = 5*x - 30*y - 5*x*(x^2 + y^2)\ny' = 30*x + 5*y - 5*y*(x^2 + y^2)\nw' = -1e6*(w - cos(t))",
               {"x": 1e-12, "y": 0, "w": 1}),
}  # fmt: skip


@pytest.mark.parametrize(("name", "rtol"), [(name, 10.0 ** (-3 - 2 * (k % 2))) for k, name in enumerate(GROWING)])
def test_growth_is_not_stepped_over(name: str, rtol: float) -> None:
    text, initial = GROWING[name]
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, 10))
    run = uh.integrate(problem, "radau-iia-5", rtol=rtol)
    # an explicit method follows growth by its stability alone, and decays by far smaller steps
    truth = uh.integrate(problem, "dormand-prince-54", rtol=1e-9, atol=1e-30, record=2, budget={"steps": 50_000_000})
    for state, value in truth.final.items():
        if name != "spiral":
            assert run.final[state] == pytest.approx(value, rel=20 * rtol, abs=20 * rtol)
    assert run.final.get("x", 1.0) != pytest.approx(0.0, abs=1e-6)
    if name == "spiral":
        assert run.final["x"] ** 2 + run.final["y"] ** 2 == pytest.approx(1.0, rel=30 * rtol)


@pytest.mark.parametrize(
    ("begin", "method"), [(1.7e9, "dormand-prince-54"), (1.7e9, "radau-iia-5"), (1e12, "radau-iia-5")]
)
def test_times_far_from_zero(begin: float, method: str) -> None:
    text = "x' = v\nv' = -x"
    near, far = (
        uh.integrate(uh.Problem.from_text(text, initial={"x": 1, "v": 0}, interval=(a, a + 10)), method, rtol=1e-10)
        for a in (0.0, begin)
    )
    assert far.final["x"] == pytest.approx(np.cos(10), abs=3 * abs(near.final["x"] - np.cos(10)) + 1e-11)


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
@pytest.mark.parametrize("interval", [(0, 10), (10, 0)])
def test_narrow_forcing_is_seen(method: str, interval: tuple[float, float]) -> None:
    width, sign = 1e-4, np.sign(interval[1] - interval[0])
    problem = uh.Problem.from_text(
        "x' = exp(20)*exp(-20 - ((t - 5)/width)^2) + 2*exp(-((t - 1.7)/width)^2) + 4*exp(-((t - 7.3)/width)^2)",
        initial={"x": 0}, parameters={"width": width}, interval=interval,
    )  # fmt: skip
    for rtol in (1e-3, 1e-9):
        run = uh.integrate(problem, method, rtol=rtol, atol=rtol * width)
        assert run.final["x"] == pytest.approx(7 * sign * width * np.sqrt(np.pi), rel=30 * rtol)
        assert run.tally.accepted < 1000
        middles = run.ledger["time"] + 0.5 * run.ledger["step"]
        for window in problem.narrow:
            within = run.ledger["step"][(middles > window.start) & (middles < window.end)]
            assert (within.abs() <= window.longest * (1 + 1e-9)).all()
    # what varies everywhere, or jumps, bounds no steps
    waves = uh.Problem.from_text("x' = sin(50*t) + where(t > 3, exp(-t), 0)", initial={"x": 0}, interval=(0, 10))
    assert waves.narrow == ()


EXPLICIT = [method.name for method in all_methods() if method.adaptive and not method.stiff and method.order > 2]


@pytest.mark.parametrize("rtol", [1e-3, 1e-5, 1e-7])
@pytest.mark.parametrize("method", EXPLICIT)
def test_near_the_limit_of_stability_and_on_smooth_orbits(method: str, rtol: float) -> None:
    """In its own tolerances, everywhere: something damped that follows, a swing, and prey and predators."""
    for rate in (5.0, 20.0, 100.0):
        problem, _ = pulled(rate)
        run, times = uh.integrate(problem, method, rtol=rtol, atol=rtol), np.linspace(0, 10, 4001)
        errors = np.abs(run.at(times)[:, 0] - np.cos(times)) / (rtol * np.abs(np.cos(times)) + rtol)
        # the estimate of the one sees no more of a decay than of the solution that it leads to
        assert errors.max() < (30 if method == "bogacki-shampine-32" else 10)
    for text, start in (("x' = y\ny' = -x", (1, 0)), ("x' = x*(1 - y)\ny' = y*(x - 1)", (1.5, 1))):
        problem = uh.Problem.from_text(text, initial=dict(zip("xy", start, strict=True)), interval=(0, 20))
        run, true = uh.integrate(problem, method, rtol=rtol, atol=rtol), uh.integrate(problem, "verner-98", rtol=1e-12)
        exact = true.at(times * 2)
        assert (np.abs(run.at(times * 2) - exact) / (rtol * np.abs(exact) + rtol)).max() < 30


# where the state x, or an argument made of states, comes to something narrow, and what y is in the end
NARROW_IN_A_STATE = {
    "peak": ("x' = 1\ny' = exp(-((x - at)/width)^2)", 0.05 * np.sqrt(np.pi)),
    "pole beside": ("x' = 1\ny' = width/((x - at)^2 + width^2)", np.arctan(1e3) * 2),
    "front": ("x' = 1\ny' = 1 + tanh((x - at)/width) - 2*y", 1.0),
    "two states": ("x' = 1\nz' = -1\ny' = exp(-((x - z - 2*at)/2/width)^2)", 0.05 * np.sqrt(np.pi)),
    "travelling": ("x' = 2\ny' = exp(-((x - 3*t + at)/width)^2)", 0.05 * np.sqrt(np.pi)),
    "members": ("u[i]' = 1 for i in 1..2\ny' = sum(exp(-((u[i] - at)/width)^2) for i in 1..2)/2",
                0.05 * np.sqrt(np.pi)),
    "slower and slower": ("x' = -0.1*(x - 120)\ny' = x'*exp(-((x - at)/width)^2)", 0.05 * np.sqrt(np.pi)),
}  # fmt: skip


@pytest.mark.parametrize("case", NARROW_IN_A_STATE)
@pytest.mark.parametrize("method", representatives())
def test_nothing_narrow_in_a_state_is_leapt_over(method: str, case: str) -> None:
    text, true = NARROW_IN_A_STATE[case]
    begun = {"u": 0, "y": 0} if case == "members" else {"x": 0, "y": 0} | ({"z": 0} if case == "two states" else {})
    problem = uh.Problem.from_text(text, initial=begun, parameters={"at": 50, "width": 0.05}, interval=(0, 100))
    run = uh.integrate(problem, method, rtol=1e-6)
    assert run.final["y"] == pytest.approx(true, rel=2e-3)
    assert run.tally.accepted < {1: 2_000_000, 2: 20_000, 3: 20_000}.get(method_order(method), 600)


def method_order(name: str) -> int:
    return int(find_method(name).order)


def test_states_below_their_tolerance_are_told() -> None:
    problem = uh.Problem.from_text("x' = -x\ny' = 1e-12*x - y", initial={"x": 1, "y": 0}, interval=(0, 2))
    assert "'y' never came above" in uh.integrate(problem).ending.advice
    assert "'y'" in repr(uh.integrate(problem))
    # four are named, of more the first four
    for count in (4, 5):
        small = {f"y{k}": 1e-13 for k in range(count)}
        text = "\n".join(f"{name}' = 0" for name in small) + "\nx' = 1"
        several = uh.Problem.from_text(text, initial={**small, "x": 1}, interval=(0, 1))
        report = "'y0', 'y1', 'y2', 'y3'" + (" and others" if count > 4 else "") + " never came above ten times their"
        assert report in uh.integrate(several).ending.advice
    assert uh.integrate(problem, atol={"y": 1e-20}).ending.advice == ""
    # it was large once, though it hardly moves in a step and has gone in the end
    once = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 12))
    assert uh.integrate(once, rtol=1e-3, atol=1e-3, largest_step=1e-2).ending.advice == ""
    started = problem.with_(initial={"y": 1e-12})
    assert any("tolerance" in each.message for each in uh.check(started).findings)


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_a_zero_that_lasts_begins_where_it_begins(method: str) -> None:
    problem = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 3))
    run = uh.integrate(problem, method, rtol=1e-10, events=[uh.Event("max(x - 0.5, 0) = 0")])
    assert run.events["time"].tolist() == pytest.approx([np.pi / 3], abs=1e-9)


def test_a_start_at_zero_with_relative_tolerance_alone() -> None:
    problem = uh.Problem.from_text("x' = v\nv' = 1 - x", initial={"x": 0, "v": 0}, interval=(0, 10))
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-6, atol=0)
    assert run.tally.refused < 20
    assert run.final["x"] == pytest.approx(1 - np.cos(10), rel=1e-4)


def test_a_fixed_step_insists() -> None:
    relaxation = uh.Problem.from_text("y'' = 8*(1 - y^2)*y' - y", initial={"y": 2, "y'": 0}, interval=(0, 80))
    truth = uh.integrate(relaxation, "radau-iia-5", rtol=1e-10)
    # without formulas the Jacobians of the stages are found by differences
    plain = uh.Problem.from_rates(
        lambda t, y: [y[1], 8 * (1 - y[0] ** 2) * y[1] - y[0]], initial={"x": 2, "v": 0}, interval=(0, 80)
    )
    worst = []
    for count in (300, 400, 1000, 2000):
        run = uh.integrate(relaxation, "radau-iia-5", step=80 / count)
        assert run.ending.reason == "end"
        differenced = uh.integrate(plain, "radau-iia-5", step=80 / count)
        assert differenced.ending.reason == "end"
        # where a fixed step is so long that several solutions exist, each may find another
        if count >= 1000:
            assert differenced.final["x"] == pytest.approx(run.final["y"], abs=1e-5)
        worst.append(np.abs(run.states[:40, 0] - truth.at(run.times[:40])[:, 0]).max())
    assert worst[-1] < 1e-4


def test_steps_held_back_by_stability_are_told() -> None:
    stiff = uh.Problem.from_text("x' = -1e5*(x - cos(t))", initial={"x": 1}, interval=(0, 1))
    # the last step, cut to end where it should, says nothing of the others
    cut = uh.Problem.from_text("x' = -1000*(x - cos(t))", initial={"x": 0}, interval=(0, 10))
    explicit = "dormand-prince-54"
    runs = (uh.integrate(stiff, explicit), uh.integrate(stiff, explicit, budget={"steps": 5000}))
    for run in (*runs, uh.integrate(cut, explicit, rtol=1e-5)):
        assert "limited by stability" in run.ending.advice
        assert "radau-iia-5" in run.ending.advice
    smooth = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 3000))
    assert uh.integrate(smooth, explicit).tally.accepted > 1000
    assert uh.integrate(smooth, explicit).ending.advice == ""


def test_the_error_stays_near_its_aim() -> None:
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 20))
    for problem, rtol in ((swing, 1e-6), (swing, 1e-9), (pulled(20.0)[0], 1e-8), (logistic()[0], 1e-8)):
        run = uh.integrate(problem, "radau-iia-5", rtol=rtol)
        errors = run.ledger["error"][run.ledger["accepted"]].to_numpy()
        assert 0.15 < np.median(errors[10:]) < 0.8
        assert run.tally.refused < 0.1 * run.tally.accepted
