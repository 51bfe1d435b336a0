"""Relative and absolute tolerance of each state, as they were asked for."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, as_text, excerpt, listing, near_spelling
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.rules import NOT_NEGATIVE
from unhurried_heron.problem.problem import Problem

# The relative tolerance where none is given: seven digits, more than a figure shows or most data have.
DEFAULT_RTOL: Final = 1e-7
# The default relative tolerance as a multiple of the absolute one.
ATOL_PART: Final = 1000.0
# The smallest relative tolerance: some fifty roundings of a double.
SMALLEST_RTOL: Final = 1e-14

Tolerance = float | str | Mapping[str, float | str] | None


def tolerances(problem: Problem, rtol: Tolerance, atol: Tolerance) -> tuple[Array, Array]:
    """Return relative and absolute tolerance of each state, shape (n_states,) each.

    Parameters
    ----------
    problem : Problem
    rtol : float, mapping of str to float, or None
    atol : float, mapping of str to float, or None

    Returns
    -------
    tuple[ndarray, ndarray]

    Raises
    ------
    OptionError
        A tolerance is negative, not finite, below what floating-point numbers can meet, or both are zero.
    """
    if isinstance(rtol, float | None) and isinstance(atol, float | None):
        # Most runs, and those of a sweep thousands of times, give plain numbers.
        one = DEFAULT_RTOL if rtol is None else rtol
        other = one / ATOL_PART if atol is None else atol
        if SMALLEST_RTOL <= one < math.inf and 0.0 <= other < math.inf:
            n = problem.model.layout.size
            return np.full(n, one), np.full(n, other)
    relative = _for_states(problem, DEFAULT_RTOL if rtol is None else rtol, "rtol", DEFAULT_RTOL)
    default_atol = relative / ATOL_PART
    if atol is None:
        absolute = default_atol
    elif isinstance(atol, Mapping):
        absolute = _for_states(problem, atol, "atol", 0.0)
        named = _state_indices(problem, atol)
        absolute = np.where(named, absolute, default_atol)
    else:
        absolute = _for_states(problem, atol, "atol", 0.0)
    unmet = ((relative > 0) & (relative < SMALLEST_RTOL)) | ((relative == 0) & (absolute == 0))
    if unmet.any():
        index = int(np.argmax(unmet))
        state = problem.model.layout.name_of(index)
        raise OptionError(
            f"the tolerance of '{state}' cannot be met in floating-point numbers",
            name="rtol",
            location=f"rtol of {state}",
            expected=f"rtol of at least {SMALLEST_RTOL:g}, or rtol = 0 with a positive atol",
            given=f"rtol = {relative[index]:g}, atol = {absolute[index]:g}",
        )
    return relative, absolute


def _slice_of(problem: Problem, state: str) -> slice | None:
    """Return the indices of a state, of a member of a family, or of a whole family."""
    layout = problem.model.layout
    indices = layout.indices_of(state)
    return slice(indices[0], indices[-1] + 1) if indices else layout.slice_of(state)


def _in_units(problem: Problem, state: Any, value: str) -> Any:
    """Return an absolute tolerance that is said with a unit as a number in that of its state, or of all states.

    Parameters
    ----------
    problem : Problem
    state : str or None
        Its name; None for all states.
    value : str
        The tolerance.

    Returns
    -------
    float or str
        The text, where it cannot be read.
    """
    from unhurried_heron.units.quantities import in_unit_of

    units = problem.units
    names = (
        [group_of(str(state))]
        if state is not None
        else sorted({group_of(name) for name in problem.model.layout.by_name})
    )
    found = {in_unit_of(value, units.get(name, ""), f"atol of {name}") for name in names}
    return found.pop() if len(found) == 1 else value


def _state_indices(problem: Problem, given: Mapping[str, Any]) -> Any:
    named = np.zeros(problem.model.layout.size, dtype=bool)
    for state in given:
        named[_slice_of(problem, state)] = True
    return named


def _for_states(problem: Problem, given: Any, name: str, default: float) -> Array:
    """Return a tolerance for each state.

    Parameters
    ----------
    problem : Problem
    given : float or mapping of str to float
    name : str
        Of the option.
    default : float

    Returns
    -------
    ndarray

    Raises
    ------
    OptionError
    """
    layout = problem.model.layout
    values = np.full(layout.size, default)
    pairs = given.items() if isinstance(given, Mapping) else [(None, given)]
    # single indices over the whole, whichever was written first
    for state, value in sorted(pairs, key=lambda pair: "[" in str(pair[0])):
        members = slice(None) if state is None else _slice_of(problem, as_text(state))
        if members is None:
            raise OptionError(
                f"{name} is given for '{as_text(state)}', which is no state{near_spelling(state, layout.by_name)}",
                name=name,
                location=name,
                expected="one of " + listing(layout.by_name),
                given=as_text(state),
            )
        if name == "atol" and isinstance(value, str):
            value = _in_units(problem, state, value)
        if not NOT_NEGATIVE.holds(value):
            also = ", also with a unit" if name == "atol" else ""
            raise OptionError(
                f"{name} is not usable",
                name=name,
                location=name,
                expected=f"{NOT_NEGATIVE.expected}, or one for each state by name{also}",
                given=excerpt(given),
            )
        values[members] = float(value)
    return values
