"""How events are met by what goes on after a run, or is met from its other end."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.input.event import Event, Going
from unhurried_heron.run.run import Run
from unhurried_heron.units.quantities import number_in

_OPPOSITE: dict[str, Going] = {"up": "down", "down": "up", "either": "either"}
_NEVER = "1 < 0"
# Times that differ by this share are one.
_ROUNDING = 1e-13


def event_counts(run: Run) -> list[int]:
    """Return how often each event has happened."""
    counts: list[int] = np.bincount(run.data.event_log.which, minlength=len(run.data.events)).tolist()
    return counts


def events_at_end(run: Run) -> tuple[tuple[int, Array, float], ...]:
    """Return the events that happened where a run ended, with the states before and the times of that.

    They are not to be found again.
    """
    found = run.data.event_log
    end = run.data.trajectory.end_time
    # Crossings back and forth may have moved the end by rounding.
    here = np.flatnonzero(np.abs(found.times - end) <= _ROUNDING * abs(end))
    return tuple((int(found.which[row]), found.before[row], float(found.times[row])) for row in here)


def final_modes(run: Run) -> dict[str, float]:
    """Return the parameters that events changed, as they are at the end."""
    values = run.data.event_log.modes_at(np.array([run.data.trajectory.end_time]), False)[0] if run.modes else ()
    return {name: float(value) for name, value in zip(run.modes, values, strict=True)}


def reversed_event(event: Event) -> Event:
    """Return the event as it is met in the other direction of time."""
    return replace(event, going=_OPPOSITE[event.going], stop=False, stop_after=None)


def continued_event(event: Event, seen: int, run: Run) -> Event:
    """Return the event as it is met after a run in which it happened ``seen`` times: counts and periods go on.

    Parameters
    ----------
    event : Event
    seen : int
        How often it happened.
    run : Run

    Returns
    -------
    Event
    """
    left: dict[str, Any] = {}
    if event.at_most is not None:
        left = {"at_most": event.at_most - seen} if event.at_most > seen else {"only_if": _NEVER, "at_most": None}
    if event.stop_after is not None and event.stop_after > seen:
        left["stop_after"] = event.stop_after - seen
    if event.every is not None and event.first is None:
        (start, end), unit = run.problem.interval, run.problem.units.get(TIME, "")
        period = number_in(event.every, unit, f"the event '{event.name}', every")
        left["first"] = float(start + np.copysign(period, end - start))
    return replace(event, **left) if left else event
