"""What a run is asked to do, checked: tolerances or step, recording, budgets."""

from __future__ import annotations

import math
import numbers
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import MethodError, OptionError, near_spelling
from unhurried_heron.methods.catalogue import Method
from unhurried_heron.methods.collocation import Collocation
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.trajectory import Array

DEFAULT_RTOL: Final = 1e-7
# absolute tolerance in units of the relative one, where none is given
ATOL_SHARE: Final = 1e-3
SMALLEST_RTOL: Final = 1e-14
# more states than this are work for sparse linear algebra
MOST_DENSE: Final = 5000

Tolerance = float | Mapping[str, float] | None
Record = str | int | Sequence[float] | Array


@dataclass(frozen=True)
class Budget:
    """The most a run may use; whatever is left out is unlimited.

    Parameters
    ----------
    steps : int, optional
        Attempted steps.
    rate_evaluations : int, optional
        Calls of the rates; the run ends before the first step that would begin beyond it.
    seconds : float, optional
        Wall-clock time.

    Raises
    ------
    OptionError
        A limit is not positive.
    """

    steps: int | None = None
    rate_evaluations: int | None = None
    seconds: float | None = None

    def __post_init__(self) -> None:
        for name in ("steps", "rate_evaluations", "seconds"):
            value = getattr(self, name)
            whole = name == "seconds" or isinstance(value, numbers.Integral)
            if value is not None and not (whole and positive(value)):
                raise OptionError(
                    f"the budget of {name} is not usable",
                    name=name,
                    place="budget",
                    expected="a positive number" if name == "seconds" else "a positive whole number",
                    given=repr(value),
                )


def positive(value: Any) -> bool:
    """Whether a value is a positive finite real number."""
    return _finite(value) and float(value) > 0


def _finite(value: Any) -> bool:
    try:
        return isinstance(value, numbers.Real) and not isinstance(value, bool) and math.isfinite(float(value))
    except OverflowError:
        return False


def positive_option(value: Any, name: str) -> float:
    """Return a positive finite number.

    Raises
    ------
    OptionError
    """
    if not positive(value):
        raise OptionError(
            f"{name} is not usable", name=name, place=name, expected="a positive number", given=repr(value)
        )
    return float(value)


def tolerances(problem: Problem, rtol: Tolerance, atol: Tolerance) -> tuple[Array, Array]:
    """Return relative and absolute tolerance of each state, shape (n_states,) each.

    Raises
    ------
    OptionError
        A tolerance is negative, not finite, below what floating-point numbers can meet, or both are zero.
    """
    relative = _for_states(problem, DEFAULT_RTOL if rtol is None else rtol, "rtol", DEFAULT_RTOL)
    default_atol = ATOL_SHARE * relative
    if atol is None:
        absolute = default_atol
    elif isinstance(atol, Mapping):
        absolute = _for_states(problem, atol, "atol", 0.0)
        named = _places(problem, atol)
        absolute = np.where(named, absolute, default_atol)
    else:
        absolute = _for_states(problem, atol, "atol", 0.0)
    unmet = ((relative > 0) & (relative < SMALLEST_RTOL)) | ((relative == 0) & (absolute == 0))
    if unmet.any():
        place = int(np.argmax(unmet))
        state = problem.states[place]
        raise OptionError(
            f"the tolerance of '{state}' cannot be met in floating-point numbers",
            name="rtol",
            place=f"rtol of {state}",
            expected=f"rtol of at least {SMALLEST_RTOL:g}, or rtol = 0 with a positive atol",
            given=f"rtol = {relative[place]:g}, atol = {absolute[place]:g}",
        )
    return relative, absolute


def _stretch(problem: Problem, state: str) -> slice | None:
    """Return the places of a state, of a member of a family, or of a whole family."""
    layout = problem.model.layout
    place = layout.slot(state)
    return layout.stretch(state) if place is None else slice(place, place + 1)


