"""Equations in any arrangement and of any order, against solving the same equations numerically."""

from __future__ import annotations

import numpy as np
import pytest
import sympy
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.system import native_system


def rates_at(problem: uh.Problem, state: list[float], t: float = 0.0) -> np.ndarray:
    function = native_system(problem, (), held=False).rates
    return evaluate_rows(function, np.array([t]), np.array([state]))[0]


def user_input(text: str, initial: dict, **parameters) -> uh.Problem:
    return uh.Problem.from_text(text, initial=initial, parameters=parameters, interval=(0, 1))


ARRANGEMENTS = [
    "z'' = -k/m*z - c/m*z'",
    "m*z'' + c*z' + k*z = 0",
    "0 = -k*z - m*z'' - c*z'",
    "k*z = -(c*z' + m*z'')",
    "force = m*z''\nforce = pull\npull = -k*z - c*z'",
    "2*m*z'' + k*z = m*z'' - c*z'",
    "m*(z'' + c/m*z')/k = -z",
]


@pytest.mark.parametrize("text", ARRANGEMENTS)
def test_every_arrangement_says_the_same(text: str) -> None:
    if text.startswith("force"):
        # a derived quantity may hold a highest derivative, and a parameter may be one side of an equation
        text = "m*z'' = pull\npull = -k*z - c*z'\nforce = m*z''"
    problem = user_input(text, {"z": 0.3, "z'": -0.7}, m=2.0, c=0.4, k=5.0)
    assert problem.states == ("z", "z'")
    assert rates_at(problem, [0.3, -0.7]) == pytest.approx([-0.7, -(0.4 * -0.7 + 5 * 0.3) / 2], rel=1e-15)
    if "force" in text:
        assert uh.integrate(problem)["force"][0] == pytest.approx(0.28 - 1.5)


COUPLED = """
(m + k*z)*z'' + c*cos(w)*w'' = sin(t) - z
z''/2 + w'' - 3*v''' = -w*w'
v''' + z''*w = v'' - v + w
"""


@settings(max_examples=30, deadline=None)
@given(st.lists(st.floats(-1, 1), min_size=7, max_size=7), st.floats(0, 3))
def test_coupled_equations_of_mixed_order_against_a_numerical_solve(state: list[float], t: float) -> None:
    order = ("z", "z'", "w", "w'", "v", "v'", "v''")
    problem = user_input(COUPLED, dict(zip(order, state, strict=True)), m=4.0, k=0.5, c=0.7)
    assert problem.states == order
    z, z1, w, w1, v, v1, v2 = state
    matrix = [[4.0 + 0.5 * z, 0.7 * np.cos(w), 0], [0.5, 1, -3], [w, 0, 1]]
    right = [np.sin(t) - z, -w * w1, v2 - v + w]
    if abs(np.linalg.det(matrix)) < 0.3:
        return
    a, b, c = np.linalg.solve(matrix, right)
    assert rates_at(problem, state, t) == pytest.approx([z1, a, w1, b, v1, v2, c], rel=1e-10, abs=1e-10)


@pytest.mark.parametrize("n", [4, 7])
def test_many_coupled_equations(n: int) -> None:
    # a chain in which every equation holds the accelerations of its neighbours; from five on it is eliminated
    rng = np.random.default_rng(n)
    matrix = (
        np.diag(rng.uniform(2, 3, n)) + np.diag(rng.uniform(-1, 1, n - 1), 1) + np.diag(rng.uniform(-1, 1, n - 1), -1)
    )
    lines = []
    for i in range(n):
        left = " + ".join(f"({float(matrix[i, j])!r})*x{j}''" for j in range(n) if matrix[i, j])
        lines.append(f"{left} = a*x{i} - x{(i + 1) % n}'")
    state = rng.uniform(-1, 1, 2 * n)
    problem = user_input("\n".join(lines), {f"x{i // 2}" + "'" * (i % 2): s for i, s in enumerate(state)}, a=-2.0)
    x, v = state[::2], state[1::2]
    wanted = np.linalg.solve(matrix, -2.0 * x - np.roll(v, -1))
    assert rates_at(problem, list(state))[1::2] == pytest.approx(wanted, rel=1e-12)


