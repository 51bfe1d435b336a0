"""Times of switches that follow from time and parameters alone: all of them, and nothing else."""

from __future__ import annotations

import mpmath
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source


def times_of(condition: str, interval: tuple = (0, 10), **parameters) -> list[float] | None:
    problem = uh.Problem.from_text(
        f"x' = where({condition}, 1, 2)", initial={"x": 0}, parameters=parameters, interval=interval
    )
    # conditions within conditions come before them
    switch = problem.switches[-1]
    return None if switch.times is None else list(switch.times)


def test_plain_conditions_are_exact() -> None:
    assert times_of("t < shut", shut=0.1 + 0.2) == [0.1 + 0.2]
    assert times_of("3*t - 2 > k*t", k=1) == [1.0]
    assert times_of("t < 11") == []
    assert times_of("t >= 0") == []
    assert times_of("2 <= t", interval=(5, -5)) == [2.0]


@pytest.mark.parametrize(
    ("condition", "wanted"),
    [
        ("sin(2*pi*t/12.4) > 0.5", lambda: [float(12.4 * mpmath.mpf(k) / 12) for k in (1, 5)]),
        ("t^2 < 50", lambda: [float(mpmath.sqrt(50))]),
        ("exp(-t/3) > 0.1", lambda: [float(3 * mpmath.log(10))]),
        ("(t - 1)*(t - 2)*(t - 2.0001) > 0", lambda: [1.0, 2.0, 2.0001]),
        (
            "sqrt(t) > log(1 + t)^2",
            lambda: [float(mpmath.findroot(lambda t: mpmath.sqrt(t) - mpmath.log(1 + t) ** 2, 4))],
        ),
        ("where(t < 3, 0, 1) > 0.5", lambda: [3.0]),
        ("abs(t - 5) < 2", lambda: [3.0, 7.0]),
        ("cos(t)^2 > 2", lambda: []),
        ("atan(t - 4)/(1 + t) > 0", lambda: [4.0]),
    ],
)
def test_curved_conditions_against_high_precision(condition: str, wanted) -> None:
    assert times_of(condition) == pytest.approx(wanted(), rel=1e-13)


def test_steps_of_a_staircase() -> None:
    problem = uh.Problem.from_text("x' = floor(t/2.5) + pulse(t, 3, 4)", initial={"x": 0}, interval=(0, 9))
    assert [switch.times for switch in problem.switches] == [(2.5, 5.0, 7.5), (3.0,), (4.0,)]
    waves = uh.Problem.from_text("x' = floor(3*sin(t))", initial={"x": 0}, interval=(0, 3)).switches[0]
    wanted = [np.arcsin(1 / 3), np.arcsin(2 / 3), np.pi / 2, np.pi - np.arcsin(2 / 3), np.pi - np.arcsin(1 / 3)]
    assert waves.times == pytest.approx(wanted, abs=1e-7)


def test_what_cannot_be_known_is_located_instead() -> None:
    problem = uh.Problem.from_text(
        """
        x' = max(x, 0)*sign(tide) + min(k, 2) + where(x > 1 and t < 4, 1, where(not x > 1, 0, 3)) + max(2, k)
        """,
        inputs={"tide": uh.Measured([0, 10], [0, 1])},
        initial={"x": 1},
        parameters={"k": 3},
        interval=(0, 10),
    )
    report = {switch.text: (switch.kind, switch.cause, switch.times) for switch in problem.switches}
    assert report == {
        "max(x, 0)": ("kink", "state", None),
        "sign(tide)": ("jump", "input", None),
        "x > 1": ("jump", "state", None),
        "t < 4": ("jump", "time", (4.0,)),
        "tide (measured)": ("kink", "input", ()),
    }
    # of a few members each has its own; over a long range conditions are left to the error estimate, and told of
    for count in (3, 500):
        family = uh.Problem.from_text(
            "u[i]' = max(u[i], 0) + step(t - 1) for i in 1..n",
            initial={"u": 1},
            interval=(0, 2),
            parameters={"n": count},
        )
        own = [f"max(u[{k}], 0)" for k in range(1, count + 1)] if count == 3 else []
        assert sorted(each.text for each in family.switches if each.times is None) == own
        assert [each.times for each in family.switches if each.times] == [(1.0,)]
        assert any("over a long range" in each.message for each in uh.check(family).findings) == (count == 500)


def test_members_in_sums_and_under_powers_have_switches_of_their_own() -> None:
    text = "u[i]' = -max(u[i], 0)^0.6 for i in 1..n\nx' = sum(max(u[i] - x, 0) for i in 1..n)"
    few = uh.Problem.from_text(text, initial={"u": 1, "x": 0}, interval=(0, 2), parameters={"n": 3})
    report = {each.text for each in few.switches}
    for k in range(1, 4):
        assert {f"max(u[{k}], 0)^0.6", f"max(u[{k}], 0)", f"max(u[{k}] - x, 0)"} <= report
    # so many at most in all, the first that fit
    many = few.with_(parameters={"n": 50})
    assert any("^0.6" in each.text for each in many.switches)
    assert not any("- x" in each.text for each in many.switches)


FORMULAS = st.recursive(
    st.sampled_from(["t", "k", "2", "0.5"]),
    lambda inner: st.one_of(
        st.builds("({} + {})".format, inner, inner),
        st.builds("({} - {})".format, inner, inner),
        st.builds("({}*{})".format, inner, inner),
        st.builds("({}/{})".format, inner, inner),
        st.builds("({})^{}".format, inner, st.sampled_from(["2", "3", "-1", "0.5", "-2"])),
        st.builds(
            "{}({})".format, st.sampled_from(["sin", "cos", "exp", "tanh", "abs", "atan", "sqrt", "floor"]), inner
        ),
        st.builds("{}({}, {})".format, st.sampled_from(["min", "max"]), inner, inner),
        st.builds("where({} < {}, {}, {})".format, inner, inner, inner, inner),
        st.builds("where({} < 1 {} not {} > 0, {}, t)".format, inner, st.sampled_from(["and", "or"]), inner, inner),
    ),
    max_leaves=8,
)


@settings(max_examples=300, deadline=None)
@given(FORMULAS, st.floats(-3, 3), st.floats(0, 4), st.floats(-2, 2))
@pytest.mark.long
def test_bounds_hold_every_value(formula: str, low: float, width: float, k: float) -> None:
    node = read(Source(formula)).node
    ends = enclose(node, {"k": k}, np.array([low]), np.array([low + width]))
    for share in np.linspace(0, 1, 41):
        value = float(evaluate(node, {"k": k, "t": min(low + share * width, low + width)}))
        if np.isfinite(value):
            slack = 1e-9 * (1 + abs(value))
            assert ends[0][0] - slack <= value <= ends[1][0] + slack