def _places(problem: Problem, given: Mapping[str, float]) -> Any:
    named = np.zeros(problem.model.layout.size, dtype=bool)
    for state in given:
        named[_stretch(problem, state)] = True
    return named


def _for_states(problem: Problem, given: Any, name: str, default: float) -> Array:
    layout = problem.model.layout
    values = np.full(layout.size, default)
    for state, value in given.items() if isinstance(given, Mapping) else [(None, given)]:
        stretch = slice(None) if state is None else _stretch(problem, str(state))
        if stretch is None:
            raise OptionError(
                f"{name} is given for '{state}', which is no state{near_spelling(str(state), layout.by_name)}",
                name=name,
                place=name,
                expected="one of " + ", ".join(layout.by_name),
                given=str(state),
            )
        if not _finite(value) or float(value) < 0:
            raise OptionError(
                f"{name} is not usable",
                name=name,
                place=name,
                expected="a number of at least 0, or one for each state by name",
                given=repr(given)[:80],
            )
        values[stretch] = float(value)
    return values


def check_size(method: Method, n: int) -> None:
    """Refuse a method with full matrices for a system that is too large for them.

    Raises
    ------
    MethodError
    """
    if isinstance(method, Collocation) and n > MOST_DENSE:
        raise MethodError(
            f"{method.name} solves its equations with full matrices, which {n:,} states make too large",
            name=method.name,
            place="method",
            expected=f"at most {MOST_DENSE:,} states, or an explicit method such as dormand-prince-54",
            given=f"{n:,} states: {4 * 8 * n * n / 1e9:.3g} GB of matrices",
        )


def check_fits(method: Method, step: float | None, rtol: Tolerance, atol: Tolerance) -> None:
    """Refuse a method without error estimate where one is needed, and a step together with tolerances.

    Raises
    ------
    MethodError, OptionError
    """
    if step is None and not method.adaptive:
        raise MethodError(
            f"{method.name} has no error estimate, so it cannot choose its steps",
            name=method.name,
            place="method",
            expected="step=… for fixed steps, or a method with an embedded pair such as dormand-prince-54",
            given="no step",
        )
    if step is not None:
        positive_option(step, "step")
        if rtol is not None or atol is not None:
            raise OptionError(
                "a fixed step and a tolerance exclude each other",
                name="step",
                place="step",
                expected="either step=… or rtol=… and atol=…",
                given=f"step={step!r}, rtol={rtol!r}, atol={atol!r}",
            )


def record_times(problem: Problem, record: Record) -> Array | None:
    """Return the times to record in the direction of the run, or None for every accepted step.

    Raises
    ------
    OptionError
        The count is too small, or times are not finite, outside the interval or out of order.
    """
    start, end = problem.interval
    if isinstance(record, str):
        if record == "steps":
            return None
        raise OptionError(
            f"cannot record '{record}'",
            name="record",
            place="record",
            expected='"steps", a count of times, or the times themselves',
            given=repr(record),
        )
    if isinstance(record, numbers.Integral) and not isinstance(record, bool):
        if record < 2:
            raise OptionError(
                "too few times to record",
                name="record",
                place="record",
                expected="a count of at least 2 (both ends are among them)",
                given=str(record),
            )
        return np.linspace(start, end, int(record))
    try:
        times = np.array(record, dtype=np.float64)
    except (TypeError, ValueError, OverflowError):
        times = np.zeros((0, 0))
    if times.ndim != 1 or times.size == 0 or not np.isfinite(times).all():
        raise OptionError(
            "the times to record are not usable",
            name="record",
            place="record",
            expected='"steps", a count of times, or a list of finite times',
            given=repr(record)[:80],
        )
    forward = np.sign(end - start)
    outside = (times < min(start, end)) | (times > max(start, end))
    if outside.any() or (np.diff(times) * forward <= 0).any():
        raise OptionError(
            "the times to record do not follow the interval",
            name="record",
            place="record",
            expected=f"times from {start:g} to {end:g}, each beyond the one before",
            given=f"{times[outside][0]:g}" if outside.any() else "times out of order",
        )
    return times
