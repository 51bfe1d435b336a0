"""What studies are given, looked at before anything runs."""

from __future__ import annotations

import numbers
from typing import Any

import numpy as np

from unhurried_heron.arrays import ComplexArray
from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.run.run import Run


def a_run(given: Any, location: str) -> Run:
    """Return a run.

    Raises
    ------
    OptionError
    """
    if not isinstance(given, Run):
        raise OptionError("this is no run", name="run", location=location, expected="a Run, what integrate returns",
                          given=excerpt(given))  # fmt: skip
    return given


def whole(value: Any, name: str, location: str, *, low: int, high: int) -> int:
    """Return a whole number within bounds.

    Parameters
    ----------
    value : object
    name : str
        Of the option.
    location : str
        Where this was said, for messages.
    low : int
    high : int

    Returns
    -------
    int

    Raises
    ------
    OptionError
    """
    fit = isinstance(value, numbers.Integral) and not isinstance(value, bool) and low <= int(value) <= high
    if not fit:
        raise OptionError(f"{name} is not usable", name=name, location=location, given=excerpt(value),
                          expected=f"a whole number from {low:,} to {high:,}")  # fmt: skip
    return int(value)


def complex_points(z: Any, location: str) -> ComplexArray:
    """Return numbers of the plane as an array.

    Raises
    ------
    OptionError
    """
    try:
        if isinstance(z, str | bytes):
            raise TypeError
        return np.asarray(z, dtype=complex)
    except (TypeError, ValueError, OverflowError):
        raise OptionError("these are no numbers of the plane of h lambda", name="z", location=location,
                          expected="a complex number, or an array of them", given=excerpt(z)) from None  # fmt: skip


def several(given: Any, what: str, location: str) -> list[Any]:
    """Return one thing or several as a list.

    Parameters
    ----------
    given : object
    what : str
        What is spoken of, for messages.
    location : str
        Where this was said, for messages.

    Returns
    -------
    list of object

    Raises
    ------
    OptionError
        There is nothing among them, or they cannot be listed.
    """
    try:
        listed = [given] if isinstance(given, str | bytes | numbers.Number) else list(given)
    except TypeError:
        listed = []
    if not listed:
        raise OptionError(f"these are no {what}", name=what, location=location, expected=f"one or several {what}",
                          given=excerpt(given))  # fmt: skip
    return listed


def truth(value: Any, name: str, location: str) -> bool:
    """Return a choice of two.

    Parameters
    ----------
    value : object
    name : str
        Of the option.
    location : str
        Where this was said, for messages.

    Returns
    -------
    bool

    Raises
    ------
    OptionError
    """
    if not isinstance(value, bool | np.bool_):
        raise OptionError(f"{name} is a choice of two", name=name, location=location, expected="True or False",
                          given=excerpt(value))  # fmt: skip
    return bool(value)
