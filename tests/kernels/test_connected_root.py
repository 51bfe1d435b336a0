"""Implicit steps take the root that is connected with the present state, however long they are."""

import numpy as np
import pytest
from scipy.optimize import brentq

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods

EULER = ("backward-euler", "adams-moulton-1", "backward-differentiation-1")
# those that solve nonlinear equations, and are stable for long steps
ITERATED = [
    method.name
    for method in all_methods()
    if method.family in ("diagonally implicit Runge-Kutta", "fully implicit Runge-Kutta")
    or method.name in (*EULER, "adams-moulton-2", "backward-differentiation-2", "backward-differentiation-3")
]
STIFF = [method.name for method in all_methods() if method.stiff and method.adaptive and method.order > 1]
LENGTHS = (0.01, 0.3, 1.0, 2.0, 5.0, 20.0, 100.0, 1000.0)


def one_step(text: str, initial: dict[str, float], method: str, step: float, **parameters: float) -> uh.Run:
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, step), parameters=parameters)
    return uh.integrate(problem, method, step=step)


@pytest.mark.parametrize("power", ["2", "3", "5"])
@pytest.mark.parametrize("method", EULER)
def test_decay_by_a_power(method: str, power: str) -> None:
    """Y + h y^p = 1 has one root between 0 and 1, and for even p another below 0."""
    for step in LENGTHS:
        run = one_step(f"y' = -y^{power}", {"y": 1.0}, method, step)
        root = brentq(lambda y, h=step: y + h * y ** float(power) - 1, 0, 1, xtol=1e-15)
        assert run.final["y"] == pytest.approx(root, rel=1e-8), step


@pytest.mark.parametrize("method", ["trapezoidal", "adams-moulton-2", "implicit-midpoint"])
def test_methods_of_order_two_take_the_connected_root_or_none(method: str) -> None:
    for step in LENGTHS:
        if method == "implicit-midpoint":
            middle = brentq(lambda y, h=step: y + h / 2 * y * y - 1, 0, 1, xtol=1e-15)
            wanted = 2 * middle - 1
        else:
            # y + h/2 y^2 = 1 - h/2: the larger root, as long as there is one
            square = 1 + 2 * step * (1 - step / 2)
            wanted = (np.sqrt(square) - 1) / step if square >= 0 else None
        if wanted is None:
            with pytest.warns(uh.IncompleteRunWarning, match="Newton"):
                one_step("y' = -y^2", {"y": 1.0}, method, step)
        else:
            assert one_step("y' = -y^2", {"y": 1.0}, method, step).final["y"] == pytest.approx(wanted, abs=1e-8)


@pytest.mark.parametrize("method", ITERATED)
def test_no_mirror_root(method: str) -> None:
    """Where the step is sensible for the textbook, every implicit method stays near the solution 1/(1 + t)."""
    run = one_step("y' = -y^2", {"y": 1.0}, method, 1.0)
    assert run.final["y"] == pytest.approx(0.5, abs=0.15)


@pytest.mark.parametrize("method", EULER)
@pytest.mark.parametrize("step", [1.0, 25.0, 100.0, 250.0])
def test_an_epidemic_has_no_negative_people(method: str, step: float) -> None:
    problem = uh.Problem.from_text("S' = -b*S*I\nI' = b*S*I - g*I", initial={"S": 990.0, "I": 10.0}, interval=(0, 1000),
                                   parameters={"b": 5e-4, "g": 0.1})  # fmt: skip
    run = uh.integrate(problem, method, step=step)
    assert run.ending.reason == "end"
    assert run.states.min() >= 0
    # each step against the root found by bisection: I is a root of one equation, S follows from it
    s, i = run.states[:-1].T
    for s0, i0, s1, i1 in zip(s, i, *run.states[1:].T, strict=True):

        def missed(x: float, s0: float = s0, i0: float = i0) -> float:
            return x * (1 + 0.1 * step) - i0 - step * 5e-4 * x * s0 / (1 + step * 5e-4 * x)

        root = brentq(missed, i0 / (1 + 0.1 * step), 1000 + i0)
        assert i1 == pytest.approx(root, rel=1e-6, abs=1e-9)
        assert s1 == pytest.approx(s0 / (1 + step * 5e-4 * i1), rel=1e-6)


@pytest.mark.parametrize("method", ITERATED)
def test_a_relaxation_oscillator_by_fixed_steps(method: str) -> None:
    problem = uh.Problem.from_text("x'' = 10*(1 - x^2)*x' - x", initial={"x": 2, "x'": 0}, interval=(0, 100))
    run = uh.integrate(problem, method, count=1000)
    assert run.ending.reason == "end", run.ending.message
    assert 1.95 < np.abs(run["x"]).max() < 2.3
    # a period is 19.1; long steps make it a little longer or shorter
    assert 8 <= (np.diff(np.sign(run["x"])) != 0).sum() <= (12 if uh.methods()["order"][method] > 1 else 20)
    if run.ending.advice:
        assert "no root that continues the solution" in run.ending.advice


@pytest.mark.parametrize("method", STIFF)
def test_slaved_components_keep_their_own_tolerance(method: str) -> None:
    """Errors of each component in its own tolerance, at the steps, of what follows slower components."""
    problem = uh.Problem.from_text(
        "x' = -x\nz' = -k*(z - x^2) - 2*x^2\nw' = -k*(w - z*x) - 3*z*x",
        initial={"x": 1, "z": 1, "w": 1},
        interval=(0, 5),
        parameters={"k": 1e7},
    )
    for rtol in (1e-4, 1e-6):
        run = uh.integrate(problem, method, rtol=rtol, atol=1e-6 * rtol)
        exact = np.exp(-np.outer(run.times, [1, 2, 3]))
        assert (np.abs(run.states - exact) / (rtol * exact + 1e-6 * rtol)).max() < 10
