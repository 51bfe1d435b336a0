"""Units: numbers converted exactly, and every disagreement named with its two units."""

from __future__ import annotations

import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.units.quantities import number_in
from unhurried_heron.units.unit import read_unit

POND = """
level'  = (inflow - spill) / area
inflow  = base + swing*sin(2*pi*t/tide)
spill   = width * max(level - crest, 0)^1.5
"""
SAID = {
    "parameters": {
        "area": "1800 m^2",
        "base": "25 l/s",
        "swing": "70 m^3/h",
        "tide": "12.4 h",
        "width": "640 m^1.5/h",
        "crest": "80 cm",
    },
    "initial": {"level": "400 mm"},
    "interval": (0, "3 d"),
    "units": {"t": "h", "level": "m", "inflow": "m^3/h", "spill": "m^3/h"},
}


def pond(equations: str = POND, **changes) -> uh.Problem:
    user_input = {
        key: ({**value, **changes[key]} if isinstance(value, dict) and key in changes else value)
        for key, value in SAID.items()
    }
    return uh.Problem.from_text(equations, **{**changes, **user_input})


def test_values_come_in_the_units_of_the_states() -> None:
    problem = pond(events=[uh.Event("level = 85 cm", name="high", going="up")])
    assert problem.parameters == {"area": 1800, "base": 90, "swing": 70, "tide": 12.4, "width": 640, "crest": 0.8}
    assert problem.initial["level"] == 0.4
    assert problem.interval == (0.0, 72.0)
    assert problem.units["base"] == "m^3/h"
    assert problem.check_units() == ()
    run = uh.integrate(problem, rtol=1e-10)
    assert run.events.iloc[:, 2].to_numpy() == pytest.approx([0.85] * len(run.events), abs=1e-9)
    plain = uh.Problem.from_text(POND, parameters=problem.parameters, initial={"level": 0.4}, interval=(0, 72))
    assert uh.integrate(plain, rtol=1e-10).final == run.final
    again = problem.with_(parameters={"crest": "1 m"}, initial={"level": "50 cm"}, interval=(0, "90 min"))
    assert (again.parameters["crest"], again.initial["level"], again.interval[1]) == (1.0, 0.5, 1.5)


def test_states_without_declared_units_take_those_that_fit_together() -> None:
    problem = uh.Problem.from_text(
        "m*a'' + c*(a' - b') + k*a = 0\nb' = -b/late + a'\nlate = 2*pi/turn\nmass' = -mass/late",
        parameters={"m": "500 g", "c": "0.3 N*s/m", "k": "5 N/m", "turn": "2*pi/period", "period": "3 min"},
        initial={"a": "10 cm", "a'": "3 m/min", "b": "5 mm", "mass": "7 g"},
        interval=("0 s", "2 min"),
    )
    # the first length is a's, the first mass that of mass, and everything else follows them
    assert {key: problem.units[key] for key in ("t", "a", "a'", "b", "mass")} == {
        "t": "s", "a": "cm", "a'": "cm/s", "b": "cm", "mass": "g"
    }  # fmt: skip
    assert dict(problem.initial) == pytest.approx({"a": 10, "a'": 5, "b": 0.5, "mass": 7})
    assert problem.parameters["m"] == 500
    assert problem.parameters["c"] == pytest.approx(300)
    # the unit of a parameter made of others is that of its formula
    assert problem.check_units() == ()
    wrong = uh.Problem.from_text(
        "x' = x*turn",
        parameters={"turn": "2*pi*period", "period": "3 s"},
        initial={"x": "1 m"},
        interval=("0 s", "1 s"),
        check_units=False,
    )
    assert "'x*turn' is in m*s" in str(wrong.check_units()[0])