def test_the_reduced_system_is_shown_and_means_what_it_says() -> None:
    problem = user_input(
        COUPLED, {**dict.fromkeys(("z", "w", "v"), 0.1), "z'": 0, "w'": 0, "v'": 0, "v''": 1}, m=4, k=0.5, c=1
    )
    text = problem.first_order().text
    lines = dict(line.split(" = ", 1) for line in text.splitlines())
    # what only says how a derivative is called is left out
    assert [key.strip() for key in lines] == ["(z')'", "(w')'", "(v'')'"]
    # read back as first-order equations of plain names, it has the same rates
    plain = {"z'": "p", "w'": "q", "v''": "s", "v'": "r"}

    def renamed(formula: str) -> str:
        for old, new in sorted(plain.items(), key=lambda pair: -len(pair[0])):
            formula = formula.replace(old, new)
        return formula

    names = ["z", "p", "w", "q", "v", "r", "s"]
    report = dict(zip(("p", "q", "s"), map(renamed, lines.values()), strict=True)) | {
        "z": "p",
        "w": "q",
        "v": "r",
        "r": "s",
    }
    again = "\n".join(f"{n}' = {report[n]}" for n in names)
    state = [0.1, 0.2, -0.3, 0.4, 0.5, -0.6, 0.7]
    other = user_input(again, dict(zip(names, state, strict=True)), m=4, k=0.5, c=1)
    assert rates_at(other, state, 0.3) == pytest.approx(rates_at(problem, state, 0.3), rel=1e-13)
    latex = problem.first_order().latex
    assert latex.count("&=") == 3
    assert latex.count("{") == latex.count("}")
    assert r"\cos\left(w\right)" in latex


def test_common_factors_cancel() -> None:
    # masses cancel out of this pair, so that neither may stand in the result's denominator as a square
    problem = user_input("(a + b)*z'' + b*w'' = -z\nb*z'' + b*w'' = -w", {"z": 1, "z'": 0, "w": 2, "w'": 0}, a=3, b=5)
    text = problem.first_order().text
    z, w, a, _ = sympy.symbols("z w a b")
    second = text.splitlines()[0].split(" = ")[1]
    assert sympy.simplify(sympy.sympify(second) - (w - z) / a) == 0
    assert "b" not in second


WRONG = [
    ("z''^2 + z = 0", errors.OrderError, r"the term z''\^2"),
    ("m*z'' + sin(z'') = z", errors.OrderError, r"the term sin\(z''\)"),
    ("z''*w'' = 1\nw'' + z'' = z", errors.OrderError, "the term z''\\*w''"),
    ("z'' = -z\nz' = w\nw' = 1", errors.ConstraintError, "1 on states that have rates"),
    ("z'' + w'' = 1\nz'' + w'' = 2", errors.OrderError, "do not determine"),
    ("z'' + w'' = 1", errors.OrderError, "1 equation for 2 highest derivatives"),
    ("z'' = 1\n2*z'' = z", errors.ConstraintError, "1 on states that have rates"),
    ("z' = w'", errors.OrderError, "1 equation for 2"),
    ("z' = y'\ny = 2*z", errors.ExpressionError, "derived quantity"),
    ("z'' = 1\nz'' = 2", errors.NameClashError, "twice"),
    ("pi' = 1", errors.NameClashError, "the number"),
    ("z' = t'", errors.ExpressionError, "no derivative"),
    ("z' = 2'", errors.ExpressionError, "cannot read"),
]


@pytest.mark.parametrize(("text", "kind", "words"), WRONG, ids=[text.replace("\n", "; ") for text, _, _ in WRONG])
def test_what_cannot_be_solved_is_refused_in_the_users_words(text: str, kind: type, words: str) -> None:
    names = ("z", "z'", "w", "w'")
    with pytest.raises(kind, match=words) as caught:
        uh.Problem.from_text(
            text, initial=dict.fromkeys(names, 1.0), parameters={"m": 2.0} if "m*" in text else {}, interval=(0, 1)
        )
    assert "line" in caught.value.location


def test_each_derivative_needs_its_starting_value() -> None:
    with pytest.raises(errors.MissingInitialError, match="'z'', 'z'''"):
        user_input("z''' = -z", {"z": 1})
    with pytest.raises(errors.UnusedValueError, match="the states are z, z'"):
        user_input("z'' = -z", {"z": 1, "z'": 0, "z''": 2})


def test_higher_order_runs_to_its_closed_form() -> None:
    # z'''' = z with these values is cosh t + sin t
    problem = uh.Problem.from_text(
        "z'''' - z = 0",
        initial={"z": 1, "z′": 1, "z″": 1, "z'''": -1},
        exact={"z": "cosh(t) + sin(t)"},
        interval=(0, 2),
    )
    assert problem.states == ("z", "z'", "z''", "z'''")
    run = uh.integrate(problem, rtol=1e-11)
    assert run["z"] == pytest.approx(np.cosh(run.times) + np.sin(run.times), rel=1e-9)
    both = uh.integrate(problem, events=[uh.Event("z'''' = 2"), uh.Event("z = 2")]).events["time"]
    assert both[0] == both[1]
    # a function asks for a derivative by a name that Python allows
    fell = uh.integrate(problem, events=[uh.Event(lambda z_prime: z_prime - 1.5, name="fast")]).events
    assert np.sinh(fell["time"][0]) + np.cos(fell["time"][0]) == pytest.approx(1.5, rel=1e-6)
