"""Every operation of formulas, from the one table: value, machine code, derivative, bounds, series, writing agree."""

from __future__ import annotations

import itertools
import math
import re
from dataclasses import fields
from functools import cache, partial

import mpmath
import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.expression_ir import Emitter, SymbolTable
from unhurried_heron.codegen.system import native_derived, native_system
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, name, names_in, number, rewrite
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.narrow_features import CANDIDATES, time_formulas
from unhurried_heron.formulas.operation import Operation
from unhurried_heron.formulas.operations import OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.printing import to_latex, to_text
from unhurried_heron.formulas.simplify import simplified
from unhurried_heron.formulas.source import Source
from unhurried_heron.study.taylor import taylor_states

PLACES = ("t", "a", "b")
EPS = float(np.finfo(float).eps)
# inside the domain of every function, off every jump and kink
POINTS = [(0.31, 0.12, 0.57), (0.83, 0.9, 0.2), (0.07, 0.55, 0.61)]


NAMED = [name for name, each in OPERATIONS.items() if each.kind == "function"]
SIGNS = [name for name in OPERATIONS if name not in NAMED]
# of whole orders alone, and of conditions
ARGUMENTS = {
    "besselj": (number(2.0), name("t")), "bessely": (number(1.0), name("t")),
    **{logic: (Node("lt", name("t"), name("a")), Node("ge", name("t"), name("b"))) for logic in ("and", "or")},
    "not": (Node("lt", name("t"), name("a")),),
}  # fmt: skip


def tree(operation: str) -> Node:
    _, most = OPERATIONS[operation].arguments
    return Node(operation, *ARGUMENTS.get(operation, tuple(name(index) for index in PLACES[: most or 3])))


def value(node: Node, point: tuple[float, ...]) -> float:
    return float(evaluate(node, dict(zip(PLACES, point, strict=True))))


def machine(text: str, point: tuple[float, ...]) -> float:
    problem = uh.Problem.from_text(
        f"x' = ({text}) + 0*(a + b)", initial={"x": 0}, parameters={"a": point[1], "b": point[2]}, interval=(0, 1)
    )
    rates = native_system(problem, (), held=False).rates
    return float(evaluate_rows(rates, np.array([point[0]]), np.zeros((1, 1)))[0, 0])


@pytest.mark.parametrize("operation", OPERATIONS)
def test_one_table_serves_all(operation: str) -> None:
    node = tree(operation)
    flat = rewrite(read(Source(to_text(node), "written")).node, simplified, {})
    assert flat == node
    assert all(part in to_latex(node) for part in re.split(r"#\d", OPERATIONS[operation].latex))
    assert OPERATIONS[operation].sign in to_text(node)
    for point in POINTS:
        assert machine(to_text(node), point) == pytest.approx(value(node, point), rel=1e-14)
        derivatives = Differentiator(PLACES).by_name(node)
        for index, key in enumerate(PLACES):
            ends = [tuple(x + s * 1e-6 * (k == index) for k, x in enumerate(point)) for s in (1, -1)]
            wanted = (value(node, ends[0]) - value(node, ends[1])) / 2e-6
            found = value(derivatives[key], point) if key in derivatives else 0.0
            assert found == pytest.approx(wanted, rel=1e-6, abs=1e-8), key
    for low, high in ((-2.3, 1.7), (0.1, 0.9), (-0.4, -0.2)):
        values = {"a": 0.12, "b": 0.57}
        below, above = enclose(node, values, np.array([low]), np.array([high]))
        with np.errstate(invalid="ignore"):
            inside = evaluate(node, {**values, "t": np.linspace(low, high, 201)})
        known = np.broadcast_to(inside, 201)[np.isfinite(np.broadcast_to(inside, 201))]
        assert (known >= below - 1e-15).all()
        assert (known <= above + 1e-15).all()
        assert OPERATIONS[operation].values == "any" or (known >= 0).all()
        assert OPERATIONS[operation].values != "positive" or (known > 0).all()


@pytest.mark.parametrize("operation", sorted({*NAMED} - {"where"}))
def test_what_jumps_is_known_to(operation: str) -> None:
    node, near = tree(operation), 1e-7
    broken = False
    for t in np.arange(-12, 13) / 8:
        with np.errstate(all="ignore"):
            far_left, left, right, far_right = (value(node, (t + k * near, 0.125, 0.5)) for k in (-2, -1, 1, 2))
            gap, bend = right - left, (far_right - right - left + far_left) / near
        broken = broken or (math.isfinite(gap) and abs(gap) > 1e-3) or (math.isfinite(bend) and abs(bend) > 1e-2)
    # poles and an infinite derivative
    assert OPERATIONS[operation].jumps == broken or operation in ("bessely", "cbrt", "gamma", "lgamma")
    # runs land on what jumps
    if OPERATIONS[operation].jumps:
        given = dict.fromkeys(names_in(node) - {"t"}, 0.125)
        problem = uh.Problem.from_text(f"x' = {to_text(node)}", initial={"x": 0}, interval=(-1, 1), parameters=given)
        assert len(problem.switches) > 0