def test_units_follow_the_declared_ones() -> None:
    user_input = {"initial": {"level": "2 m", "flow": "1 m^3/s", "salt": "3 mol/l"}, "interval": (0, "1 h")}
    problem = uh.Problem.from_text(
        "level' = flow/area\nflow' = -k*flow\nsalt' = gain", units={"t": "min"}, **user_input,
        parameters={"area": "2 m^2", "k": "1 1/h", "gain": "1 mmol/l/s"},
    )  # fmt: skip
    assert (problem.units["flow"], problem.initial["flow"]) == ("m^3/min", 60.0)
    # no name of a single unit fits, but a rate of a declared one does
    assert (problem.units["gain"], problem.parameters["gain"]) == ("mol/l/min", pytest.approx(0.06))
    assert problem.check_units() == ()
    # a word of a declared unit names what it is made of
    dosed = uh.Problem.from_text("dose' = -dose^2/held", initial={"dose": "2 kmol/h"}, parameters={"held": "500 mol"},
                                 interval=("0 h", "3 h"))  # fmt: skip
    assert (dosed.units["held"], dosed.parameters["held"]) == ("kmol", 0.5)
    # states and time come first, whatever is declared of others
    narrow = uh.Problem.from_text(
        "level' = reach*width", initial={"level": "2 m"}, parameters={"width": "3 cm", "reach": "3 km"},
        interval=(0, 1), units={"width": "cm", "level": "m", "t": "h"}, events=[uh.Event("2*level = 8 m")],
        check_units=False,
    )  # fmt: skip
    assert (narrow.parameters["reach"], narrow.parameters["width"]) == (3000, 3)
    assert uh.integrate(narrow).events.iloc[0, 2] == pytest.approx(4)
    forced = uh.Problem.from_text(
        "f' = 0*m\nw' = f*v",
        initial={"f": "1 mN", "w": "1 J"},
        parameters={"v": "3 m/s", "m": "5 g"},
        interval=(0, 1),
        check_units=False,
    )
    assert dict(forced.parameters) == {"v": 3, "m": 5}
    events = [uh.Event("2*level' = 1 mm/min")]
    rising = uh.Problem.from_text("level' = t", initial={"level": "1 m"}, interval=(0, "1 h"), events=events,
                                  check_units=False)  # fmt: skip
    assert uh.integrate(rising).events["time"][0] == pytest.approx(0.03)
    plain = uh.Problem.from_text(
        "x' = k*x + 0*n", initial={"x": "5 %"}, parameters={"k": "2 rad", "n": "2 mol"}, interval=(0, 1)
    )
    assert plain.parameters["n"] == 2
    assert (plain.initial["x"], plain.units.get("x", ""), plain.units.get("k", "")) == (0.05, "", "")
    user_input = {"parameters": {"k": "1 1/min"}, "interval": (0, 1)}
    slow = uh.Problem.from_text("z'' = -k*z'", initial={"z": 1, "z'": "2 m/s"}, units={"t": "s"}, **user_input)
    assert (slow.units["z'"], slow.parameters["k"]) == ("m/s", pytest.approx(1 / 60))
    # km and m/s fit together with a time in thousands of seconds, which nobody meant
    with pytest.raises(errors.UnitError, match=r"where 1/\(1000 s\) would fit"):
        uh.Problem.from_text("z'' = -k*z'", initial={"z": "1 km", "z'": "2 m/s"}, **user_input)
    with pytest.raises(errors.UnitError, match="initial, 'flow'"):
        problem.with_(initial={"flow": "3 bogus"})


@pytest.mark.parametrize(
    ("given", "unit", "wanted"),
    [
        ("1 d", "h", 24.0),
        ("90 min", "h", 1.5),
        ("12 degC", "K", 285.15),
        ("50 degF", "degC", 10.0),
        ("10 degC", "degF", 50.0),
        ("300 K", "degC", 26.85),
        ("3 W/degC", "W/K", 3.0),
        ("5 %", "", 0.05),
        ("0.1 1/d", "1/h", 0.1 / 24),
        ("2 mol/l", "mmol/m^3", 2e6),
        ("-1e-3 km", "m", -1.0),
        ("7m", "cm", 700.0),
    ],
)
def test_conversions(given: str, unit: str, wanted: float) -> None:
    problem = uh.Problem.from_text(
        "x' = k*x", parameters={"k": given}, initial={"x": 1}, interval=(0, 1), units={"k": unit} if unit else {}
    )
    # as people would compute it, to the last digit, but for degrees
    assert problem.parameters["k"] == pytest.approx(wanted, rel=1e-13 if "degC" in given + unit else 0, abs=0)


DISAGREE = [
    ({"equations": POND.replace("2*pi*t/tide", "2*pi*t") + "half = tide/2"}, "argument of sin", "'2*pi*t' is in h"),
    ({"equations": POND.replace("- spill", "- level")}, "'inflow' is in m^3/h", "'level' is in m"),
    ({"equations": POND.replace("^1.5", "^2")}, "'spill' is in m^3/h", "in m^3.5/h"),
    ({"equations": POND.replace("crest, 0", "crest, area")}, "'level - crest' is in m", "'area' is in m^2"),
    ({"equations": POND.replace("/ area", "/ area^2")}, "'level'' is in m/h", "1/m/h"),
    ({"equations": POND + "late = where(t > 3, 1, 2)"}, "'t' is in h", "'3' is a plain number"),
    ({"equations": POND + "root = sqrt(area) + crest^level"}, "an exponent must be a plain number", "'level' is in m"),
    ({"units": {"spill": "l/s"}}, "'spill' is in l/s", "in m^3/h"),
    ({"events": [uh.Event("level = area")]}, "'level' is in m", "'area' is in m^2"),
    ({"events": [uh.Event("level = 1.2")]}, "'level' is in m", "'1.2' is a plain number"),
    ({"parameters": {"crest": "2 * tide"}, "units": {"crest": "m"}}, "'crest' is in m", "'2 * tide' is in h"),
]


