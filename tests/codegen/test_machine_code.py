"""Written equations as machine code: derivatives against SymPy, and compiled once."""

from __future__ import annotations

import gc

import numba
import numpy as np
import pytest
import sympy

import unhurried_heron as uh
from unhurried_heron.codegen import compile_formulas
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import NativeSystem, native_system
from unhurried_heron.kernels.machine_code import jit

# the same formulas for SymPy, where it spells them otherwise
SMOOTH = {
    "sin(x*y)*cos(x) + tan(y)": None,
    "asin(x/9) + acos(y/9) + atan(x - y)": None,
    "atan2(x, y)": None,
    "sinh(x)*cosh(y)*tanh(x*y)": None,
    "exp(-x^2)*log(y) + log10(x)": "exp(-x**2)*log(y) + log(x)/log(10)",
    "sqrt(x + y)/(1 + x^3)": None,
    "x^y + 2^x + y^-2.5 + k^3*x^0": None,
    "-x/-y - (x - y)/(x + y)*k": None,
    "x*y*x*k + 3*x*0 + 1*y": None,
}


def jacobian_row(formula: str, point: tuple[float, float]) -> np.ndarray:
    """Machine-coded d formula / d(x, y)."""
    problem = uh.Problem.from_text(
        f"x' = {formula} + 0*k\ny' = 0",
        initial=dict(zip("xy", point, strict=True)),
        parameters={"k": 0.7},
        interval=(0, 1),
    )
    function = with_jacobian(native_system(problem, (), held=False), problem, held=False).jacobian
    assert function is not None
    return evaluate_rows(function, np.array([0.0]), np.array([point]))[0, :2]


@pytest.mark.parametrize("formula", SMOOTH)
def test_symbolic_jacobian_against_sympy(formula: str) -> None:
    x, y, k = sympy.symbols("x y k", positive=True)
    text = (SMOOTH[formula] or formula).replace("^", "**")
    expression = sympy.sympify(text, locals={"x": x, "y": y, "k": k})
    for point in ((0.6, 1.3), (2.1, 0.4)):
        values = {x: point[0], y: point[1], k: 0.7}
        wanted = [float(expression.diff(s).evalf(25, subs=values)) for s in (x, y)]
        assert jacobian_row(formula, point) == pytest.approx(wanted, rel=1e-13, abs=1e-13)


@pytest.mark.parametrize(
    ("formula", "below", "above"),
    [
        ("max(x, y)", (0, 1), (1, 0)),
        ("min(x, y, 5)", (1, 0), (0, 1)),
        ("abs(x - y)", (-1, 1), (1, -1)),
        ("where(x < y, x^2, sqrt(y - x))", (2.0, 0), (np.nan, np.nan)),
        ("max(x - y, 0)^1.5", (0, 0), (1.5, -1.5)),
        ("floor(x) + step(y) + sign(x) + pulse(x, 0, 1) + (x > y)", (0, 0), (0, 0)),
    ],
)
def test_kinks_are_differentiated_on_each_side(formula: str, below: tuple, above: tuple) -> None:
    assert jacobian_row(formula, (1.0, 2.0)) == pytest.approx(below)
    assert jacobian_row(formula, (2.0, 1.0)) == pytest.approx(above, nan_ok=True)


def test_nan_is_never_swallowed() -> None:
    for formula in (
        "max(x, log(-1))",
        "min(log(-1), x)",
        "step(log(-1))",
        "sign(log(-1))",
        "pulse(log(-1), 0, 1)",
    ):
        problem = uh.Problem.from_text(f"x' = {formula}", initial={"x": 1}, interval=(0, 1))
        function = native_system(problem, ()).rates
        assert np.isnan(evaluate_rows(function, np.array([0.0]), np.array([[1.0]]))[0, 0]), formula


def test_nothing_is_compiled_twice(pond: uh.Problem, monkeypatch: pytest.MonkeyPatch) -> None:
    def run_all(problem: uh.Problem) -> None:
        for method in ("dormand-prince-54", "radau-iia-5"):
            uh.integrate(problem, method, events=[uh.Event("level = crest", name="c")])["spill"].sum()

    run_all(pond)
    compiled = []
    for name in ("compile_module", "compile_many"):
        genuine = getattr(jit, name)
        monkeypatch.setattr(jit, name, lambda *a, genuine=genuine, **k: compiled.append(a) or genuine(*a, **k))
    run_all(pond)
    run_all(pond.with_(parameters={"crest": 0.5}, initial={"level": 0.1}, interval=(0, 9)))
    run_all(
        uh.Problem.from_text(pond.user_input.text, initial={"level": 1}, parameters=pond.parameters, interval=(1, 2))
    )
    assert not compiled
    uh.integrate(uh.Problem.from_text("x' = -3.25*x", initial={"x": 1}, interval=(0, 1)))
    assert len(compiled) == 1


