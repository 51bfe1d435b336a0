"""Options that are times, which may be said with a unit."""

from __future__ import annotations

from typing import Any

from unhurried_heron.problem.problem import Problem


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
