"""Formulas by themselves: one object for equal trees, rules that keep the value, texts that read back."""

from __future__ import annotations

import math
import pickle

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, add, name, neg, number, rewrite, upwards
from unhurried_heron.formulas.notation import to_python
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.printing import to_latex, to_text
from unhurried_heron.formulas.simplify import ratio_of_sums, simplified
from unhurried_heron.formulas.source import Source


@settings(max_examples=200, deadline=None)
@given(st.text(alphabet="xt1.^' \n(", max_size=12))
def test_letters_of_other_alphabets_change_nothing(text: str) -> None:
    plain, indices = to_python(text, 3)
    other, moved = to_python(text + "\u03c9", 3)
    assert (other[:-1], moved[: len(plain.encode())]) == (plain, indices[:-1])


LEAVES = st.sampled_from(["x", "y", "k'", "2", "3", "0.5", "1", "0", "pi"])


def grown(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    shapes = [
        "({} + {})",
        "({} - {})",
        "({}*{})",
        "({}/(3 + ({})^2))",
        "({} - {} - {})",
        "-({})",
        "({})^2",
        "({})^3",
        "({})^1",
    ]
    shapes += [
        "sin({})",
        "exp({}/9)",
        "max({}, {})",
        "where({} < {}, {}, {})",
        "({})^{}",
        "abs({})",
        "({}*{}/5)",
        "(2*{}/(4*exp({}/9)))",
    ]
    return st.sampled_from(shapes).flatmap(
        lambda shape: st.tuples(*[inner] * shape.count("{}")).map(lambda parts: shape.format(*parts))
    )


FORMULAS = st.recursive(LEAVES, grown, max_leaves=14)
VALUES = {"x": 1.37, "y": -0.83, "k'": 2.21}


def value(node: Node) -> float:
    return float(evaluate(node, VALUES))


def close(a: float, b: float) -> bool:
    return math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-9) or not (math.isfinite(a) and math.isfinite(b))


@settings(max_examples=300, deadline=None)
@given(FORMULAS)
@pytest.mark.long
def test_simplifying_keeps_the_value(formula: str) -> None:
    node = read(Source(formula)).node
    short = rewrite(node, simplified, {})
    assert close(value(node), value(short)), to_text(short)
    # and is done once: nothing is left to take out
    assert rewrite(short, simplified, {}) is short or close(value(rewrite(short, simplified, {})), value(short))


@settings(max_examples=200, deadline=None)
@given(FORMULAS, FORMULAS)
@pytest.mark.long
def test_common_factors_cancel_without_harm(above: str, below: str) -> None:
    top, bottom = (rewrite(read(Source(text)).node, simplified, {}) for text in (above, below))
    if value(bottom) != 0.0:
        assert close(value(top) / value(bottom), value(ratio_of_sums(top, bottom)))


def test_what_is_written_is_short() -> None:
    def short(text: str) -> str:
        return to_text(rewrite(read(Source(text)).node, simplified, {}))

    assert short("2*m*x/2") == "m*x"
    assert short("0*x + 1*y - -z") == "y + z"
    assert short("-(a - b)") == "b - a"
    assert short("x^1*y^0") == "x"
    assert short("(2*p)*(1/(2*m))") == "p/m"
    assert short("x/3*3") == "x"
    assert short("a*b - c + 2*b*a - 3*a*b") == "-c"
    assert short("k*x - m + k*x") == "2*k*x - m"
    assert short("a*sin(x)^2*sin(y)^2 + a*sin(x)^2*cos(y)^2 + a*cos(x)^2") == "a"
    assert short("1e308*1e308*x") == "1e+308*1e+308*x"
    quotient = ratio_of_sums(read(Source("-2*d*g*z - c*d*v/2")).node, read(Source("d*l")).node)
    assert to_text(quotient) == "(-2*g*z - c*v/2)/l"


LATEX = [
    ("sqrt(x + 1)/abs(y)", r"\frac{\sqrt{x + 1}}{\left|y\right|}"),
    ("(a - b)*c^2/(d + 1)", r"\frac{\left(a - b\right) \, c^{2}}{d + 1}"),
    ("-(x + 1)", r"-\left(x + 1\right)"),
    ("a - (b - c)", r"a - \left(b - c\right)"),
    ("(a + b)^(1/2)", r"\left(a + b\right)^{\frac{1}{2}}"),
    ("where(t < 2 and x >= 1, a, -b)",
     r"\begin{cases} a & t < 2 \ \mathrm{and}\ x \ge 1 \\ -b & \text{otherwise} \end{cases}"),
    ("not (x > 1 or y <= 2)", r"\mathrm{not}\ \left(x > 1 \ \mathrm{or}\ y \le 2\right)"),
    ("k_max*alpha^2*x1", r"k_{\mathrm{max}} \, \alpha^{2} \, x_{1}"),
    ("sin(2*pi*t/tide)", r"\sin\left(\frac{2 \, \pi \, t}{\mathrm{tide}}\right)"),
    ("1e-5*x + 2.5e6", r"1 \cdot 10^{-5} \, x + 2500000"),
    ("a - -3", r"a + 3"),
    ("min(a, b)*2", r"\min\left(a, b\right) \, 2"),
    ("x^-1.5", r"x^{-1.5}"),
    ("-x^2", r"-x^{2}"),
    ("(-x)^2", r"\left(-x\right)^{2}"),
    ("a*(b/c)", r"a \, \frac{b}{c}"),
    ("2*(x*y)", r"2 \, x \, y"),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "latex"), LATEX)
def test_latex_as_one_would_write_it(formula: str, latex: str) -> None:
    assert to_latex(read(Source(formula)).node) == latex