@pytest.mark.parametrize(("changes", "one", "other"), DISAGREE, ids=[one for _, one, _ in DISAGREE])
def test_every_disagreement_is_named(changes: dict, one: str, other: str) -> None:
    (found, *more) = pond(**changes, check_units=False).check_units()
    with pytest.raises(errors.UnitError, match=re.escape(one)):
        pond(**changes)
    if "events" in changes:
        with pytest.raises(errors.UnitError, match="check_units=False"):
            pond().with_(events=changes["events"])
    assert len(more) == (one == "'spill' is in l/s")
    assert one in str(found)
    assert other in str(found)
    assert found.location.startswith(("line ", "the event", "parameters"))


def test_nothing_is_asked_without_units() -> None:
    plain = uh.Problem.from_text("x' = sin(t) + x^1.5 - t", initial={"x": 1}, interval=(0, 1))
    assert plain.check_units() == ()
    # what has no unit is not guessed at
    some = uh.Problem.from_text(
        "x' = k*x + m", initial={"x": 1}, parameters={"k": 1, "m": 2}, interval=(0, 1), units={"x": "m", "t": "s"}
    )
    assert some.check_units() == ()


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"initial": {"level": "3 h"}}, "another kind"),
        ({"parameters": {"tide": "3 florins"}}, "no unit"),
        ({"units": {"level": "metre^^2"}}, "no unit"),
        ({"interval": (0, "3 m")}, "another kind"),
        ({"events": [uh.Event("level = 3 h")]}, "another kind"),
        ({"parameters": {"area": "1800 m^999"}}, "no unit"),
    ],
)
def test_units_that_are_none_or_of_another_kind(changes: dict, words: str) -> None:
    user_input = {
        **SAID,
        **{key: {**SAID[key], **value} if isinstance(value, dict) else value for key, value in changes.items()},
    }
    with pytest.raises(errors.UnitError, match=words):
        uh.Problem.from_text(POND, **user_input).check_units()


@settings(max_examples=200, deadline=None)
@given(
    st.one_of(
        st.text(max_size=30),
        st.lists(
            st.sampled_from(["m", "h", "kg", "^", "**", "*", "/", "(", ")", "-", "1", "9", "%", "e5", "__", ".", "l/s"])
        ).map("".join),
    )
)
def test_junk_is_a_unit_or_our_own_error(text: str) -> None:
    try:
        unit = read_unit(text)
    except errors.UnitError:
        return
    assert unit.factor > 0


@pytest.mark.parametrize(
    ("text", "same"), [("m^(1/2)", "m^0.5"), ("kg/s**(-1/2)", "kg*s^0.5"), ("m^-2", "1/m^2"), ("m^(1/2)/4", None),
                       ("m^(2)3", None), ("2*m", None), ("m^20", "m^(20)"), ("m^21", None), ("1", "m/m"),
                       ("m*" * 39 + "m", "*".join(["m"] * 40)), ("m*" * 40 + "m", None), ("Ym^20", None),
                       ("ym^20", None), ("m/4", None), ("m^0.1*m^0.2", "m^0.3")]
)  # fmt: skip
def test_exponents_of_units(text: str, same: str | None) -> None:
    if same is not None:
        assert read_unit(text) == read_unit(same)
        return
    with pytest.raises(errors.UnitError, match=r"the number|81 characters|too large or too small"):
        read_unit(text)


@pytest.mark.parametrize(("unit", "agrees"), [("m/s^2", True), ("m/s", False), ("m", False), ("km/h/s", False)])
def test_units_of_second_derivatives(unit: str, agrees: bool) -> None:
    problem = uh.Problem.from_text(
        "z'' = push",
        initial={"z": 0, "z'": 0},
        parameters={"push": 1},
        interval=(0, 1),
        units={"z": "m", "t": "s", "push": unit},
        check_units=False,
    )
    assert (problem.check_units() == ()) is agrees
    third = uh.Problem.from_text(
        "z''' = -z",
        initial={"z": 0, "z'": 0, "z''": "36 km/h^2"},
        interval=(0, 1),
        units={"z": "m", "t": "s"},
        check_units=False,
    )
    assert third.initial["z''"] == pytest.approx(1 / 360)
    assert dict(third.units) == {"z": "m", "t": "s", "z'": "m/s", "z''": "m/s^2"}


@pytest.mark.parametrize(
    ("small", "large", "times"),
    [
        ("min", "h", 60),
        ("s", "d", 86400),
        ("mm", "m", 1000),
        ("umol/L", "mmol/L", 1000),
        ("h", "d", 24),
        ("g", "kg", 1000),
    ],
)
def test_parts_of_a_unit_are_as_exact_as_a_quotient(small: str, large: str, times: int) -> None:
    for count in (*range(1, 200), 86399):
        assert number_in(f"{count} {small}", large, "here") == count / times
        assert number_in(f"{count} {large}", small, "here") == count * times