def test_forgotten_machine_code_is_freed_without_harm(pond: uh.Problem) -> None:
    run = uh.integrate(pond)
    expected = run["spill"].copy()
    for i in range(3):
        compile_formulas._machine_code.cache_clear()
        gc.collect()
        uh.integrate(uh.Problem.from_text(f"x' = -{i + 7}*x", initial={"x": 1}, interval=(0, 1)))
    # what an older run holds was compiled by an engine that may be gone: it is compiled anew
    assert np.array_equal(uh.integrate(pond)["spill"], expected)


def jacobian_of(t: float, y: np.ndarray, k: float, m: float) -> tuple[float, float]:
    return k * y[1] + m, -m * y[0] * y[0] + k


def level(y: np.ndarray, p: tuple[float, ...]) -> float:
    return y[0] - p.k * p.m


@pytest.mark.parametrize("kind", ["written", "python", "njit"])
@pytest.mark.long
def test_a_parameter_changed_in_memory_reaches_every_function(kind: str) -> None:
    values = {"parameters": {"k": 2.0, "m": 3.0}, "initial": {"a": 0.5, "b": 0.25}, "interval": (0, 1)}
    if kind == "written":
        text = "a' = k*b + m + max(a - k, 0)\nb' = -m*a^2 + k"
        problem = uh.Problem.from_text(text, **values, events=[uh.Event("a = k*m")])
    else:
        made = numba.njit if kind == "njit" else lambda function: function
        jacobian = None if kind == "njit" else (lambda y, k, m: np.array([[0, k], [-2 * m * y[0], 0]]))
        event = uh.Event(made(level))
        problem = uh.Problem.from_rates(made(jacobian_of), **values, jacobian=jacobian, events=[event])

    def answers(system: NativeSystem) -> list[float]:
        functions = [system.rates, *system.events, *system.watched, *([system.jacobian] if system.jacobian else [])]
        state = np.array([[0.5, 0.25]])
        return [x for function in functions for x in evaluate_rows(function, np.zeros(1), state)[0].tolist()]

    first = with_jacobian(native_system(problem, problem.events), problem)
    before = answers(first)
    first.context.change([5.0, 7.0])
    other = problem.with_(parameters={"k": 5.0, "m": 7.0})
    assert answers(first) == answers(with_jacobian(native_system(other, other.events), other)) != before
    assert answers(first)[:2] == pytest.approx([5 * 0.25 + 7, -7 * 0.25 + 5])


EACH = ["u[{i}] = {level}", "sin({level}*u[{i}])*v = 0.1", "u[{i}]*u[{j}]/{level} = cos(t)", "u[{i}]^2 = {level}"]


@pytest.mark.parametrize("each", EACH)
def test_events_of_a_loop_share_machine_code_and_keep_their_own_numbers(
    each: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is looked at, its derivative along the solution and how fast it turns, against plain Python."""
    n, generator = 7, np.random.default_rng(len(each))
    whole = [each.format(i=i, j=1 + (3 * i) % n, level=i + 0.25) for i in range(1, n + 1)]
    text = "u[i]' = -i*u[i] + v*u[i-1] for i in 1..7\nu[0] = 0\nv' = sum(u[k] for k in 1..7) - t"
    shapes: list[int] = []
    genuine = jit.compile_many
    monkeypatch.setattr(jit, "compile_many", lambda text, count: shapes.append(count) or genuine(text, count))
    problem = uh.Problem.from_text(
        text, initial={"u": 0.5, "v": 1}, interval=(0, 1), events=[uh.Event(line) for line in whole]
    )
    native = native_system(problem, problem.events)
    # the members at the ends have rates of their own
    assert sum(shapes) <= 12
    time, state = 0.3, generator.uniform(0.2, 1.5, n + 1)

    def rates(t: float, y: np.ndarray) -> np.ndarray:
        u, v = y[:n], y[n]
        return np.append(-np.arange(1, n + 1) * u + v * np.append(0, u[:-1]), u.sum() - t)

    def gap(line: str, t: float, y: np.ndarray) -> float:
        left, right = (
            eval(
                side.replace("^", "**").replace("u[", "u[-1+"),
                {"u": y, "v": y[n], "t": t, "sin": np.sin, "cos": np.cos},
            )
            for side in line.split(" = ")
        )
        return left - right

    assert native.beyond is not None
    for line, event, derivative, speed in zip(
        whole, native.events, native.beyond.derivatives, native.beyond.speeds, strict=True
    ):
        value = evaluate_rows(event, np.array([time]), state[None])[0, 0]
        assert abs(value) == pytest.approx(abs(gap(line, time, state)), rel=1e-13)
        along, h = rates(time, state), 1e-6
        jacobian_of = (gap(line, time + h, state + h * along) - gap(line, time - h, state - h * along)) / (2 * h)
        if "cos(t)" in line:
            assert derivative is None
        else:
            assert derivative is not None
            assert abs(evaluate_rows(derivative, np.array([time]), state[None])[0, 0]) == pytest.approx(
                abs(jacobian_of), rel=1e-6
            )
        if "sin" in line:
            assert speed is not None
            i = whole.index(line)
            turning = (i + 1.25) * abs(along[i])
            assert evaluate_rows(speed, np.array([time]), state[None])[0, 0] == pytest.approx(turning, rel=1e-12)