@settings(max_examples=300, deadline=None)
@given(FORMULAS)
@pytest.mark.long
def test_texts_read_back(formula: str) -> None:
    node = read(Source(formula)).node
    text = to_text(node)
    again = read(Source(text)).node
    assert close(value(node), value(again)), text
    assert to_text(again) == text
    latex = to_latex(node)
    assert latex.count("{") == latex.count("}")
    assert latex.count(r"\left") == latex.count(r"\right")


@settings(max_examples=200, deadline=None)
@given(FORMULAS)
@pytest.mark.long
def test_derivatives_against_differences(formula: str) -> None:
    node = read(Source(formula)).node
    derivative = Differentiator(["x"]).by_name(node).get("x", number(0.0))
    step = 1e-5
    around = [float(evaluate(node, {**VALUES, "x": VALUES["x"] + d * step})) for d in (-2, -1, 1, 2)]
    if not all(map(math.isfinite, around)) or max(map(abs, around)) > 1e4:
        return
    inner, outer = (around[2] - around[1]) / (2 * step), (around[3] - around[0]) / (4 * step)
    # where the two differences disagree there is a kink, or the formula is too wild for them
    if abs(inner - outer) < 1e-5 * (1 + abs(inner)):
        found = value(derivative)
        assert abs(found - inner) < 1e-4 * (1 + abs(inner)) or not math.isfinite(found)


def test_equal_trees_are_one_object() -> None:
    one, other = (read(Source(text)).node for text in ("a*(b + sin(t))", " a *(b+sin( t ))"))
    assert one is other
    assert pickle.loads(pickle.dumps(one)) is one
    assert number(0.0) is not number(-0.0)
    assert math.copysign(1.0, float(evaluate(number(-0.0), {}))) == -1.0
    assert Node("at", "u", name("i")) is not Node("at", "v", name("i"))


@pytest.mark.long
def test_nothing_recurses_into_long_chains() -> None:
    # each derived quantity uses the one before, written out: a tree of two thousand levels and 2^2000 leaves
    n = 2000
    lines = ["x' = -x + 0*d1999", "d0 = x + 1"] + [f"d{i} = (d{i - 1} + d{i - 1})/2" for i in range(1, n)]
    problem = uh.Problem.from_text("\n".join(lines), initial={"x": 1}, interval=(0, 1))
    for method in ("dormand-prince-54", "radau-iia-5"):
        run = uh.integrate(problem, method, rtol=1e-8)
        assert run["d1999"] == pytest.approx(run["x"] + 1, rel=1e-12)
    tree = name("x")
    for _ in range(5000):
        tree = add(neg(tree), number(1.0))
    assert len(list(upwards(tree))) == 10_002
    assert len(to_text(tree)) < 200_000
    assert value(tree) == pytest.approx(1.37)


CARETS = [
    ("x' = 2*z'' + wrong(1)", "w"),
    ("x' = u[i]'' + wrong(1)", "w"),
    ("x' = é*é^2 + wrong(1)", "w"),
    ("x' = 1..n + 1", "1"),
    ("x' = y ″ wrong", "″"),
    ("x' = (a +\n  b +\n  wrong(2))", "w"),
    ("x' = sum(u[i] for i in wrong)", "s"),
    ("x'=a^b^2^wrong(3)", "w"),
    ("x' = a | b", "|"),
    ("x' = t''", "t"),
    ("x' = x^1e9", "1"),
]


@pytest.mark.parametrize(("text", "pointed"), CARETS, ids=[text for text, _ in CARETS])
def test_the_caret_stands_under_the_culprit(text: str, pointed: str) -> None:
    with pytest.raises(errors.ExpressionError) as caught:
        uh.Problem.from_text(text, initial={"x": 1}, interval=(0, 1))
    lines = caught.value.location.splitlines()
    shown, caret = lines[-2], lines[-1]
    assert shown[caret.index("^")] == pointed


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.sampled_from(["+", "-", "*", "/", "^", "<", "and", "(", ")", "x", "x'", "3", "u[2]", ","]), max_size=9)
)
def test_what_python_cannot_read_neither_can_we(parts: list[str]) -> None:
    text = " ".join(parts)
    try:
        node = read(Source(text)).node
    except errors.ExpressionError:
        return
    assert to_text(node)


def test_values_over_grids_and_sums() -> None:
    written = read(Source("sum(i*k for k in 1..3)*x + sum(1 for k in 2..5) + sum(a*b for a in 1..2 for b in 1..2)"))
    grid = np.arange(4.0)
    assert evaluate(written.node, {"x": 2.0, "i": grid}) == pytest.approx(12 * grid + 4 + 9)


@pytest.mark.parametrize(
    "nest",
    ["({} < 1)", "(1 < {})", "(x < {} < 2)", "-{}", "(not {})", "(x < 1 and {})", "({} or x < 1)", "abs({})", "2^({})"]
    + ["({})^2", "(1 - {})", "where({}, x, 1)", "where(x < 1, {}, 1)", "max(x, {})", "(x/({}))"],
)
def test_how_deep_formulas_may_be_nested(nest: str) -> None:
    before, after = nest.split("{}")
    for levels, wrong in ((98, False), (101, True), (190, True)):
        text = before * levels + "x" + after * levels
        if wrong:
            with pytest.raises(uh.HeronError, match=r"nested too deeply|too many nested"):
                uh.Problem.from_text(f"x' = {text}", initial={"x": 1}, interval=(0, 1))
        else:
            uh.Problem.from_text(f"x' = {text}", initial={"x": 1}, interval=(0, 1))
