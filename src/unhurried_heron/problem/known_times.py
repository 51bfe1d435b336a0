"""When the events of known times happen within a run."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import ValueGivenError, excerpt
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.input.event import Event
from unhurried_heron.units.quantities import number_in

# Known times of one event.
_MAX_TIMES: Final = 20_000_000
# Times within this many spacings of floating-point numbers are one time (`kernels.memory.initial_data`).
_CLOSEST: Final = 4.0
# Known times that are remembered with the problem.
_MAX_KEPT: Final = 100_000
Times = Any


def known_times(event: Event, interval: tuple[float, float], units: Mapping[str, str]) -> Times:
    """Return the known times of an event within an interval, both ends included, in the order of the run.

    Parameters
    ----------
    event : Event
    interval : (float, float)
        From when to when.
    units : mapping of str to str
        Units by name.

    Returns
    -------
    Times

    Raises
    ------
    ValueGivenError, UnitError
        A time is none, the period is not above zero, or there are too many.
    """
    if not event.timed:
        return np.empty(0)
    query = event.at, event.every, event.first, event.name, interval, units.get(TIME, "")
    times = _few_known_times(*query)
    return _known_times(*query) if times is None else times


@functools.lru_cache(maxsize=64)
def _few_known_times(*query: Any) -> Times | None:
    """Return known times that a problem that is run again and again has again; None where they would fill memory."""
    times = _known_times(*query)
    return times if times.size <= _MAX_KEPT else None


def _known_times(at: Any, every: Any, first: Any, name: str, interval: tuple[float, float], unit: str) -> Times:
    """Return the known times that an event was given.

    Parameters
    ----------
    at : float, str or sequence of them, or None
    every : float, str or None
        The period.
    first : float, str or None
        The first time of the period.
    name : str
        Of the event.
    interval : (float, float)
        From when to when.
    unit : str
        Empty for none.

    Returns
    -------
    Times

    Raises
    ------
    ValueGivenError
        A time is none, the period is not above zero, or there are too many.
    """
    start, end = interval
    sign = 1.0 if end > start else -1.0
    location = f"the event '{name}'"
    if at is not None:
        times = np.unique(np.array([number_in(each, unit, f"{location}, at") for each in at], dtype=np.float64))
        inside = times[(times >= min(interval)) & (times <= max(interval))]
        return inside if sign > 0.0 else inside[::-1]
    period = number_in(every, unit, f"{location}, every")
    spacing = float(np.spacing(max(abs(start), abs(end))))
    if 0.0 < period <= _CLOSEST * spacing:
        raise ValueGivenError(
            "a period is so short that its times cannot be told apart",
            name="every",
            location=location,
            expected=f"a time above {_CLOSEST * spacing:.3g}: around t = {max(start, end, key=abs):.6g} neighbouring "
            f"floating-point times are {spacing:.3g} apart",
            given=excerpt(every),
        )
    if not period > 0.0 or not abs(end - start) / period < _MAX_TIMES:
        raise ValueGivenError("a period must be above zero, and not too short for the interval", name="every",
                              location=location, expected=f"a time above {abs(end - start) / _MAX_TIMES:.3g}",
                              given=excerpt(every))  # fmt: skip
    begin = start + sign * period if first is None else number_in(first, unit, f"{location}, first")
    # as near to the start as rounding tells, so that a first time long before is an anchor
    before = max(0.0, np.ceil(sign * (start - begin) / period - 1e-9))
    count = int(max(0.0, np.floor(sign * (end - begin) / period + 1e-9) - before + 1.0))
    times = begin + sign * period * (before + np.arange(count))
    # Times that are zero but for rounding are zero.
    times[np.abs(times) <= _CLOSEST * np.spacing(abs(begin))] = 0.0
    return np.clip(times, min(interval), max(interval))
