"""Rules that arguments keep: small ones, and what is composed of them; what a message expects follows from the rule."""

from __future__ import annotations

import math
import numbers
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import HeronError, OptionError, excerpt, listing, near_spelling


class MisfitError(Exception):
    """A value does not keep a rule. It is caught where the rule is asked, and users never see it."""


@dataclass(frozen=True)
class Rule:
    """What values an argument takes.

    Attributes
    ----------
    expected : str
        The values, for messages.
    taken : callable
        Returns a value that keeps the rule in its plain form, and raises `MisfitError` for others.
    hint : callable
        What a message adds for a value that does not keep it.
    """

    expected: str
    taken: Callable[[Any], Any]
    hint: Callable[[Any], str] = lambda _: ""

    def __or__(self, other: Rule) -> Rule:
        """Return the rule that a value keeps this one or another."""

        def either(value: Any) -> Any:
            try:
                return self.taken(value)
            except MisfitError:
                return other.taken(value)

        return Rule(
            f"{self.expected}, or {other.expected}", either, lambda value: self.hint(value) or other.hint(value)
        )

    def holds(self, value: Any) -> bool:
        """Whether a value keeps the rule."""
        try:
            self.taken(value)
        except MisfitError:
            return False
        return True

    def __call__(
        self, value: Any, name: str, location: str = "", *, message: str = "", error: type[HeronError] = OptionError
    ) -> Any:
        """Return a value in its plain form.

        Parameters
        ----------
        value : object
        name : str
            Of the argument.
        location : str, optional
            Where this was said, for messages; by default the name.
        message : str, optional
            What is wrong with others; by default that the argument is not usable.
        error : type of HeronError, optional

        Returns
        -------
        object

        Raises
        ------
        OptionError
            It does not keep the rule; or another error that was given.
        """
        try:
            return self.taken(value)
        except MisfitError:
            wrong = (message or f"{name} is not usable") + self.hint(value)
            raise error(
                wrong, name=name, location=location or name, expected=self.expected, given=excerpt(value)
            ) from None


def number(expected: str, fits: Callable[[float], bool]) -> Rule:
    """Return the rule of finite real numbers of which something holds."""

    def taken(value: Any) -> float:
        real = isinstance(value, numbers.Real) and not isinstance(value, bool)
        try:
            found = float(value) if real else math.nan
        except OverflowError:
            found = math.inf
        if not (math.isfinite(found) and fits(found)):
            raise MisfitError
        return found

    return Rule(expected, taken)


def above(low: float, high: float = math.inf) -> Rule:
    """Return the rule of numbers above a bound, and at most another."""
    most = f", at most {high:g}" if high < math.inf else ""
    return number(f"a number above {low:g}{most}", lambda value: low < value <= high)


def whole(low: int, high: int = 2**53, expected: str = "") -> Rule:
    """Return the rule of whole numbers within bounds.

    Parameters
    ----------
    low, high : int
        Both are among them.
    expected : str, optional
        How messages call them.

    Returns
    -------
    Rule
    """

    def taken(value: Any) -> int:
        fit = isinstance(value, numbers.Integral) and not isinstance(value, bool)
        if not (fit and low <= int(value) <= high):
            raise MisfitError
        return int(value)

    return Rule(expected or f"a whole number from {low:,} to {high:,}", taken)


def choice(*words: str) -> Rule:
    """Return the rule of one of a few words."""

    def taken(value: Any) -> str:
        if not isinstance(value, str) or value not in words:
            raise MisfitError
        return value

    return Rule(" or ".join(f'"{word}"' for word in words), taken)


def among(names: Iterable[str], expected: str = "one of {}") -> Rule:
    """Return the rule of one of many names; a message tells the nearest."""
    known = list(names)

    def taken(value: Any) -> str:
        if not isinstance(value, str) or value not in known:
            raise MisfitError
        return value

    return Rule(expected.format(listing(known)), taken, lambda value: near_spelling(value, known))


def instance(kind: type, expected: str) -> Rule:
    """Return the rule of objects of a kind."""

    def taken(value: Any) -> Any:
        if not isinstance(value, kind):
            raise MisfitError
        return value

    return Rule(expected, taken)


def several(what: str) -> Rule:
    """Return the rule of one thing or several, as a list."""

    def taken(value: Any) -> list[Any]:
        alone = isinstance(value, str | bytes | numbers.Number) or not isinstance(value, Iterable)
        listed = [value] if alone and value is not None else [] if alone else list(value)
        if not listed or (alone and not isinstance(value, str | bytes | numbers.Number)):
            raise MisfitError
        return listed

    return Rule(f"one or several {what}", taken)


def _truth(value: Any) -> bool:
    if not isinstance(value, bool | np.bool_):
        raise MisfitError
    return bool(value)


def _nothing(value: Any) -> None:
    if value is not None:
        raise MisfitError


FINITE: Final = number("a finite real number", lambda _: True)
NOT_NEGATIVE: Final = number("a number of at least 0", lambda value: value >= 0.0)
POSITIVE: Final = number("a positive number", lambda value: value > 0.0)
POSITIVE_COUNT: Final = whole(1, expected="a positive whole number")
TRUTH: Final = Rule("True or False", _truth)
NOTHING: Final = Rule("None", _nothing)
ON_INTERRUPT: Final = choice("raise", "return")
