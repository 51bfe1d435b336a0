"""Random systems of second order, from equations and from energies, against numerical algebra."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from model.test_reduction import rates_at

import unhurried_heron as uh
from unhurried_heron.errors import OrderError

COEFFICIENTS = st.sampled_from(["2", "-1.5", "m", "(m + x0^2)", "cos(x1)", "k*x0", "0", "0", "x1'", "1/3"])
SIDES = st.sampled_from(["-k*x0", "sin(t)*x1'", "m*x0'*x1'", "exp(-x1^2)", "3", "0", "drag", "-drag + k"])


@st.composite
def coupled(draw) -> tuple[int, list[list[str]], list[str]]:
    n = draw(st.integers(2, 4))
    return n, [[draw(COEFFICIENTS) for _ in range(n)] for _ in range(n)], [draw(SIDES) for _ in range(n)]


@settings(max_examples=20, deadline=None)
@given(coupled(), st.lists(st.floats(-1, 1), min_size=10, max_size=10), st.floats(0, 3), st.data())
@pytest.mark.long
def test_any_mass_matrix(system: tuple, values: list[float], t: float, data) -> None:
    n, matrix, sides = system
    lines = []
    for i in range(n):
        terms = [f"{matrix[i][j]}*x{j}''" for j in range(n)]
        # some terms stand on the other side
        moved = [data.draw(st.booleans()) for _ in terms]
        left = " + ".join([term for term, away in zip(terms, moved, strict=True) if not away] or ["0"])
        right = "".join(f" - {term}" for term, away in zip(terms, moved, strict=True) if away)
        lines.append(f"{left} = {sides[i]}{right}")
    text = "\n".join([*lines, "drag = k*x1' + 0*m"])
    state = [value for pair in zip(values[:n], values[5 : 5 + n], strict=True) for value in pair]
    initial = {f"x{i // 2}" + "'" * (i % 2): value for i, value in enumerate(state)}
    names = {"m": 1.7, "k": 0.6, "t": t, "sin": np.sin, "cos": np.cos, "exp": np.exp}
    names |= {f"x{i}": values[i] for i in range(n)} | {f"v{i}": values[5 + i] for i in range(n)}
    names["drag"] = 0.6 * values[6]

    def by_python(formula: str) -> float:
        for i in range(n):
            formula = formula.replace(f"x{i}'", f"v{i}")
        return float(eval(formula.replace("^", "**"), {"__builtins__": {}}, names))

    numbers = np.array([[by_python(entry) for entry in row] for row in matrix])
    right_side = np.array([by_python(side) for side in sides])
    try:
        problem = uh.Problem.from_text(text, initial=initial, parameters={"m": 1.7, "k": 0.6}, interval=(0, 1))
    except OrderError:
        # refused only where the matrix is singular whatever the state, or an unknown stands in no equation
        assert abs(np.linalg.det(numbers)) < 1e-12
        return
    if np.linalg.cond(numbers) > 1e4:
        return
    wanted = np.linalg.solve(numbers, right_side)
    # the states come in the order in which the text first speaks of them
    found = dict(zip(problem.states, rates_at(problem, [initial[name] for name in problem.states], t), strict=True))
    assert [found[f"x{i}'"] for i in range(n)] == pytest.approx(wanted, rel=1e-7, abs=1e-7)


ENERGIES = st.sampled_from(
    [
        ("(2 + cos(b))*a'^2/2 + a'*b'*sin(a) + b'^2", "k*a^2/2 + cos(a - b)"),
        ("m*a'^2/2 + (1 + a^2)*b'^2/2", "a^2*b + b^2"),
        ("exp(a)*a'^2/2 + b'^2/2 + a'*b'/4", "-k/(2 + a^2 + b^2)"),
        ("(m + t)*a'^2/2 + (2 + sin(t))*b'^2/2", "t*a*b"),
        ("m*(a'^2 + b'^2)/2 + k*(a*b' - b*a')", "a^4/4 + b^2/2"),
    ]
)


@settings(max_examples=40, deadline=None)
@given(ENERGIES, st.lists(st.floats(-0.8, 0.8), min_size=4, max_size=4), st.floats(0, 2))
def test_motion_makes_the_action_stationary(energies: tuple[str, str], state: list[float], t: float) -> None:
    """The accelerations satisfy d/dt(dL/dq') = dL/dq, all derivatives taken by differences of L itself."""
    kinetic, potential = energies
    used = {
        key: value for key, value in {"k": 0.7, "m": 1.9}.items() if key in (kinetic + potential).replace("kinetic", "")
    }
    problem = uh.Problem.from_lagrangian(
        f"kinetic = {kinetic}\npotential = {potential}",
        ["a", "b"],
        parameters=used,
        initial=dict(zip(("a", "a'", "b", "b'"), state, strict=True)),
        interval=(0, 1),
    )
    python = f"({kinetic}) - ({potential})".replace("a'", "A").replace("b'", "B").replace("^", "**")
    functions = {"sin": np.sin, "cos": np.cos, "exp": np.exp, "k": 0.7, "m": 1.9}

    def lagrangian(time: float, q: np.ndarray, v: np.ndarray) -> float:
        return float(
            eval(python, {"__builtins__": {}}, {**functions, "t": time, "a": q[0], "b": q[1], "A": v[0], "B": v[1]})
        )

    q, v = np.array(state[::2]), np.array(state[1::2])
    acceleration = rates_at(problem, state, t)[1::2]
    small, h = 1e-4 * np.eye(2), 1e-4

    def momentum(time: float, index: np.ndarray, speed: np.ndarray) -> np.ndarray:
        return np.array(
            [(lagrangian(time, index, speed + d) - lagrangian(time, index, speed - d)) / 2e-4 for d in small]
        )

    later = momentum(t + h, q + h * v + h * h * acceleration / 2, v + h * acceleration)
    before = momentum(t - h, q - h * v + h * h * acceleration / 2, v - h * acceleration)
    force = np.array([(lagrangian(t, q + d, v) - lagrangian(t, q - d, v)) / 2e-4 for d in small])
    assert (later - before) / (2 * h) == pytest.approx(force, rel=1e-4, abs=1e-4)
