"""Measured quantities that move: whatever follows from them and from their derivatives, by every method."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
import pytest
from representatives import general, representatives
from scipy.interpolate import PPoly, pchip_interpolate

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.input.measured import INTERPOLATIONS, Interpolation
from unhurried_heron.methods.method import Method

TIMES, VALUES = np.array([0.0, 0.7, 1.5, 2.1, 3.0]), np.array([0.3, 1.2, 0.9, -0.4, 0.5])
# a table that is a polynomial from 0 to 1, and that polynomial
TABLE = uh.Measured([-1, 0, 1, 2], [0, 0, 1, 1], "cubic")
FORMULAS = {"u": "(3*t^2 - 2*t^3)", "du": "(6*t - 6*t^2)", "ddu": "(6 - 12*t)"}
NAMES = {"u": "u", "du": "u'", "ddu": "u''"}
EVERY = representatives(lambda method: method.order > 1)


def pieces(kind: Interpolation) -> PPoly:
    """Return the same quantity by code that is not ours."""
    if kind == "cubic":
        tangents = pchip_interpolate(TIMES, VALUES, TIMES, der=1)
        h, rise = np.diff(TIMES), np.diff(VALUES) / np.diff(TIMES)
        a, b = tangents[:-1], tangents[1:]
        return PPoly(np.array([(a + b - 2 * rise) / h**2, (3 * rise - 2 * a - b) / h, a, VALUES[:-1]]), TIMES)
    rise = np.diff(VALUES) / np.diff(TIMES) if kind == "linear" else np.zeros(TIMES.size - 1)
    return PPoly(np.array([rise, VALUES[:-1]]), TIMES)


@pytest.mark.parametrize("kind", INTERPOLATIONS)
def test_derivatives_are_those_of_the_pieces(kind: Interpolation) -> None:
    times = np.array([0.1, 0.7, 1.0, 2.0999, 2.9])
    for order in range(4):
        exact = pieces(kind).derivative(order) if order else pieces(kind)
        assert uh.Measured(TIMES, VALUES, kind)(times, order) == pytest.approx(exact(times), rel=1e-12, abs=1e-12)
    end = uh.Measured(TIMES, VALUES, kind)(3.0, 1)
    assert end == pytest.approx(pieces(kind).derivative()(3.0 - 1e-13), abs=1e-11)


@pytest.mark.parametrize("kind", INTERPOLATIONS)
@pytest.mark.parametrize("method", [each for each in general() if each.adaptive], ids=lambda each: each.name)
def test_every_method_follows_a_table(method: Method, kind: Interpolation) -> None:
    rate, rtol, x = 3.0, 1e-4 if method.order < 3 else 1e-6, 1.0
    run = uh.integrate(
        uh.Problem.from_text("x' = -rate*(x - u)", initial={"x": x}, parameters={"rate": rate}, interval=(0, 3),
                             inputs={"u": uh.Measured(TIMES, VALUES, kind)}), method, rtol=rtol,
    )  # fmt: skip
    levels = [pieces(kind).derivative(order) if order else pieces(kind) for order in range(4)]
    for begin, end in zip(TIMES, TIMES[1:], strict=False):
        inside = (begin <= run.times) & (run.times < end)
        # what follows a polynomial is a polynomial, and a part that dies away
        at = [sum((-1 / rate) ** k * level(t) for k, level in enumerate(levels)) for t in (begin, run.times[inside])]
        before = sum((-1 / rate) ** k * level(np.nextafter(end, begin)) for k, level in enumerate(levels))
        exact = at[1] + (x - at[0]) * np.exp(-rate * (run.times[inside] - begin))
        assert run["x"][inside] == pytest.approx(exact, abs=60 * rtol), (begin, run.tally)
        x = before + (x - at[0]) * np.exp(-rate * (end - begin))
    assert run.final["x"] == pytest.approx(x, abs=60 * rtol)


def written(text: str, **given: Any) -> uh.Problem:
    return uh.Problem.from_text(text, interval=(0, 0.9), **given)


PIVOT = "px = {u} + sin(q)\npy = -cos(q)\nkinetic = (px'^2 + py'^2)/2\npotential = 9.81*py"
FORMS = {
    "rates": lambda f, **k: written(f("x' = -30*(x - {u})"), initial={"x": 0.2}, **k),
    "derivatives": lambda f, **k: written(f("x' = -30*(x - {u}) + {du} - {ddu}*x"), initial={"x": 0.2}, **k),
    "parts": lambda f, **k: written(f("x' = implicit(-30*(x - {u})) + {u}*x"), initial={"x": 0.2}, **k),
    "index 1": lambda f, **k: written(f("x' = -z\nz + z^3 = x + {u}"), initial={"x": 1}, **k),
    "index 2": lambda f, **k: written(f("x' = z - x\ny' = x*z\nx + x^3 = {u}"), initial={"y": 1}, **k),
    "index 3": lambda f, **k: written(f("x'' = z - x'\ny' = x - y\nx + x^3 = {u}"), initial={"y": 1}, **k),
    "indices": lambda f, **k: written(
        f("x[i]' = -z[i] for i in 1..3\n0 = z[i] + z[i]^3 - x[i] - i*{u} for i in 1..3"), initial={"x": 1.0}, **k),
    "indices of index 2": lambda f, **k: written(
        f("x[i]' = z[i] for i in 1..3\ny' = z[2]\n0 = x[i] + x[i]^3 - i*{u} for i in 1..3"), initial={"y": 1}, **k),
    "a pivot": lambda f, **k: uh.Problem.from_lagrangian(
        f(PIVOT), ["q"], initial={"q": 0.5, "q'": 0}, interval=(0, 0.9), **k),
    "a rod": lambda f, **k: uh.Problem.from_lagrangian(
        "kinetic = (x'^2 + y'^2)/2\npotential = 9.81*y", ["x", "y"], constraints=[f("(x - {u})^2 + y^2 = 1")],
        initial={"x": 0.6, "y": -0.8, "x'": 0}, interval=(0, 0.9), **k),
    "a force": lambda f, **k: uh.Problem.from_hamiltonian(
        f("hamiltonian = p^2/2 - {u}*q^2"), {"q": "p"}, initial={"q": 1, "p": 0}, interval=(0, 0.9), **k),
    "sliding": lambda f, **k: written(f("x' = where(x > {u}, -3, 3)\ny' = x"), initial={"x": 0.2, "y": 0}, **k),
    "an event": lambda f, **k: written(
        f("x' = 1\nn' = 0"), initial={"x": -0.01, "n": 0}, **k,
        events=[uh.Event(f("x + 0.02 = {u}"), then="n = n + t")]),
}  # fmt: skip


@functools.cache
def near(form: str) -> dict[str, Any]:
    """Return the end of the polynomial's solution by a method that needs no derivatives by the time."""
    problem = FORMS[form](lambda text: text.format(**FORMULAS), inputs={})
    return uh.integrate(problem, "radau-iia-9", rtol=1e-10, atol=1e-10).final


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("method", EVERY)
def test_a_table_of_a_polynomial_is_that_polynomial(form: str, method: str) -> None:
    rtol, ends = 1e-7, [near(form)]
    for names, inputs in ((NAMES, {"u": TABLE}), (FORMULAS, {})):
        problem = FORMS[form](lambda text, names=names: text.format(**names), inputs=inputs)
        try:
            ends.append(uh.integrate(problem, method, rtol=rtol, atol=rtol).final)
        except errors.HeronError as error:
            ends.append({"refused": str(error).partition("\n")[0].count(" ")})
    assert ends[1] == pytest.approx(ends[2], abs=200 * rtol), method
    if "refused" not in ends[1]:
        assert ends[1] == pytest.approx(ends[0], abs=200 * rtol), method
    assert "refused" not in ends[1] or method not in ("auto", "dormand-prince-54", "radau-iia-5"), ends


