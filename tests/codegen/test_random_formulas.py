"""Random formulas: machine code against Python's own arithmetic, symbolic slopes against differences."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_system

LEAVES = st.sampled_from(["x", "y", "k", "t", "2", "0.5", "3.25", "pi"])


def combine(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    unary = st.sampled_from(
        ["-({})", "sin({})", "cos({})", "tanh({})", "exp(-({})^2)", "abs({})", "sqrt(1 + ({})^2)", "({})^3"]
    )
    binary = st.sampled_from(
        [
            "({}) + ({})",
            "({}) - ({})",
            "({})*({})",
            "({})/(2 + sin({}))",
            "min({}, {})",
            "max({}, {})",
            "atan2({}, 3 + cos({}))",
        ]
        + ["({})^2*({})", "-{}^2 + ({})"]
    )
    ternary = st.sampled_from(["where({} < {}, {}, 1)", "where({} > {} or x < 0.1, {}, y)", "({})*({}) - ({})"])
    return st.one_of(
        st.builds(str.format, unary, inner),
        st.builds(str.format, binary, inner, inner),
        st.builds(str.format, ternary, inner, inner, inner),
    )


FORMULAS = st.recursive(LEAVES, combine, max_leaves=12)
POINTS = st.tuples(st.floats(-2, 2), st.floats(-2, 2), st.floats(-2, 2), st.floats(-2, 2))


def by_python(formula: str, x: float, y: float, k: float, t: float) -> float:
    """The same formula by Python itself; its rank of powers and signs is that of the textbook."""
    names = {"x": x, "y": y, "k": k, "t": t, "pi": math.pi, "where": lambda c, a, b: a if c else b, "abs": abs}
    names |= {name: getattr(math, name) for name in ("sin", "cos", "tanh", "exp", "sqrt", "atan2")} | {
        "min": min,
        "max": max,
    }
    return eval(formula.replace("^", "**"), {"__builtins__": {}}, names)


def problem_of(formula: str, k: float) -> uh.Problem:
    return uh.Problem.from_text(
        f"x' = {formula} + 0*k\ny' = 0", initial={"x": 0, "y": 0}, parameters={"k": k}, interval=(0, 1)
    )


@settings(max_examples=120, deadline=None)
@given(formula=FORMULAS, point=POINTS)
@pytest.mark.long
def test_values(formula: str, point: tuple) -> None:
    x, y, k, t = point
    try:
        expected = by_python(formula, x, y, k, t)
    except OverflowError:
        return
    rates = native_system(problem_of(formula, k), (), held=False).rates
    value = evaluate_rows(rates, np.array([t]), np.array([[x, y]]))[0, 0]
    # products of powers are taken in another order, so the last digits may differ where terms cancel
    assert math.isclose(value, expected, rel_tol=1e-9, abs_tol=1e-9 * (1 + abs(expected)))


@settings(max_examples=120, deadline=None)
@given(formula=FORMULAS, point=POINTS)
@pytest.mark.long
def test_derivatives(formula: str, point: tuple) -> None:
    x, y, k, t = point
    step = 1e-6
    try:
        around = [by_python(formula, x + d * step, y, k, t) for d in (-2, -1, 0, 1, 2)]
    except OverflowError:
        return
    left, right = (around[2] - around[1]) / step, (around[3] - around[2]) / step
    size = 1 + max(map(abs, around))
    # at a kink, or where the function is wild, differences say nothing
    if abs(left - right) > 1e-3 * (1 + abs(left)) or size > 1e3:
        return
    problem = problem_of(formula, k)
    jacobian = with_jacobian(native_system(problem, (), held=False), problem, held=False).jacobian
    assert jacobian is not None
    derivative = evaluate_rows(jacobian, np.array([t]), np.array([[x, y]]))[0, 0]
    central = (around[3] - around[1]) / (2 * step)
    assert abs(derivative - central) < 2e-3 * (size + abs(central))