@pytest.mark.parametrize(("low", "high"), [(1.0, 2.0), (4.0, 5.0), (-2.0, -1.0), (0.0, 0.1), (5.0, 9.0)])
def test_bounds_of_a_wave_are_tight(low: float, high: float) -> None:
    for operation in ("sin", "cos"):
        below, above = enclose(tree(operation), {}, np.array([low]), np.array([high]))
        inside = getattr(np, operation)(np.linspace(low, high, 100_001))
        assert below[0] == pytest.approx(inside.min(), abs=1e-8)
        assert above[0] == pytest.approx(inside.max(), abs=1e-8)


def test_a_function_without_a_rule_is_noticed(monkeypatch: pytest.MonkeyPatch) -> None:
    facts = {each.name: getattr(OPERATIONS["sin"], each.name) for each in fields(Operation)}
    for gap in facts:
        with pytest.raises(TypeError):
            Operation(**{fact: given for fact, given in facts.items() if fact != gap})
    own = {"derivative": "own rule", "code": "own rule", "bounds": "own rule", "unit": "own rule", "ends": "own rule"}
    monkeypatch.setitem(OPERATIONS, "sinc", Operation(**{**facts, **own}))
    node = Node("sinc", name("t"))
    for rule, words in (
        (lambda: Differentiator(["t"]).by_name(node), "differentiate 'sinc'"),
        (lambda: enclose(node, {}, np.zeros(1), np.ones(1)), "bound 'sinc'"),
        (lambda: Emitter(SymbolTable((), ())).value(node), "emit 'sinc'"),
    ):
        with pytest.raises(uh.HeronError, match=words):
            rule()


EXACT: dict[str, object] = {
    "log2": lambda x: mpmath.log(x, 2),
    "abs": abs,
    "implicit": lambda x: x,
    "mod": lambda x, y: x - y * mpmath.floor(x / y),
    "lgamma": lambda x: mpmath.log(abs(mpmath.gamma(x))),
}
SMOOTH = [name for name in NAMED if OPERATIONS[name].smooth] + ["mod", "hypot"]


@pytest.mark.parametrize("operation", SMOOTH)
def test_machine_code_is_accurate(operation: str) -> None:
    """Within a few roundings of the argument and of the value, over the whole domain, against fifty digits."""
    exact = EXACT.get(operation, getattr(mpmath, operation, None))
    given = np.random.default_rng(3)
    bessel, two = operation.startswith("bessel"), operation in ("atan2", "mod", "hypot")
    checked = 0
    with mpmath.workdps(50):
        count = 10 if bessel else 30
        for x in [*given.uniform(-1, 1, count), *given.uniform(-30, 30, count), *given.lognormal(0, 5, count)]:
            x, y = float(x), float(given.uniform(0.5, 5))
            arguments = (float(given.integers(0, 6)), abs(x)) if bessel else (x, y) if two else (x,)
            problem = f"{operation}({', '.join(map(repr, arguments))})" if two or bessel else f"{operation}({x!r})"
            wanted = exact(*map(mpmath.mpf, arguments))
            if isinstance(wanted, mpmath.mpc) or not 1e-290 < abs(wanted) < 1e290:
                continue
            found = by_machine(operation, arguments)
            inner = mpmath.mpf(0) if two else mpmath.diff(partial(exact, *arguments[:-1]), arguments[-1])
            allowed = 4 * EPS * (abs(wanted) + abs(inner * arguments[-1]))
            allowed += 4 * EPS * abs(x) if operation == "mod" else 0
            assert abs(found - wanted) <= allowed, (problem, found, wanted)
            checked += 1
    assert checked > 0.8 * count


def by_machine(operation: str, arguments: tuple[float, ...]) -> float:
    """Return what the machine code of a function gives."""
    return float(evaluate_rows(compiled(operation, len(arguments)), np.array([arguments[0]]),
                               np.array([[arguments[-1]]]))[0, 0])  # fmt: skip


@cache
def compiled(operation: str, count: int) -> object:
    text = f"{operation}(t, x)" if count == 2 else f"{operation}(x)"
    return native_system(
        uh.Problem.from_text(f"x' = {text}", initial={"x": 0.5}, interval=(1, 2)), (), held=False
    ).rates


@pytest.mark.parametrize("operation", [name for name, each in OPERATIONS.items() if each.series == "chain"])
def test_a_series_follows_from_the_derivative(operation: str) -> None:
    problem = uh.Problem.from_text(f"x' = {operation}(0.3 + t/5)", initial={"x": 0}, interval=(0, 1))
    ((found,),) = taylor_states(problem, [1.0], digits=30)
    exact = EXACT.get(operation, getattr(mpmath, operation, None))
    with mpmath.workdps(40):
        start = mpmath.mpf(0.3)
        wanted = mpmath.quad(lambda t: exact(start + t / 5), [0, 1])
        assert abs(found - wanted) < mpmath.mpf(10) ** -28


