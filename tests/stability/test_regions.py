"""Stability regions against the textbook and against marching; runs in them; the largest stable step."""

from __future__ import annotations

import math

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.demo import demo_file
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.quiet import quietly

# Hairer, Norsett and Wanner I, III.3 and V.1; Hairer and Wanner II, IV.2 and V.1; the polynomials solved by hand
REAL = {
    "euler": 2.0, "midpoint-2": 2.0, "kutta-3": 2.5127453, "classical-rk-4": 2.7852936, "adams-bashforth-2": 1.0,
    "adams-bashforth-3": 6 / 11, "adams-bashforth-4": 0.3, "adams-bashforth-5": 90 / 551, "adams-moulton-3": 6.0,
    "adams-moulton-4": 3.0, "adams-pece-1": 1.0, "adams-pece-2": 2.0, "dormand-prince-54": 3.3065679,
}  # fmt: skip
IMAGINARY = {"euler": 0.0, "heun-2": 0.0, "kutta-3": math.sqrt(3.0), "classical-rk-4": math.sqrt(8.0)}
IMAGINARY |= {
    "trapezoidal": math.inf,
    "radau-iia-5": math.inf,
    "adams-bashforth-2": 0.0,
    "adams-bashforth-3": 0.7236276,
}
ANGLES = {"backward-differentiation-3": 86.0324, "backward-differentiation-4": 73.3517}
ANGLES |= {"backward-differentiation-5": 51.8398, "backward-differentiation-6": 17.8398, "gauss-6": 90.0}
AT_INFINITY = {"backward-euler": 0.0, "trapezoidal": 1.0, "implicit-midpoint": 1.0, "radau-iia-9": 0.0, "gauss-4": 1.0}


def test_limits_are_those_of_the_textbook() -> None:
    for name, limit in REAL.items():
        found = uh.stability(name)
        assert found.region.real == pytest.approx(limit, rel=1e-6)
        assert found.limit(-1) == found.region.real
        # just within and just beyond, by the roots themselves
        assert found.contains(-0.999 * limit)
        assert not found.contains(-1.001 * limit)
    for name, limit in IMAGINARY.items():
        assert uh.stability(name).region.imaginary == pytest.approx(limit, rel=1e-6, abs=1e-12)
    for name, angle in ANGLES.items():
        assert uh.stability(name).region.angle == pytest.approx(angle, abs=1e-4)
    for name, value in AT_INFINITY.items():
        found = uh.stability(name)
        assert found.region.at_infinity == pytest.approx(value, abs=1e-9)
        assert found(-1e9 + 3j) == pytest.approx(value, abs=1e-4)
        assert "stable" in str(found)
        assert found.frame()["A-stable"].all()


def one_step(method: uh.RungeKutta, z: complex) -> float:
    """By what a march multiplies the solution of y' = lambda y in a step, written as two real equations."""
    text = f"x' = {z.real!r}*x - {z.imag!r}*y\ny' = {z.imag!r}*x + {z.real!r}*y".replace("- -", "+ ")
    problem = uh.Problem.from_text(text, initial={"x": 1, "y": 0}, interval=(0, 1))
    return float(np.linalg.norm(list(uh.integrate(problem, method, step=1.0).final.values())))


@pytest.mark.parametrize("seed", range(4))
def test_regions_of_random_tableaux_against_a_march(seed: int) -> None:
    draw = np.random.default_rng(seed)
    s = 2 + seed % 3
    a = np.tril(draw.integers(-3, 4, (s, s)) / 4.0, 0 if seed == 3 else -1)
    b = draw.integers(1, 5, s).astype(float)
    method = uh.RungeKutta(f"drawn-{seed}", a=a.tolist(), b=(b / b.sum()).tolist())
    region = uh.stability(method)
    points = draw.normal(size=6) + 1j * draw.normal(size=6)
    assert region(points) == pytest.approx([one_step(method, complex(z)) for z in points], rel=1e-9)


