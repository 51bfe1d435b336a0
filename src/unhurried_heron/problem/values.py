"""Checking the numbers of a problem: finite, real, and belonging to something."""

from __future__ import annotations

import keyword
import math
import numbers
from collections.abc import Iterable, Mapping
from typing import Any

from unhurried_heron.errors import (
    ExpressionError,
    IntervalError,
    MissingInitialError,
    UnusedValueError,
    ValueGivenError,
    near_spelling,
)
from unhurried_heron.problem.equations import check_name


def finite_number(value: Any, name: str, place: str) -> float:
    """Return a value as float.

    Raises
    ------
    ValueGivenError
        It is no real number, or not finite.
    """
    real = isinstance(value, numbers.Real) and not isinstance(value, bool)
    try:
        result = float(value) if real else math.nan
    except OverflowError:
        result = math.inf
    if not math.isfinite(result):
        raise ValueGivenError(
            f"the value of '{name}' is {'not finite' if real else 'not a number'}",
            name=name,
            place=place,
            expected="a finite real number",
            given=repr(value)[:80],
        )
    return result


def finite_values(values: Mapping[str, Any] | None, place: str) -> dict[str, float]:
    """Return a mapping of names to floats, names and numbers checked."""
    if values is None:
        return {}
    if not isinstance(values, Mapping):
        raise ValueGivenError(
            f"{place} must be given by name",
            name=place,
            place=place,
            expected='a dict such as {"level": 0.4}',
            given=repr(values)[:80],
        )
    checked = {}
    for name, value in values.items():
        if not isinstance(name, str) or keyword.iskeyword(name):
            raise ExpressionError(
                f"{name!r} cannot be a name", name=str(name), place=place, expected="a name", given=repr(name)
            )
        check_name(name, place)
        checked[name] = finite_number(value, name, place)
    return checked


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
            place="interval",
            expected="(from, to)",
            given=repr(interval)[:80],
        ) from None
    start = finite_number(start, "from", "the interval")
    end = finite_number(end, "to", "the interval")
    if start == end:
        raise IntervalError(
            "the interval is empty",
            name="interval",
            place="interval",
            expected="two different times",
            given=f"from {start:g} to {end:g}",
        )
    if not math.isfinite(end - start):
        raise IntervalError(
            "the interval is too long for floating-point numbers",
            name="interval",
            place="interval",
            expected="a length below 1.8e308",
            given=f"from {start:g} to {end:g}",
        )
    return start, end


def initial_for(states: tuple[str, ...], initial: Mapping[str, float]) -> dict[str, float]:
    """Return the initial values in the order of the states.

    Raises
    ------
    MissingInitialError, UnusedValueError
        A state has none, or one belongs to no state.
    """
    missing = [state for state in states if state not in initial]
    known = set(states)
    extra = [name for name in initial if name not in known]
    if missing:
        hint = near_spelling(missing[0], extra)
        raise MissingInitialError(
            f"no initial value for {_listed(missing)}{hint}",
            name=", ".join(missing),
            place="initial",
            expected="one value for each state: " + ", ".join(states),
            given=", ".join(initial) or "none",
        )
    if extra:
        raise UnusedValueError(
            f"an initial value for {_listed(extra)}, which is no state{near_spelling(extra[0], states)}",
            name=", ".join(extra),
            place="initial",
            expected="values for the states only: " + ", ".join(states),
            given=", ".join(initial),
        )
    return {state: initial[state] for state in states}


def refuse_unused(parameters: Mapping[str, float], used: Iterable[str]) -> None:
    """Refuse parameters that appear nowhere.

    Raises
    ------
    UnusedValueError
    """
    used = set(used)
    extra = [name for name in parameters if name not in used]
    if extra:
        raise UnusedValueError(
            f"parameter {_listed(extra)} appears in no equation, event or closed form"
            + near_spelling(extra[0], used - set(parameters)),
            name=", ".join(extra),
            place="parameters",
            expected="only parameters that are used",
            given=", ".join(parameters),
        )


def _listed(names: list[str]) -> str:
    return ", ".join(f"'{name}'" for name in names)
