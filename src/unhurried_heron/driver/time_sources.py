"""What a run meets at known times: switches and events of known times, and where formulas of time are narrow.

What is linear in the time is worked out where a march begins (`kernels.march.initialise`); other times are listed.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.deadline import check_deadline
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.formulas.narrow_features import StepLimitWindow
from unhurried_heron.kernels.memory.initial_data import TOGETHER
from unhurried_heron.model.action import modes_of
from unhurried_heron.model.switch_types import Switch, input_switch
from unhurried_heron.model.time_switches import RunSwitches, TimeSwitch
from unhurried_heron.problem.known_times import known_times
from unhurried_heron.problem.problem import Problem

# The item of a source of bounds on the steps.
BOUNDS: Final = -1


class Listed(NamedTuple):
    """Times, in the order of the run, of an item: an event, n_events and a switch, or `BOUNDS` on the steps there.

    ``depth``: how many switches are one within another in it.
    """

    item: int
    times: Array
    depth: int = 0
    bounds: Array | None = None


class TimeSources(NamedTuple):
    """What a run meets at known times.

    ``switches`` of the run; ``listed``: times that are listed; ``constant``: whether they are the same whatever the
    values of the parameters; ``stops``: whether the march stops on its way at known times.
    """

    switches: RunSwitches
    listed: tuple[Listed, ...]
    constant: bool
    stops: bool


def time_sources(request: RunRequest, late: frozenset[int] = frozenset()) -> TimeSources:
    """Return what a run meets at known times.

    Parameters
    ----------
    request : RunRequest
    late : frozenset of int, optional
        Indices of switches that have too many known times, and so are located during the run.

    Returns
    -------
    TimeSources
    """
    problem, count = request.problem, len(request.events)
    events = [Listed(k, times) for k, times in enumerate(_event_times(request)) if times is not None]
    check_deadline()
    switches, listed = _switches(request, late, count) if request.held else (RunSwitches(), [])
    check_deadline()
    edges = edges_of(problem.narrow, request) if request.adapts else {}
    if request.adapts and problem.model.of_time:
        listed.append(Listed(BOUNDS, np.array([*edges]), bounds=np.array([*edges.values()])))
    timed = any(each.times is not None for each in switches.all)
    curved = any(each is not None and each.gap is None for each in switches.follow)
    constant = not curved and not (request.adapts and problem.model.of_time)
    return TimeSources(switches, (*events, *listed), constant, bool(timed or edges or events))


def _event_times(request: RunRequest) -> list[Array | None]:
    """Return the known times of each event, None of one that is looked for.

    Those before the start of the run are past: crossings back and forth may have moved the start beyond one, and a
    period is counted as near as rounding tells.
    """
    problem = request.problem
    sign = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
    found: list[Array | None] = [
        known_times(event, problem.interval, problem.units) if event.timed else None for event in request.events
    ]
    for event, _, time in request.met:
        times = found[event]
        if times is not None:
            later = (sign * times > sign * time) & ~_together(times, time)
            if request.events[event].every is not None:
                later &= times != problem.interval[0]
            found[event] = times[later]
    return found


def _switches(request: RunRequest, late: frozenset[int], count: int) -> tuple[RunSwitches, list[Listed]]:
    """Return the switches of a run, and the known times of those that have no line.

    Parameters
    ----------
    request : RunRequest
    late : frozenset of int
    count : int
        Of events.

    Returns
    -------
    (RunSwitches, list of Listed)
    """
    problem = request.problem
    follow = list(problem.time_switches(modes_of(problem.model, request.events, problem.units)))
    switches: list[Switch] = []
    listed = []
    for index, (switch, each) in enumerate(zip(problem.model.rates.switches, follow, strict=True)):
        times = None
        if each is not None and (index in late or late & set(each.inner)):
            follow[index] = None
        elif each is not None and each.gap is None:
            times = _curve(problem, each)
            if times is not None:
                listed.append(Listed(count + index, strictly_within(np.array(times), problem), each.depth))
        elif each is not None:
            times = ()
        switches.append(switch if times is None else _known(switch))
    for name, table in problem.inputs.items():
        switch = input_switch(name, table.kinks, table.interpolation == "previous", problem.interval)
        listed.append(Listed(count + len(switches), strictly_within(np.array(switch.times), problem)))
        switches.append(_known(switch))
    return RunSwitches(tuple(switches), tuple(follow)), listed


def _known(switch: Switch) -> Switch:
    """Return a switch that says of its times only that they are known."""
    return replace(switch, times=())


def _curve(problem: Problem, each: TimeSwitch) -> tuple[float, ...] | None:
    """Return the known times of a switch that is not linear in the time, as long as what they follow from is as before.

    None where they cannot be told apart.
    """
    values = {name: value for name, value in problem.parameters.items() if name in names_in(each.live)}
    found: Any = problem.model.lately(
        ("curve", each.index, *values.values(), problem.interval), lambda: each.curve(values, problem.interval)
    )
    times: tuple[float, ...] | None = found
    return times


def strictly_within(times: Array, problem: Problem) -> Array:
    """Leave out the times that are one time with an end of the interval."""
    if not times.size:
        return times
    kept: Array = times[~(_together(times, problem.interval[0]) | _together(times, problem.interval[1]))]
    return kept


def _together(times: Any, other: Any) -> Any:
    """Whether times are one time with another: within rounding of how large they are, and not of the interval."""
    return np.abs(times - other) <= TOGETHER * np.spacing(np.maximum(np.abs(times), np.abs(other)))


def edges_of(windows: tuple[StepLimitWindow, ...], request: RunRequest) -> dict[float, float]:
    """Return the bounds on the steps from certain times on, in the order of the run."""
    start, end = request.problem.interval
    edges: dict[float, float] = {}
    for window in windows[:: 1 if end > start else -1]:
        first, last = (window.start, window.end) if end > start else (window.end, window.start)
        # A window that begins where another ends replaces it there.
        edges[first] = window.longest
        edges.setdefault(last, np.inf)
    inside = {time: min(request.longest, longest) for time, longest in edges.items() if time != end}
    return dict(sorted(inside.items(), reverse=end < start))
