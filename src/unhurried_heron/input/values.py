"""Checking the numbers of a problem: finite, real, and belonging to something."""

from __future__ import annotations

import math
import numbers
from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from unhurried_heron.errors import IntervalError, UnusedValueError, ValueGivenError, excerpt, listing, near_spelling
from unhurried_heron.input.rules import FINITE


def finite_number(value: Any, name: str, location: str) -> float:
    """Return a value as float.

    Parameters
    ----------
    value : object
    name : str
    location : str
        Where this was said, for messages.

    Returns
    -------
    float

    Raises
    ------
    ValueGivenError
        It is no real number, or not finite.
    """
    if type(value) is float and math.isfinite(value):
        return value
    kind = "not finite" if isinstance(value, numbers.Real) and not isinstance(value, bool) else "not a number"
    return float(FINITE(value, name, location, message=f"the value of '{name}' is {kind}", error=ValueGivenError))


def number_array(value: Any, ndim: int = 0) -> NDArray[np.float64] | None:
    """Return numbers as an array of floating-point numbers with ``ndim`` axes at least; None where they are none."""
    try:
        return np.array(value, dtype=np.float64, ndmin=ndim)
    except (TypeError, ValueError, OverflowError):
        return None


def has_complex(value: Any) -> bool:
    """Whether there are complex numbers in a sequence or an array."""
    try:
        return bool(np.iscomplexobj(np.asarray(value)))
    except (TypeError, ValueError):
        return False


def complex_array(value: Any) -> NDArray[np.complex128] | None:
    """Return numbers as an array of complex ones; None where they are none."""
    try:
        return np.array(value, dtype=np.complex128)
    except (TypeError, ValueError, OverflowError):
        return None


def each_of(given: Any) -> list[Any]:
    """Return several things as a list, and one as a list of it; a text is one."""
    if isinstance(given, str | bytes):
        return [given]
    try:
        return list(given)
    except TypeError:
        return [given]


def interval_ends(interval: Any) -> tuple[float, float]:
    """Return the two ends of an interval, which may run backwards.

    Raises
    ------
    IntervalError
        There are not two ends, they are equal, or one is not finite.
    """
    try:
        start, end = interval
    except (TypeError, ValueError):
        raise IntervalError(
            "the interval needs two ends",
            name="interval",
            location="interval",
            expected="(from, to)",
            given=excerpt(interval),
        ) from None
    start = finite_number(start, "from", "the interval")
    end = finite_number(end, "to", "the interval")
    if start == end:
        raise IntervalError(
            "the interval is empty",
            name="interval",
            location="interval",
            expected="two different times",
            given=f"from {start:g} to {end:g}",
        )
    if not math.isfinite(end - start):
        raise IntervalError(
            "the interval is too long for floating-point numbers",
            name="interval",
            location="interval",
            expected="a length below 1.8e308",
            given=f"from {start:g} to {end:g}",
        )
    return start, end


def refuse_unused(parameters: Iterable[str], used: Iterable[str]) -> None:
    """Refuse parameters that appear nowhere.

    Raises
    ------
    UnusedValueError
    """
    used = set(used)
    extra = [name for name in parameters if name not in used]
    if extra:
        raise UnusedValueError(
            f"parameter{'s' * (len(extra) > 1)} {_listed(extra)} appear{'s' * (len(extra) == 1)} in no equation, "
            "event, value or closed form" + near_spelling(extra[0], used - set(parameters)),
            name=listing(extra),
            location="parameters",
            expected="only parameters that are used",
            given=listing(parameters),
        )


def _listed(names: list[str]) -> str:
    return listing(names, quoted=True)
