"""Values of single options: positive numbers, times with units, one of a few."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.input.values import is_finite_number
from unhurried_heron.problem.problem import Problem


def positive(value: Any) -> bool:
    """Whether a value is a positive finite real number."""
    return is_finite_number(value) and float(value) > 0


def positive_option(value: Any, name: str) -> float:
    """Return a positive finite number.

    Raises
    ------
    OptionError
    """
    if not positive(value):
        raise OptionError(
            f"{name} is not usable", name=name, location=name, expected="a positive number", given=excerpt(value)
        )
    return float(value)


def in_time(problem: Problem, value: Any, location: str) -> Any:
    """Return an option that may be a quantity of time as a plain number.

    Parameters
    ----------
    problem : Problem
    value : float, str or object
    location : str
        Where this was said, for messages.

    Returns
    -------
    float or object

    Raises
    ------
    UnitError
    """
    if not isinstance(value, str):
        return value
    from unhurried_heron.units.quantities import in_unit_of

    return in_unit_of(value, problem.units.get("t", ""), location)


def one_of(value: Any, name: str, allowed: Mapping[Any, str]) -> None:
    """Refuse a value that is none of a few; the mapping tells how each is written.

    Parameters
    ----------
    value : object
    name : str
        Of the option.
    allowed : mapping of object to str
        The values, and how each is written.

    Raises
    ------
    OptionError
    """
    if not any(value is each or (isinstance(value, str) and value == each) for each in allowed):
        raise OptionError(
            f"{name} is not usable",
            name=name,
            location=name,
            expected=" or ".join(allowed.values()),
            given=excerpt(value),
        )
