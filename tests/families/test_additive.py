"""Additive methods: whatever is marked, the solution is that of the whole, and what the marks save is saved."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.codegen.jacobians import jacobian_entries
from unhurried_heron.methods.catalogue import CATALOGUE

ADDITIVE = [name for name, method in CATALOGUE.items() if method.family == "additive Runge-Kutta"]
PLAIN = "x' = -2*x + y*x/3 + sin(y)\ny' = x - y^2/4 + cos(t)*x"
START = {"initial": {"x": 1, "y": 0.5}, "interval": (0, 2)}
MARKED = {
    "nothing": PLAIN,
    "what is not linear": "x' = implicit(-2*x + y*x/3) + sin(y)\ny' = x - implicit(y^2/4) + cos(t)*x",
    "all": "x' = implicit(-2*x + y*x/3 + sin(y))\ny' = implicit(x - y^2/4 + cos(t)*x)",
    "within factors": "x' = 2*(y*x/6 - implicit(x)) + implicit(3*sin(y))/3\ny' = -(implicit(y^2) - 4*x)/4 + cos(t)*x",
    "in a derived quantity": "x' = pull + sin(y)\npull = implicit(-2*x) + y*x/3\ny' = x - y^2/4 + cos(t)*x",
    "in a branch": "x' = where(t < 5, implicit(-2*x), 7) + y*x/3 + sin(y)\ny' = x - y^2/4 + implicit(cos(t)*x)",
    "in a sum": "x' = sum(y*x/6 - implicit(x) for k in 1..2) + sin(y)\ny' = x - y^2/4 + cos(t)*x",
}


@pytest.mark.parametrize("where", MARKED)
@pytest.mark.parametrize("name", ADDITIVE)
def test_marks_change_no_solution(name: str, where: str) -> None:
    method, problem = CATALOGUE[name], uh.Problem.from_text(MARKED[where], **START)
    whole = uh.integrate(uh.Problem.from_text(PLAIN, **START), "radau-iia-13", rtol=1e-12, atol=1e-14)
    missed = []
    for count in (20, 40, 80):
        run = uh.integrate(problem, method, count=count)
        missed.append([np.abs(run.at(t) - whole.at(t)).max() for t in (2.0, 0.777)])
    orders = np.log2(np.array(missed[:-1]) / missed[1:])
    assert (orders.max(axis=0) > np.array([method.order, method.interpolant_order]) - 0.6).all(), (missed, orders)
    for rtol in (1e-4, 1e-8):
        run = uh.integrate(problem, method, rtol=rtol)
        assert np.abs(run.at(np.linspace(0, 2, 99)) - whole.at(np.linspace(0, 2, 99))).max() < 10 * rtol


def test_the_jacobian_is_that_of_the_marked_terms() -> None:
    text = "u[i]' = implicit(k*(u[i-1] - 2*u[i] + u[i+1])) - u[i]*v[i]^2 for i in 1..n\n" \
           "v[i]' = implicit(k*(v[i-1] - 2*v[i] + v[i+1])) + u[i]*v[i] - v[i]^3 for i in 1..n\n" \
           "u[0] = 1\nu[n+1] = 0\nv[0] = 0\nv[n+1] = 1"  # fmt: skip
    problem = uh.Problem.from_text(text, parameters={"n": 150, "k": 3e4}, initial={"u": 1, "v": 0}, interval=(0, 1))
    rows, columns = jacobian_entries(problem, additive=True)
    assert rows.size == 2 * (3 * 150 - 2)
    assert ((rows < 150) == (columns < 150)).all()
    truth = uh.integrate(problem, "radau-iia-9", rtol=1e-9).states[-1]
    for name in ADDITIVE:
        run = uh.integrate(problem, name, rtol=1e-6)
        assert run.tally.jacobians <= 2
        assert run.options["linear"] == "banded"
        assert run.states[-1] == pytest.approx(truth, abs=1e-5)


def test_what_is_stiff_and_not_marked_is_told() -> None:
    stiff = uh.Problem.from_text("x' = -2000*(x - cos(t)) + x^2\ny' = implicit(-100*y)", initial={"x": 1, "y": 1},
                                 interval=(0, 10))  # fmt: skip
    assert "explicit part of the rates is stiff" in str(uh.integrate(stiff, "ark-43", rtol=1e-4).ending)
    with pytest.raises(errors.MethodError, match="both parts"):
        uh.largest_step(stiff, "ark-43")
    for text in ("x' = -implicit(x)^2", "x' = x*implicit(-x)*sin(implicit(x))", "x' = min(implicit(x), 1)"):
        with pytest.raises(errors.FormulationError, match="not added to the others"):
            uh.Problem.from_text(text, initial={"x": 1}, interval=(0, 1))
    with pytest.raises(errors.UnfitProblemError, match="write the equations"):
        uh.integrate(uh.Problem.from_rates(lambda t, x: -x, initial={"x": 1}, interval=(0, 1)), "ark-32")