def test_rates_of_what_is_measured_are_known_elsewhere() -> None:
    """Of a run, in comparisons, and by their units."""
    problem = FORMS["derivatives"](lambda text: text.format(**NAMES), inputs={"u": TABLE})
    assert uh.integrate(problem).mean("u'") == pytest.approx(TABLE(0.9) / 0.9, rel=1e-12)
    compared = uh.compare(problem, ["radau-iia-5", "steinebach-54"], rtol=1e-6).frame()
    assert (compared["largest error"] < 1e-4).all()
    metres = {"units": {"t": "h", "x": "m", "u": "m"}, "inputs": {"u": TABLE}, "initial": {"x": 1}}
    assert written("x' = u'", **metres).rates_at(0.5, [1.0]) == pytest.approx([1.5])
    with pytest.raises(errors.UnitError, match="m/h"):
        written("x' = u' + u''", **metres)


@pytest.mark.parametrize("method", EVERY)
@pytest.mark.parametrize(
    ("within", "levels"),
    [("u", VALUES[:-1]), ("where(t < 0.9, 1, where(t < 2, 0.2, 0.7))", [1, 0.2, 0.7]),
     ("where(y > 1, 0.3, where(y > 0.4, 1.1, 0.5))", [0.5, 1.1, 0.3])],
)  # fmt: skip
def test_a_level_that_jumps_takes_its_place_along(within: str, levels: list[float], method: str) -> None:
    """Where a solution slides along a switch, and that jumps away, it goes after it."""
    edges = {"u": TIMES[1:-1], "t": [0.9, 2.0], "y": [0.8, 2.0]}["u" if within == "u" else within[6]]
    problem = uh.Problem.from_text(
        f"x' = where(x > {within}, -4, 4)\ny' = 0.5",
        initial={"x": 0, "y": 0}, interval=(0, 3), inputs={"u": uh.Measured(TIMES, VALUES, "previous")},
    )  # fmt: skip
    run, x, begin = uh.integrate(problem, method, rtol=1e-6, record=61), 0.0, 0.0
    for level, end in zip(levels, [*edges, 3.0], strict=True):
        inside = (begin < run.times) & (run.times < end - 1e-9)
        gone = np.minimum(4 * (run.times[inside] - begin), abs(level - x))
        assert run["x"][inside] == pytest.approx(x + np.sign(level - x) * gone, abs=1e-5), (begin, run.switches)
        x += np.sign(level - x) * min(4 * (end - begin), abs(level - x))
        begin = end


@pytest.mark.parametrize(
    ("text", "kind", "words"),
    [("x' = z\nx = u", "previous", "'u' would have to be differentiated"),
     ("x'' = z\nx = u", "linear", "'u' would have to be differentiated"),
     ("x[i]' = z[i] for i in 1..2\n0 = x[i] - u for i in 1..2", "previous", "'u' would have to be differentiated"),
     ("x' = u'", "previous", "two things"), ("u' = x\nx' = 1", "cubic", "two things"),
     ("x' = u'''", "cubic", "two things")],
)  # fmt: skip
def test_what_jumps_is_not_differentiated(text: str, kind: Interpolation, words: str) -> None:
    with pytest.raises(errors.FormulationError, match=words) as refused:
        uh.Problem.from_text(text, initial={}, interval=(0, 1), inputs={"u": uh.Measured(TIMES, VALUES, kind)})
    assert "cubic" in str(refused.value)
    with pytest.raises(errors.FormulationError, match="more often than it can be"):
        FORMS["a pivot"](lambda each: each.format(**NAMES), inputs={"u": uh.Measured(TIMES, VALUES, "linear")})
