"""Rules of arguments: what they take, what they give back, what they expect, alone and composed."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.errors import OptionError, RunError
from unhurried_heron.input.rules import (
    FINITE,
    NOT_NEGATIVE,
    NOTHING,
    POSITIVE,
    TRUTH,
    Rule,
    above,
    among,
    choice,
    instance,
    several,
    whole,
)

ODD: list[Any] = [None, True, np.bool_(False), -1, 0, 1, 3, 2.5, math.inf, 10**400, "a", "b", b"a", [], [1], {}]
# what is taken of them, by its place, and what it becomes
RULES: list[tuple[Rule, str, dict[int, Any]]] = [
    (FINITE, "a finite real number", {3: -1.0, 4: 0.0, 5: 1.0, 6: 3.0, 7: 2.5}),
    (NOT_NEGATIVE, "a number of at least 0", {4: 0.0, 5: 1.0, 6: 3.0, 7: 2.5}),
    (above(0, 2.5), "a number above 0, at most 2.5", {5: 1.0, 7: 2.5}),
    (above(1), "a number above 1", {6: 3.0, 7: 2.5}),
    (POSITIVE, "a positive number", {5: 1.0, 6: 3.0, 7: 2.5}),
    (whole(0, 2), "a whole number from 0 to 2", {4: 0, 5: 1}),
    (TRUTH, "True or False", {1: True, 2: False}),
    (choice("a", "c"), '"a" or "c"', {10: "a"}),
    (among(["a", "c"]), "one of a, c", {10: "a"}),
    (instance(list, "a list"), "a list", {13: [], 14: [1]}),
    (several("things"), "one or several things", {k: [ODD[k]] for k in (1, *range(3, 13))} | {14: [1]}),
    (NOTHING | whole(3, 9) | choice("b"), 'None, or a whole number from 3 to 9, or "b"', {0: None, 6: 3, 11: "b"}),
]


@pytest.mark.parametrize(("rule", "expected", "good"), RULES, ids=[expected for _, expected, _ in RULES])
def test_a_rule_takes_what_it_says(rule: Rule, expected: str, good: dict[int, Any]) -> None:
    assert rule.expected == expected
    for k, value in enumerate(ODD):
        assert rule.holds(value) == (k in good), value
        if k in good:
            found = rule(value, "load")
            assert (found, type(found)) == (good[k], type(good[k]))
            continue
        with pytest.raises(OptionError, match="load is not usable") as caught:
            rule(value, "load")
        assert (caught.value.expected, caught.value.location) == (expected, "load")


def test_a_message_and_a_kind_of_error_may_be_said() -> None:
    with pytest.raises(RunError, match="that is heavy") as caught:
        POSITIVE(-2, "load", "the cart", message="that is heavy", error=RunError)
    assert (caught.value.name, caught.value.location, caught.value.given) == ("load", "the cart", "-2")


def test_a_name_is_told_the_nearest_one() -> None:
    with pytest.raises(OptionError, match="which cart; did you mean 'load'"):
        (NOTHING | among(["load", "wheel"]))("laod", "cart", message="which cart")


@pytest.mark.parametrize(
    ("name", "bad"),
    {"safety": 2, "shrink": 1.0, "grow": 1, "deadband": 5, "cautious": 3, "error_exponent": "a"}.items(),
)
def test_a_controller_names_the_number_that_does_not_fit(name: str, bad: Any) -> None:
    with pytest.raises(OptionError, match="does not hold steps") as caught:
        uh.Controller(**{"safety": 0.7, name: bad})
    assert caught.value.name == name
    assert str(bad) in caught.value.given