POWERS = [-2.5, -1.5, -1.0, -0.5, 0.5, 1.5, 2.0, 2.5, 3.0]


@pytest.mark.parametrize("power", POWERS)
@pytest.mark.parametrize("base", [0.0, -0.0, math.inf, -math.inf, 2.0, -2.0, math.nan])
def test_powers_are_those_of_the_c_library(base: float, power: float) -> None:
    problem = uh.Problem.from_text(f"x' = 0*t\np = x^({power})", initial={"x": 1.0}, interval=(0, 1))
    found = evaluate_rows(native_derived(problem), np.zeros(1), np.array([[base]]))[0, 0]
    try:
        wanted = math.pow(base, power)
    except ValueError:
        # what the C library answers with an error: infinity at zero, no number for a root of a negative one
        wanted = math.copysign(math.inf, base if power == -1.0 else 1.0) if base == 0.0 else math.nan
    assert found == pytest.approx(wanted, rel=1e-15, nan_ok=True)
    assert math.copysign(1.0, found) == math.copysign(1.0, wanted) or math.isnan(wanted)


@pytest.mark.parametrize(
    ("text", "times"), [("pulse(t, 1, 2)", (1.0, 2.0)), ("step(t - 1)", (1.0,)), ("max(t, 1)", (1.0,))]
)
def test_a_pulse_is_closed_where_it_begins(text: str, times: tuple[float, ...]) -> None:
    values = [float(evaluate(read(Source(text, "text")).node, {"t": t})) for t in times]
    assert values == [1.0, 0.0][: len(times)]


@pytest.mark.parametrize("operation", [name for name in NAMED if OPERATIONS[name].arguments == (1, 1)])
def test_what_varies_narrowly_is_known_to(operation: str) -> None:
    # a row of the table that the search for narrow parts has not heard of would lose peaks in silence
    report, times = [], np.sort(np.concatenate([np.linspace(0, 1, 2001), 0.5 + np.linspace(-1e-3, 1e-3, 2001)]))
    far = np.abs(times - 0.5) > 0.05
    for scale, shift in itertools.product((1e3, 1e4), (0.0, 0.5, 2.0)):
        line = Node("mul", number(scale), Node("add", name("t"), number(-0.5)))
        for inside in (
            Node("add", line, number(shift)),
            Node("add", number(shift), Node("neg", Node("mul", line, line))),
        ):
            node = Node(operation, inside)
            with np.errstate(all="ignore"):
                values = np.asarray(evaluate(node, {"t": times}))
            if np.isfinite(values).all() and not OPERATIONS[operation].jumps and np.ptp(values) > 0:
                sides = [np.ptp(values[far & side]) for side in (times < 0.5, times > 0.5)]
                # on neither side it varies: all of that lies in a tenth of the time
                if max(sides) <= 0.02 * np.ptp(values):
                    report.append(bool(time_formulas([node], ())))
    assert all(report)
    assert not report or operation in CANDIDATES


@pytest.mark.parametrize("x", [-7.3, -0.9, 0.02, 0.499, 0.5, 1.4616321449683622, 3.0, 170.0])
def test_the_derivative_of_the_gamma_function(x: float) -> None:
    rate = evaluate(Differentiator(["t"]).by_name(Node("lgamma", name("t")))["t"], {"t": x})
    other = evaluate(Differentiator(["t"]).by_name(Node("gamma", name("t")))["t"], {"t": x})
    with mpmath.workdps(40):
        exact = mpmath.digamma(mpmath.mpf(x))
        assert abs(rate - exact) < 3e-15 * (1 + abs(x * mpmath.psi(1, mpmath.mpf(x))))
        assert abs(other / (mpmath.gamma(mpmath.mpf(x)) * exact) - 1) < 1e-13 or abs(exact) < 1e-3


def test_a_parameter_may_be_called_gamma() -> None:
    given = {"initial": {"x": 1}, "parameters": {"gamma": 2.0}, "interval": (0, 1)}
    assert uh.integrate(uh.Problem.from_text("x' = -gamma*x", **given)).final["x"] == pytest.approx(math.exp(-2.0))
    for text, more in (("x' = -gamma(x + 1)", {}), ("x' = x", {"events": [uh.Event("gamma(x) = 3")]})):
        with pytest.raises(uh.FormulationError, match="'gamma' is called as a function"):
            uh.Problem.from_text(text, **given, **more)


def test_orders_are_whole() -> None:
    with pytest.raises(uh.FormulationError, match="no whole number"):
        read(Source("besselj(2.5, t)", "text"))
    assert math.isnan(by_machine("bessely", (0.5, 1.0)))
    assert np.isnan(evaluate(read(Source("besselj(n, 1)", "text")).node, {"n": 0.5}))