@pytest.mark.parametrize("name", ["adams-bashforth-4", "adams-pece-3", "adams-moulton-5", "backward-differentiation-4"])
def test_regions_of_multistep_methods_against_a_march_and_their_roots(name: str) -> None:
    region, method = uh.stability(name), CATALOGUE[name]
    draw = np.random.default_rng(5)
    z = (draw.normal(size=400) + 1j * draw.normal(size=400)) * np.geomspace(0.01, 50.0, 400)
    assert region(z.reshape(20, 20)).ravel() == pytest.approx(method.largest_root(z), rel=1e-8)
    # what errors grow by over many steps is the largest root
    growing = region.limit(-1.0) * 1.3 if math.isfinite(region.region.real) else 0.0
    if growing:
        problem = uh.Problem.from_text(f"x' = {-growing!r}*x", initial={"x": 1}, interval=(0, 340))
        values = np.abs(uh.integrate(problem, method, step=1.0)["x"])
        assert (values[330:].max() / values[30:41].max()) ** (1 / 300) == pytest.approx(region(-growing), rel=0.01)


def test_maps_windows_and_order_stars() -> None:
    region = uh.stability("classical-rk-4")
    shown = region.map(points=61)
    assert shown.amplification == pytest.approx(region(shown.x + 1j * shown.y[:, None]), rel=1e-12)
    assert shown.stable.any()
    assert not shown.stable.all()
    # all of the region lies within its window
    edge = np.concatenate([shown.stable[0], shown.stable[-1], shown.stable[:, 0], shown.stable[:, -1]])
    assert not edge.any()
    # around 0 a star of order p has p + 1 rays on either side (Wanner, Hairer and Norsett, 1978)
    for name in ("heun-2", "classical-rk-4", "radau-iia-5", "backward-euler"):
        circle = 0.05 * np.exp(2j * np.pi * np.arange(4000) / 4000)
        signs = np.sign(uh.stability(name).order_star(circle) - 1.0)
        assert np.count_nonzero(signs != np.roll(signs, 1)) == 2 * (CATALOGUE[name].order + 1)
    assert uh.stability("adams-variable", order=5).order == 5
    for bad in ({"method": "heun-2", "order": 3}, {"method": "adams-variable", "order": 40}):
        with pytest.raises(uh.MethodError, match="no such order"):
            uh.stability(**bad)
    with pytest.raises(uh.OptionError, match="window"):
        region.map(((1, 0), (0, 1)))


@pytest.mark.parametrize("name", ["euler", "heun-2", "heun-3", "classical-rk-4", "dormand-prince-54", "verner-65"])
def test_a_window_leaves_a_tenth_of_the_region_around_it(name: str) -> None:
    region = uh.stability(name)
    (left, right), (bottom, top) = region.window
    x, y = np.linspace(left, right, 801), np.linspace(bottom, top, 801)
    stable = region(x + 1j * y[:, None]) <= 1.0
    across, up = x[stable.any(axis=0)], y[stable.any(axis=1)]
    margins = [across.min() - left, right - max(across.max(), 0.0), top - up.max(), up.min() - bottom]
    size = max(max(across.max(), 0.0) - across.min(), up.max())
    assert np.array(margins) / size == pytest.approx(np.full(4, 0.11), abs=0.025)


def test_a_root_that_is_double_on_the_circle_is_not_stable() -> None:
    # y_n+1 = y_n-1 + 2 h f_n (leap-frog): at z = i both roots are i
    leap = uh.stability(uh.Multistep("leap", a=[0, 1], b=[0, 2]))
    assert leap.contains(0.9j)
    assert not leap.contains(1j)
    assert not leap.contains(-0.1)
    assert leap(1j) == pytest.approx(1.0, abs=1e-7)


