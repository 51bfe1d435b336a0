"""Saying a problem, and every way of saying it wrong."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import POND, POND_VALUES
from hypothesis import example, given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors


def test_lines_in_any_order_say_the_same(pond: uh.Problem) -> None:
    turned = uh.Problem.from_text("\n".join(reversed(POND.splitlines())), **POND_VALUES)
    assert uh.integrate(turned).final == uh.integrate(pond).final
    assert set(turned.derived) == {"inflow", "spill"}


def test_changed_copies(pond: uh.Problem) -> None:
    other = pond.with_(parameters={"crest": 0.6}, initial={"level": 0.5}, interval=(0, 10))
    assert (pond.parameters["crest"], pond.initial["level"], pond.interval) == (0.8, 0.4, (0.0, 72.0))
    assert (other.parameters["crest"], other.initial["level"], other.interval) == (0.6, 0.5, (0.0, 10.0))
    assert other.model is pond.model
    assert other.fingerprint != pond.fingerprint == uh.Problem.from_text(POND, **POND_VALUES).fingerprint
    with pytest.raises(TypeError):
        pond.parameters["crest"] = 1.0  # type: ignore[index]  # immutable on purpose
    with pytest.raises(uh.FormulationError, match="did you mean 'crest'"):
        pond.with_(parameters={"crst": 1})


WRONG = [
    (
        {"equations": POND.replace("crest", "crset").replace("swing", "swnig")},
        errors.UndefinedNameError,
        "crset",
    ),
    ({"equations": POND.replace("width *", "width2 *")}, errors.UndefinedNameError, "did you mean 'width'"),
    ({"initial": {}}, errors.MissingInitialError, "level"),
    ({"initial": {"level": 1, "lvl": 2}}, errors.UnusedValueError, "did you mean 'level'"),
    ({"parameters": {**POND_VALUES["parameters"], "depth": 2}}, errors.UnusedValueError, "depth"),
    ({"equations": POND + "area = 3"}, errors.NameClashError, "area"),
    ({"equations": POND + "level = 3"}, errors.NameClashError, "twice"),
    ({"equations": POND + "sin = 3"}, errors.NameClashError, "built in"),
    ({"equations": POND + "t' = 1"}, errors.NameClashError, "the time"),
    (
        {"equations": "level' = silt - level", "initial": {"level": 1, "silt": 1}},
        errors.MissingRateError,
        "silt",
    ),
    (
        {"equations": POND + "a = b + 1\nb = c\nc = a"},
        errors.CircularDerivedError,
        "a needs b needs c needs a",
    ),
    ({"initial": {"level": float("nan")}}, errors.ValueGivenError, "not finite"),
    ({"initial": {"level": b"1"}}, errors.ValueGivenError, "not a number"),
    ({"initial": {"level": "2*crset"}}, errors.UndefinedNameError, "did you mean 'crest'"),
    ({"parameters": {**POND_VALUES["parameters"], "area": True}}, errors.ValueGivenError, "area"),
    ({"interval": (3, 3)}, errors.IntervalError, "empty"),
    ({"interval": (0,)}, errors.IntervalError, "two ends"),
    ({"interval": (0, float("inf"))}, errors.ValueGivenError, "not finite"),
    ({"equations": "level'' = 1"}, errors.MissingInitialError, "level'"),
    ({"equations": "level' = level'"}, errors.OrderError, "no highest derivative"),
    ({"equations": "level' + 1 == 2"}, errors.ExpressionError, "cannot read this line"),
    ({"equations": "depth = 2"}, errors.ExpressionError, "no rate"),
    ({"events": ["level = 1"]}, errors.ValueGivenError, "Event objects"),
    ({"events": [uh.Event("level != 1")]}, errors.ExpressionError, "one equation"),
    ({"events": [uh.Event("levle = 1")]}, errors.UndefinedNameError, "did you mean 'level'"),
    (
        {"events": [uh.Event("level = 1", name="a"), uh.Event("level = 2", name="a")]},
        errors.NameClashError,
        "two events",
    ),
    ({"units": {"levle": "m"}}, errors.UnusedValueError, "did you mean 'level'"),
    ({"exact": {"levle": "1"}}, errors.UnusedValueError, "did you mean 'level'"),
    ({"exact": {"level": "level + 1"}}, errors.UndefinedNameError, "level"),
    ({"exact": {"level": "exp(i*t)"}}, errors.UndefinedNameError, "used in closed forms: 'i'"),
]


@pytest.mark.parametrize(("changes", "kind", "words"), WRONG, ids=[f"{k.__name__}: {w}" for _, k, w in WRONG])
def test_wrong_problems_are_refused_by_name(changes: dict, kind: type, words: str) -> None:
    user_input = {"equations": POND, **POND_VALUES, **changes}
    with pytest.raises(kind, match=words) as caught:
        uh.Problem.from_text(user_input.pop("equations"), **user_input)
    error = caught.value
    assert isinstance(error, uh.HeronError)
    assert error.location
    assert error.expected
    assert error.given


def test_all_missing_names_at_once_with_their_places() -> None:
    with pytest.raises(errors.UndefinedNameError) as caught:
        uh.Problem.from_text(POND, initial={"level": 1}, interval=(0, 1))
    assert set(caught.value.names) == set(POND_VALUES["parameters"])
    assert "line 3, column 12" in str(caught.value)


NOT_ALLOWED = [
    ("x.real", "attribute"),
    ("[x, x][0]", "subscript"),
    ("(lambda: 1)()", "only named functions"),
    ("(x + 1 for x in y)", "comprehension"),
    ("__import__(x)", "no function"),
    ("open", "not defined"),
    ("__x", "underscore"),
    ("1 if x else 2", "if-else"),
    ("'text'", "no name"),
    ("9^9^9", "too large"),
    ("x^1e9", "too large"),
    ("1e999", "too large"),
    ("2j*x", "real numbers"),
    ("x @ x", "operator"),
    ("x // 2", "operator"),
    ("sin", "parentheses"),
    ("sin(x, x)", "number of arguments"),
    ("max(x)", "number of arguments"),
    ("sin(v=x)", "one equals sign"),
    ("2 x", "cannot read"),
    ("x +", "cannot read"),
    ("", "empty"),
    ("-" * 5000 + "x", "too deeply"),
    ("(" * 150 + "x" + ")" * 150, ""),
    ("sin(" * 190 + "x" + ")" * 190, "too deeply"),
]


@pytest.mark.parametrize(("formula", "words"), NOT_ALLOWED, ids=[w or "parentheses" for _, w in NOT_ALLOWED])
def test_nothing_but_formulas(formula: str, words: str) -> None:
    user_input = {"initial": {"x": 1.0}, "interval": (0, 1)}
    if not words:
        assert uh.Problem.from_text(f"x' = {formula}", **user_input).states == ("x",)
        return
    with pytest.raises(uh.FormulationError, match=words) as caught:
        uh.Problem.from_text(f"x' = {formula}", **user_input)
    assert "line 1" in str(caught.value) or "the equations" in caught.value.location


def test_long_sums_are_not_deep() -> None:
    problem = uh.Problem.from_text("x' = " + " + ".join(["x"] * 900) + " - 899*x", initial={"x": 1}, interval=(0, 1))
    assert uh.integrate(problem).final["x"] == pytest.approx(np.e, rel=1e-6)


FRAGMENTS = st.sampled_from(
    [
        "x",
        "x'",
        "level",
        " = ",
        "'",
        "^",
        "**",
        "(",
        ")",
        "+",
        "-",
        "*",
        "/",
        "sin",
        "max(",
        ",",
        "1e9",
        "\n",
        "#",
    ]
    + [
        "and ",
        "not ",
        "<",
        "==",
        "__",
        ".",
        "[",
        "]",
        "lambda:",
        "if",
        "\\",
        "\x00",
        "é",
        "′",
        "{",
        "t",
        "0x",
        "1_0",
    ]
)


@settings(max_examples=300, deadline=None)
@given(st.one_of(st.text(), st.lists(FRAGMENTS, max_size=25).map("".join)))
@example("x' = \ud800")
@example("x' = (\n")
@example("ª' = ª")
@pytest.mark.long
def test_junk_ends_in_a_problem_or_our_own_error(text: str) -> None:
    for equations in (text, f"x' = {text}"):
        try:
            problem = uh.Problem.from_text(equations, initial={"x": 1.0}, interval=(0, 1))
        except uh.HeronError:
            continue
        assert problem.states == ("x",)


def test_meaning_of_every_operation() -> None:
    # each value by Python's own mathematics, at x = 0.3
    import math

    x = 0.3
    meanings = {
        "sin(x) + cos(x) + tan(x)": math.sin(x) + math.cos(x) + math.tan(x),
        "asin(x) + acos(x) + atan(x) + atan2(x, -2)": math.asin(x) + math.acos(x) + math.atan(x) + math.atan2(x, -2),
        "sinh(x)*cosh(x)/tanh(x)": math.sinh(x) * math.cosh(x) / math.tanh(x),
        "exp(x) + log(x) + log10(x) + sqrt(x)": math.exp(x) + math.log(x) + math.log10(x) + math.sqrt(x),
        "abs(-x) + sign(-x) + sign(x - x) + min(x, 1, -4) + max(x, 1, -4)": x - 1 - 4 + 1,
        "floor(-x) + ceil(x) + step(x) + step(-x) + pulse(x, 0, 1) + pulse(x, 0.4, 1)": -1 + 1 + 1 + 0 + 1 + 0,
        "where(x < 1 and not x > 0.5, 10, 20) + (0 < x <= 0.3) + (x == 1 or x != 2)": 12,
        "2*x^2 - -x^2 + 2^-1 + x^0.5 + x^-1.5 + 2^x": 2 * x**2 + x**2 + 0.5 + x**0.5 + x**-1.5 + 2**x,
        "8/2/2*3 - 1 - 2 + 2^3^2": 3 + 512,
        "pi + e": math.pi + math.e,
    }
    lines = "\n".join(f"d{i} = {formula}" for i, formula in enumerate(meanings))
    problem = uh.Problem.from_text(f"x' = 0\n{lines}", initial={"x": x}, interval=(0, 1))
    final = uh.integrate(problem).final
    for i, (formula, value) in enumerate(meanings.items()):
        assert final[f"d{i}"] == pytest.approx(value, rel=1e-14), formula


def test_plain_numbers_leave_all_units_what_they_were() -> None:
    problem = uh.Problem.from_text("x' = f - k*x", parameters={"k": "2 1/h", "f": "3 m/h"}, initial={"x": "1 m"},
                                   interval=("0 h", "1 d"))  # fmt: skip
    for change in ({"interval": (0, 24)}, {"parameters": {"k": 2}}, {"initial": {"x": 1.0}}):
        again = problem.with_(**change)
        assert (again.units, again.parameters, again.initial) == (problem.units, problem.parameters, problem.initial)
        assert again.interval == (0, 24)
    assert problem.with_(interval=("0 min", "90 min")).interval == (0, 1.5)


CHANGES = [
    ({"a": 2, "b": 3.5}, {"x": 1, "y": 2}, {"a": 7.5}, {"y": -1}),
    ({"a": 2, "b": "3*a"}, {"x": 1, "y": 2}, {"a": 5}, {}),
    ({"a": 2, "b": 3.5}, {"x": "a + b", "y": 2}, {"a": 5}, {"y": 4.0}),
    ({"a": "20 1/s", "b": 3.5}, {"x": 1, "y": 2}, {"a": 5}, {"x": "30"}),
    ({"a": 2, "b": 3.5}, {"x": 1, "y": 2}, {"a": "5 1/h", "b": 4}, {"x": "3*b"}),
    ({"a": 2, "b": None}, {"x": 1, "y": 2}, {"b": 5}, {}),
    ({"a": 2, "b": 3}, {"u[i]": 4, "x": 1}, {"a": 4}, {"u[2]": 5, "x": 9}),
]


@pytest.mark.parametrize(("parameters", "initial", "changed", "begun"), CHANGES)
def test_a_changed_copy_is_what_its_words_would_make(
    parameters: dict, initial: dict, changed: dict, begun: dict
) -> None:
    text = "x' = -a*x + b\n" + ("y' = x - b*y" if "y" in initial else "u[i]' = b*x - u[i] for i in 1..a")

    def made(parameters: dict, initial: dict, units: dict | None = None) -> uh.Problem:
        return uh.Problem.from_text(text, parameters=parameters, initial=initial, interval=("0 s", "4 s"), units=units)

    before = made(parameters, initial)
    one = before.with_(parameters=changed, initial=begun)
    # a plain number in the place of a quantity is in the unit that this had
    plain = {
        name for name, value in changed.items() if not isinstance(value, str) and isinstance(parameters[name], str)
    }
    kept = {name: before.units[name] for name in plain if name in before.units}
    other = made({**parameters, **changed}, {**initial, **begun}, kept)
    assert one == other
    assert one.fingerprint == other.fingerprint
    assert (dict(one.parameters), dict(one.initial), dict(one.units)) == (
        dict(other.parameters),
        dict(other.initial),
        dict(other.units),
    )
    assert one.assembled.definitions == other.assembled.definitions
    # and once more from the copy
    again = one.with_(parameters=changed).with_(parameters=parameters, initial=initial)
    assert dict(again.initial).items() >= {key: 2.0 for key in initial if key == "y"}.items()


@pytest.mark.parametrize("wrong", [np.nan, np.inf, 1e999, True, "2 kg", 10**400])
def test_a_changed_copy_refuses_what_a_new_one_does(wrong: object) -> None:
    words = {"initial": {"x": 1}, "interval": ("0 s", "4 s"), "units": {"x": "m", "a": "1/s"}}
    problem = uh.Problem.from_text("x' = -a*x", parameters={"a": 2}, **words)
    with pytest.raises(uh.HeronError) as new:
        uh.Problem.from_text("x' = -a*x", parameters={"a": wrong}, **words)
    with pytest.raises(type(new.value)):
        problem.with_(parameters={"a": wrong})


VALUES = {"parameters": {"k": 2.0}, "interval": (0, 1)}
MOVING = VALUES | {"initial": {"z": 1, "z'": 0}, "units": {"z": "m", "t": "s", "k": "m"}}
DISAGREEING = {
    "text": lambda **options: uh.Problem.from_text("z'' = -k*z", **MOVING, **options),
    "energies": lambda **options: uh.Problem.from_lagrangian(
        "kinetic = z'^2/2\npotential = k*z^2/2", ["z"], **MOVING, **options
    ),
    "forces": lambda **options: uh.Problem.from_lagrangian(
        "kinetic = z'^2/2\npotential = 0", ["z"], forces={"z": "k"}, **MOVING, **options
    ),
    "hamiltonian": lambda **options: uh.Problem.from_hamiltonian(
        "hamiltonian = p^2/2 + k*z^2/2", {"z": "p"}, initial={"z": 1, "p": 0},
        units={"z": "m", "t": "s", "k": "m", "p": "m/s"}, **VALUES, **options,
    ),
}  # fmt: skip


@pytest.mark.parametrize("way", DISAGREEING)
def test_units_that_disagree_are_refused_however_a_problem_is_given(way: str) -> None:
    with pytest.raises(uh.FormulationError, match=r"unit|disagree"):
        DISAGREEING[way]()
    assert DISAGREEING[way](check_units=False).check_units()


@pytest.mark.parametrize(
    ("time", "state", "report"),
    [
        (0, [1.0], r"shape \(1,\)"), (0, np.zeros((2, 2, 2)), r"shape \(2, 2, 2\)"), (0, 3.0, r"shape \(\)"),
        ([[0, 1]], [1.0, 2.0], r"times of shape \(1, 2\)"), (0, {"x": 1}, "have no value: y"),
        (0, {"x": 1, "y": 2, "z": 3}, "no state 'z'"), (0, {"x": 1, "y": "two"}, "no times and states"),
        ([0, 1, 2], np.zeros((2, 2)), "rows"),
    ],
)  # fmt: skip
def test_states_that_do_not_fit_are_refused(time: object, state: object, report: str) -> None:
    problem = uh.Problem.from_text("x' = y\ny' = -x", initial={"x": 1, "y": 0}, interval=(0, 1))
    for ask in (problem.rates_at, problem.jacobian_at):
        with pytest.raises(uh.OptionError, match=report):
            ask(time, state)
