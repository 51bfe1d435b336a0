"""Eigenvalues along solutions: large systems, parameters that events change, and Jacobians that are no numbers."""

from __future__ import annotations

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.stability.eigenvalues import eigenvalues, eigenvalues_along

LINE = "u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) for i in 1..n\nu[0] = 0\nu[n+1] = 0"


def line(n: int) -> uh.Problem:
    return uh.Problem.from_text(LINE, initial={"u[i]": "sin(i)"}, parameters={"n": n, "k": 3.0}, interval=(0, 1))


def test_the_fastest_modes_of_a_large_system() -> None:
    # the eigenvalues of a line of n cells are -4 k sin(j pi / 2 / (n + 1))^2
    for n in (40, 700):
        problem = line(n)
        (found,) = eigenvalues(problem, np.array([0.0]), problem.start[None, :])
        truth = -12.0 * np.sin(np.arange(1, n + 1) * np.pi / 2 / (n + 1)) ** 2
        if n == 40:
            assert np.sort(found.real) == pytest.approx(np.sort(truth), abs=1e-10)
        else:
            # of a large one the fastest, to what a step needs
            assert found.size == 6
            assert found.real.min() == pytest.approx(truth.min(), rel=5e-3)
            assert np.abs(found.imag).max() < 1e-9


def test_a_large_python_function_and_one_of_few_modes() -> None:
    matrix = np.diag(np.r_[-50.0, -20.0, np.full(398, -1.0)])
    matrix[0, 1] = 7.0
    coupled = uh.Problem.from_rates(
        lambda y: matrix @ y, initial={f"y{i}": 1.0 for i in range(400)}, interval=(0, 1), jacobian=lambda y: matrix
    )
    (found,) = eigenvalues(coupled, np.array([0.0]), coupled.start[None, :])
    # the iteration ends when nothing is left that the start reaches: three different modes
    assert found[:3].real == pytest.approx([-50.0, -20.0, -1.0], rel=1e-6)
    assert np.isnan(found[3:]).all()


def test_modes_have_the_parameters_of_their_time() -> None:
    valve = uh.Problem.from_text(
        "x' = -rate*x", initial={"x": 1}, parameters={"rate": 1.0}, interval=(0, 3), exact={"x": "exp(-rate*t)"},
        events=[uh.Event(at=[1.0, 2.0], then="rate = 5*rate")],
    )  # fmt: skip
    run = uh.integrate(valve, "dormand-prince-54", rtol=1e-5)
    times = np.array([0.5, 1.5, 2.5])
    assert eigenvalues_along(run, times, run.at(times)).ravel().real == pytest.approx([-1.0, -5.0, -25.0])
    region = uh.stability_limited_steps(run)
    assert region.z.real.ravel() == pytest.approx(
        -region.steps * 5.0 ** np.searchsorted([1.0, 2.0], region.times, "right")
    )


def test_a_jacobian_that_is_no_number_is_left_out() -> None:
    root = uh.Problem.from_text("x' = -sqrt(x) + 0.5", initial={"x": 0}, interval=(0, 1))
    values = eigenvalues(root, np.array([0.0, 0.5]), np.array([[0.0], [0.25]]))
    assert np.isnan(values[0, 0])
    assert values[1, 0] == pytest.approx(-1.0)
    assert np.isnan(root.eigenvalues_at(0, [0.0])).all()


@pytest.mark.long
def test_newton_goes_on_from_a_kink_whose_other_side_has_no_slope() -> None:
    # beyond the crest the spill has a slope; a state that lands a rounding below it must have one, too
    pond = uh.Problem.from_text(
        "level' = 0.05 + 0.03*sin(t) - max(level - 0.8, 0)^1.5/3", initial={"level": 0.4}, interval=(0, 60)
    )
    truth = uh.integrate(pond, "verner-98", rtol=1e-13).final["level"]
    for name in representatives(lambda method: method.implicit):
        for rtol in (1e-4, 1e-6) if CATALOGUE[name].order < 3 else (1e-4, 1e-6, 1e-8):
            run = uh.integrate(pond, name, rtol=rtol, record=2)
            assert run.ending.reason == "end", (name, rtol)
            assert run.final["level"] == pytest.approx(truth, abs=300 * rtol)


@pytest.mark.parametrize("name", representatives(lambda method: method.implicit and method.adaptive))
def test_newton_goes_on_where_a_root_comes_to_zero(name: str) -> None:
    # the march lands where the head is zero, and the derivative of the flow has no bound
    gauge = uh.Measured([0, 1, 2, 3, 4, 5], [0.62, 0.93, 1.2, 1.28, 1.1, 0.7], interpolation="linear")
    pond = uh.Problem.from_text(
        "level' = 0.356*sign(tide - level)*sqrt(abs(tide - level))",
        initial={"level": 0.9}, interval=(0, 5), inputs={"tide": gauge},
    )  # fmt: skip
    truth = uh.integrate(pond, "verner-98", rtol=1e-13).final["level"]
    for rtol in (1e-4, 1e-6):
        run = uh.integrate(pond, name, rtol=rtol)
        assert run.ending.reason == "end", rtol
        assert run.final["level"] == pytest.approx(truth, abs=30 * rtol)


def test_clustered_and_double_roots() -> None:
    # (x - 1)^3 and (x^2 - 2 c x + 1): what the compiled iteration finds must stand against exact roots
    triple = uh.stability(uh.Multistep("far", a=[1], b=[0, 1]))
    assert triple(np.array([0.0, -1.0, 1.0 + 1.0j])) == pytest.approx([1.0, 0.0, np.sqrt(5.0)])
    leap = uh.stability(uh.Multistep("leap", a=[0, 1], b=[0, 2]))
    z = np.array([1j * (1.0 - 1e-9), 1j, -1e-12, 2.0, -3.0 + 1e-13j])
    truth = np.abs(np.array([[w + np.sqrt(w * w + 1), w - np.sqrt(w * w + 1)] for w in z])).max(axis=1)
    assert leap(z) == pytest.approx(truth, abs=1e-6)
    for each in (leap, uh.stability("trapezoidal"), uh.stability("backward-differentiation-2")):
        assert np.isnan(each(complex("nan")))
        assert each(complex(-np.inf)) == each.region.at_infinity
    assert uh.stability("adams-bashforth-8")(np.array([1e12])) == pytest.approx(
        CATALOGUE["adams-bashforth-8"].largest_root(np.array([1e12])), rel=1e-6
    )
    # where a coefficient of the highest power vanishes, the root is infinite
    assert uh.stability("adams-moulton-3")(2.4) == np.inf