def test_steps_held_back_by_stability_are_told_from_others() -> None:
    stiff = uh.Problem.from_file(demo_file("carbonate")).with_(interval=(0, 0.5))
    held = uh.stability_limited_steps(uh.integrate(stiff, "dormand-prince-54"))
    assert held.share > 0.98
    assert held.counts.sum() == uh.integrate(stiff, "dormand-prince-54").tally.accepted
    # crowded at the border, whatever kept them: a ledger and states at some times tell the same
    thin = uh.stability_limited_steps(uh.integrate(stiff, "dormand-prince-54", record=200, ledger=True))
    assert thin.share == pytest.approx(held.share, abs=0.02)
    assert np.median(held.stiffness) == pytest.approx(3.3066, rel=0.1)
    assert uh.stability_limited_steps(uh.integrate(stiff, "radau-iia-5")).share == 0.0
    with quietly():
        none = uh.integrate(stiff, "heun-3", starting_step=0.5, budget={"steps": 1})
    assert (none.tally.accepted, uh.stability_limited_steps(none).share) == (0, 0.0)
    grows = uh.Problem.from_text("x' = x", initial={"x": 1}, interval=(0, 5))
    assert uh.stability_limited_steps(uh.integrate(grows, "heun-2", step=0.5)).share == 0.0
    # fast at first, then slow: only where the step could grow does stability hold it back
    both = uh.Problem.from_text("x' = -300*where(t < 5, 0.001, 1)*(x - cos(t))", initial={"x": 1}, interval=(0, 10))
    found = uh.stability_limited_steps(uh.integrate(both, "dormand-prince-54", rtol=1e-4))
    (begins, ends), *more = found.intervals()
    assert not more
    assert begins == pytest.approx(5.0, abs=0.2)
    assert ends == pytest.approx(10.0, abs=0.2)
    # backwards, growth and decay change sides
    back = uh.Problem.from_text("x' = 300*(x - cos(t))", initial={"x": 1}, interval=(10, 0))
    assert uh.stability_limited_steps(uh.integrate(back, "dormand-prince-54", rtol=1e-4)).share > 0.8
    assert (
        uh.stability_limited_steps(uh.integrate(back, "adams-variable", rtol=1e-4))
        .regions[0]
        .name.startswith("adams-variable")
    )
    with pytest.raises(uh.RunError, match="neither"):
        uh.stability_limited_steps(uh.integrate(back, "dormand-prince-54", record=3))


@pytest.mark.parametrize("method", ["auto", "adams-variable", "runge-kutta-chebyshev-2", "bogacki-shampine-32"])
def test_steps_are_judged_by_the_method_that_took_them(method: str) -> None:
    stiff = uh.Problem.from_text("x' = -(1 + 300*t)*(x - cos(t))", initial={"x": 1}, interval=(0, 5))
    judged = uh.stability_limited_steps(uh.integrate(stiff, method, rtol=1e-4))
    if method == "bogacki-shampine-32":
        alone = uh.stability_limited_steps(uh.integrate(stiff, method, rtol=1e-4, ledger=False))
        assert np.array_equal(alone.limited, judged.limited)
        assert judged.share > 0.5
        return
    # without a ledger nobody knows which of several methods, orders or stages took a step
    with pytest.raises(uh.RunError, match="ledger=True, which tells"):
        uh.stability_limited_steps(uh.integrate(stiff, method, rtol=1e-4, ledger=False))
    if method != "adams-variable":
        assert not judged.limited[judged.times > 1].any()


PROBLEMS = {
    "relaxation": ("y'' = 8*(1 - y^2)*y' - y", {"y": 2, "y'": 0}, 80),
    "two decays": ("x' = -50*x + y\ny' = -y", {"x": 1, "y": 1}, 60),
    "damped swing": ("x'' = -100*x - 8*x'", {"x": 1, "x'": 0}, 40),
    "diffusion": ("u[i]' = 100*(u[i-1] - 2*u[i] + u[i+1]) for i in 1..12\nu[0] = 0\nu[13] = 0", {"u[i]": "1/i"}, 3),
    "forced": ("x' = -200*(x - cos(t))", {"x": 0}, 10),
    "three species": (
        "a' = -0.04*a + 1e4*b*c\nb' = 0.04*a - 1e4*b*c - 3e7*b^2\nc' = 3e7*b^2",
        {"a": 1, "b": 0, "c": 0},
        1,
    ),
    "cubic": ("x' = -40*x^3 + 10*cos(t)", {"x": 1}, 30),
    "saturated": ("x' = 30*(1 - x)*x", {"x": 0.1}, 30),
    "coupled": ("x' = -30*x + 29*y\ny' = 29*x - 30*y", {"x": 1, "y": 0}, 20),
    "rotating decay": ("x' = -20*x - 20*y\ny' = 20*x - 20*y", {"x": 1, "y": 0}, 40),
}


