"""The times that a run records: a count of them, a spacing, or a list."""

from __future__ import annotations

import numbers
from collections.abc import Sequence
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.option_values import in_time
from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.input.definitions import QUANTITY
from unhurried_heron.input.rules import POSITIVE
from unhurried_heron.input.values import number_array
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.room import refuse_memory

Record = str | int | Sequence[float] | Array

# A spacing of times with its unit, "30 min".
_MAX_TIMES: Final = 2.0**53


def record_times(problem: Problem, record: Record) -> Array | None:
    """Return the times to record in the direction of the run, or None for every accepted step.

    Raises
    ------
    OptionError
        The count is too small, or times are not finite, outside the interval or out of order.
    """
    start, end = problem.interval
    if isinstance(record, str):
        return None if record == "steps" else _every(problem, record)
    if isinstance(record, numbers.Integral) and not isinstance(record, bool):
        return _equal_times(start, end, int(record), problem.model.layout.size)
    wanted: Any = record
    if isinstance(wanted, Sequence) and any(isinstance(each, str) for each in wanted):
        wanted = [in_time(problem, each, "record") for each in wanted]
    return _times_as_given(start, end, wanted)


def _every(problem: Problem, record: str) -> Array:
    """Return the times of a period from the start; the end of the interval only where it is one of them."""
    start, end = problem.interval
    quantity = QUANTITY.match(record) if len(record) < 200 else None
    if quantity is None:
        raise OptionError(f"cannot record '{record[:80]}'", name="record", location="record",
                          given=excerpt(record),
                          expected='"steps", a spacing such as "30 min", a count of times, or times')  # fmt: skip
    every = POSITIVE(in_time(problem, record, "record"), "record")
    count = abs(end - start) / every
    if not count < _MAX_TIMES:
        raise OptionError("this many times do not fit into memory", name="record", location="record",
                          given=excerpt(record),
                          expected=f"a time above {abs(end - start) / _MAX_TIMES:.3g}")  # fmt: skip
    # A time within rounding of the end is the end.
    rows = int(count + 1e-9) + 1
    refuse_memory(rows, problem.model.layout.size + 1, "record")
    times = start + np.copysign(every, end - start) * np.arange(rows)
    inside: Array = np.clip(times, min(start, end), max(start, end))
    return inside


def _equal_times(start: float, end: float, count: int, n: int) -> Array:
    """Return equally spaced times from start to end.

    Parameters
    ----------
    start : float
    end : float
    count : int
    n : int
        Number of states.

    Returns
    -------
    ndarray

    Raises
    ------
    OptionError
    """
    if count < 2:
        raise OptionError(
            "too few times to record",
            name="record",
            location="record",
            expected="a count of at least 2 (both ends are among them)",
            given=excerpt(count),
        )
    refuse_memory(count, n + 1, "record")
    return np.linspace(start, end, count) if count > 2 else np.array([start, end])


def _times_as_given(start: float, end: float, record: Any) -> Array:
    """Return the times of a list, checked, in the order of the run.

    Parameters
    ----------
    start : float
    end : float
    record : array_like
        The times.

    Returns
    -------
    ndarray

    Raises
    ------
    OptionError
    """
    times = number_array(record)
    if times is None or times.ndim != 1 or times.size == 0 or not np.isfinite(times).all():
        raise OptionError(
            "the times to record are not usable",
            name="record",
            location="record",
            expected='"steps", a count of times, or a list of finite times',
            given=excerpt(record),
        )
    forward = np.sign(end - start)
    outside = (times < min(start, end)) | (times > max(start, end))
    if outside.any() or (np.diff(times) * forward <= 0).any():
        raise OptionError(
            "the times to record do not follow the interval",
            name="record",
            location="record",
            expected=f"times from {start:g} to {end:g}, each beyond the one before",
            given=f"{times[outside][0]:g}" if outside.any() else "times out of order",
        )
    return times