@pytest.mark.parametrize("name", PROBLEMS)
def test_the_largest_step_is_stable_and_the_next_is_not(name: str) -> None:
    text, initial, end = PROBLEMS[name]
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, end))
    size = np.abs(uh.integrate(problem, rtol=1e-7).states).max(axis=0)
    beside = dict(zip(problem.states, problem.start + 1e-8 * size, strict=True))

    def stays(count: int, method: str, foreseen: float) -> bool:
        with quietly():
            run, moved = (uh.integrate(each, method, count=count) for each in (problem, problem.with_(initial=beside)))
        bounded = run.ending.reason == "end" and bool((np.abs(run.states) <= 10.0 * size).all())
        # no solution makes small changes grow; beyond what was foreseen no march may
        return bounded and (end / count <= foreseen or bool((np.abs(moved.states - run.states) <= 1e-5 * size).all()))

    for method in ("adams-bashforth-4", "classical-rk-4"):
        found = uh.largest_step(problem, method)
        assert found.confirmed
        # of longer steps some happen to be fine, of shorter ones none may fail
        assert all(stays(int(found.count * share), method, found.foreseen) for share in np.linspace(1, 2, 12))
        assert not stays(round(end / found.fails_at), method, found.foreseen)
        assert end / found.fails_at == pytest.approx(found.count, rel=0.05)
        assert found.step == pytest.approx(end / found.count, rel=0.02)
        assert found.fails_at > found.step
        assert f"{found.count:,}" in str(found)


def test_the_mode_that_limits_the_step_is_told() -> None:
    for interval, sign in (((0, 10), 1.0), ((10, 0), -1.0)):
        forced = uh.Problem.from_text(f"x' = {-200 * sign}*(x - cos(t))", initial={"x": 0.5}, interval=interval)
        found = uh.largest_step(forced, "adams-bashforth-4")
        assert found.mode == pytest.approx(-200 * sign)
        assert found.foreseen == pytest.approx(0.3 / 200, rel=1e-6)
        assert found.step == pytest.approx(found.foreseen, rel=0.02)


def test_a_double_root_on_the_circle_is_not_stable() -> None:
    leapfrog = uh.stability(uh.Multistep("leapfrog", [0, 1], [0, 2]))
    assert [bool(leapfrog.contains(z)) for z in (0.5j, 0.999j, 1j, 1.001j, -0.5)] == [True, True, False, False, False]


def test_what_has_no_largest_step_says_so() -> None:
    problem = uh.Problem.from_text("x' = -1000*x + t", initial={"x": 1}, interval=(0, 1))
    found = uh.largest_step(problem, "radau-iia-5")
    assert found.step == math.inf
    assert found.count == 0
    assert "no largest step" in str(found)
    growing = uh.largest_step(uh.Problem.from_text("x' = x", initial={"x": 1}, interval=(0, 1)), "euler")
    assert "nothing decays" in str(growing)
    assert not found.confirmed
    assert not growing.confirmed
    with pytest.raises(uh.MethodError, match="steps of its own"):
        uh.largest_step(problem, "adams-variable")
    # 5e8 steps of Euler's method do not fit into half a second: only foreseen
    fast = uh.Problem.from_text("x' = -1e6*(x - cos(t))", initial={"x": 1}, interval=(0, 1e3))
    late = uh.largest_step(fast, "euler", seconds=0.5)
    assert (late.step, late.confirmed) == (late.foreseen, False)
    assert late.foreseen == pytest.approx(2e-6, rel=1e-9)
    assert "not confirmed" in str(late)
    # up to the event that stops the run, in words as in numbers
    stops = uh.Problem.from_text(
        "x' = -50*x", initial={"x": 1}, interval=(0, 100), events=[uh.Event("t = 3", stop=True)]
    )
    until = uh.largest_step(stops, "euler")
    assert until.count == pytest.approx(3 / until.step, abs=1)
    assert f"{until.count:,} over" in str(until)
