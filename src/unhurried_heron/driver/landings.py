"""What a march meets on its way, laid out for `kernels.march.crossing`: known times, switches, events that act."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, IntArray
from unhurried_heron.codegen.signature import address
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.deadline import check_deadline
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.widths import widths_of
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.kernels.memory.bundles import ACTION_SIZE, Crossing
from unhurried_heron.kernels.memory.control import CEIL, FLOOR, PASSED, ROOT, TRUTH
from unhurried_heron.model.switch_types import HeldSwitch, RootSwitch, Switch, WholeSwitch
from unhurried_heron.problem.known_times import known_times
from unhurried_heron.problem.pointwise import surroundings

# Crossings that fit into the buffer before the march returns.
_ROOM = 1024
# Known times are one time if they differ by no more than this number of spacings of floating-point numbers of their
# size.
TOGETHER: Final = 4.0
# The fields of a crossing that hold known times.
FIRST, BEYOND = Crossing._fields.index("n_landings"), Crossing._fields.index("n_tables")
_NOTHING, _NO_PLACES = np.empty(0), np.empty(0, dtype=np.int64)


class Landings(NamedTuple):
    """Known times in the order of the run, as `Crossing` has them; ``start``: what switches hold at first."""

    times: Array
    longest: Array
    begins: IntArray
    items: IntArray
    values: Array
    inner: Array
    start: dict[str, float]


NOWHERE = Landings(_NOTHING, _NOTHING, _NO_PLACES, _NO_PLACES, _NOTHING, _NOTHING, {})


def landings_of(request: RunRequest, switches: tuple[Switch, ...]) -> Landings:
    """Return where a run lands: at switches and events of known times, and where formulas of time are narrow."""
    problem, count = request.problem, len(request.events)
    narrow = request.adapts and problem.narrow
    if not (narrow or any(each.times is not None for each in switches) or any(event.timed for event in request.events)):
        return NOWHERE
    (start, end), sign = problem.interval, 1.0 if problem.interval[1] > problem.interval[0] else -1.0
    found = [(k, known_times(event, problem.interval, problem.units)) for k, event in enumerate(request.events)]
    check_deadline()
    for event, _, time in request.met:
        # Events before the start of the run are past.
        times = found[event][1]
        later = (sign * times > sign * time) & ~_together(times, time)
        if request.events[event].every is not None:
            # crossings back and forth have moved the start beyond it, and a period is counted as near as rounding tells
            later &= times != start
        found[event] = event, times[later]
    for k, switch in enumerate(switches):
        times = np.array(switch.times or ())
        found.append((count + k, times[~(_together(times, start) | _together(times, end))]))
    edges = _edges(request) if narrow else {}
    whens = np.concatenate([*(times for _, times in found), np.array([*edges])])
    items = np.concatenate([*(np.full(times.size, item) for item, times in found), np.full(len(edges), -1)])
    check_deadline()
    order = np.argsort(sign * whens, kind="stable")
    whens, items = whens[order], items[order].astype(np.int64)
    check_deadline()
    group = _grouped(whens, items)
    check_deadline()
    times = whens[np.flatnonzero(np.diff(group, prepend=-1))]
    longest = np.full(times.size, np.nan)
    for index in np.flatnonzero(items < 0):
        longest[group[index]] = edges[float(whens[index])]
    real = items >= 0
    begins = np.searchsorted(group[real], np.arange(times.size + 1))
    check_deadline()
    values, begun = _values(request, switches, times, items[real], group[real])
    check_deadline()
    bounds = np.array([start, *times, end]) if times.size < 2 else np.concatenate([[start], times, [end]])
    inner = np.stack([np.nextafter(bounds[:-1], bounds[1:]), np.nextafter(bounds[1:], bounds[:-1])], axis=1)
    return Landings(np.append(times, end), longest, begins, items[real], values, np.sort(inner, axis=1), begun)


def _together(times: Any, other: Any) -> BoolArray:
    """Whether times are one time with others, (n,): within rounding of how large they are, and not of the interval."""
    near: BoolArray = np.abs(times - other) <= TOGETHER * np.spacing(np.maximum(np.abs(times), np.abs(other)))
    return near


def _grouped(times: Array, items: Any) -> IntArray:
    """Return, of known times in their order, which belong to one landing: its number for each, int64 (n,).

    A landing takes what is one time with its first, and nothing twice, so it has a bounded number of items.
    """
    fresh = np.append(True, ~_together(times[1:], times[:-1])) if times.size else np.empty(0, dtype=bool)
    for begin in np.flatnonzero(fresh[:-1] & ~fresh[1:]) if times.size else ():
        head, seen, index = times[begin], {int(items[begin])}, begin + 1
        while index < times.size and not fresh[index]:
            item = int(items[index])
            if not _together(times[index], head) or (item in seen and item >= 0 and times[index] != head):
                head, seen, fresh[index] = times[index], set(), True
            seen.add(item)
            index += 1
    return np.cumsum(fresh) - 1


def _edges(request: RunRequest) -> dict[float, float]:
    """Return the bounds on the steps from certain times on."""
    start, end = request.problem.interval
    edges: dict[float, float] = {}
    for window in request.problem.narrow[:: 1 if end > start else -1]:
        first, last = (window.start, window.end) if end > start else (window.end, window.start)
        # A window that begins where another ends replaces it there.
        edges[first] = window.longest
        edges.setdefault(last, np.inf)
    return {time: min(request.longest, longest) for time, longest in edges.items() if time != end}


def _values(
    request: RunRequest, switches: tuple[Switch, ...], times: Array, items: Any, group: Any
) -> tuple[Array, dict[str, float]]:
    """Return what each item that is a held switch takes, NaN for others, and what these hold at first.

    Parameters
    ----------
    request : RunRequest
    switches : tuple[Switch, ...]
    times : ndarray, shape (n_times,)
    items : ndarray of int64, shape (n_items,)
        Events, or n_events and a switch.
    group : ndarray of int64, shape (n_items,)
        The landing of each.

    Returns
    -------
    (ndarray, dict of str to float)
    """
    problem, count = request.problem, len(request.events)
    start, end = problem.interval
    values, begun = np.full(items.size, np.nan), {}
    later = np.append(times[times != start], end)
    for k, switch in enumerate(switches):
        if switch.times is None or not isinstance(switch, HeldSwitch):
            continue
        mine = np.flatnonzero(items == count + k)
        ends = np.append(times, end)[group[mine] + 1]
        begins = times[group[mine]]
        middles = np.append(0.5 * (begins + ends), 0.5 * (start + later[0]))
        # Between neighbouring numbers there is no time.
        middles[:-1] = np.where(middles[:-1] == ends, begins, middles[:-1])
        held = np.broadcast_to(evaluate(switch.live, {**problem.parameters, "t": middles}), middles.size)
        values[mine], begun[switch.slot] = held[:-1], float(held[-1])
    return values, begun


def crossing_of(request: RunRequest, native: NativeSystem, *, stops: bool) -> Crossing:
    """Allocate what is the same for all runs of a march.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
    stops : bool
        Whether the march stops on its way at all.

    Returns
    -------
    Crossing

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    beyond, context = native.beyond, native.context
    if beyond is None:
        raise unforeseen("a march with crossings and without their functions")
    switches = beyond.switches if stops else ()
    actions = np.zeros((len(request.events), ACTION_SIZE), dtype=np.int64)
    begin = 0
    for k, (action, target) in enumerate(zip(beyond.actions, beyond.targets, strict=True)):
        if action is not None:
            count = -target.size if callable(request.events[k].then) else target.size
            actions[k] = action.address, action.context_address, begin, count
        begin += target.size
    targets = np.concatenate([*beyond.targets, _NO_PLACES]).astype(np.int64)
    held = [switch if isinstance(switch, HeldSwitch) else None for switch in switches]
    pairs = [_pairs([functions.get(each.slot) if each else None for each in held])
             for functions in (beyond.gaps, beyond.lives)]  # fmt: skip
    located = [k for k, switch in enumerate(switches) if switch.times is None]
    tables = [[address(rows), table.times.size, slot + 1] for table, rows, slot in context.tables]
    room = _ROOM + 4 * len(switches) if stops else 0
    return Crossing(
        context=context.array,
        changes=context.array.size - 1,
        n_events=len(request.events),
        actions=actions,
        targets=targets,
        fresh=np.zeros(max([1, *(target.size for target in beyond.targets)])),
        n_switches=len(switches),
        slots=_longs([context.slots[each.slot] if each else -1 for each in held]),
        kinds=_longs([_kind(switch) for switch in switches]),
        nested=_longs([int(each.nested) if each else 0 for each in held]),
        gaps=pairs[0],
        lives=pairs[1],
        located=_longs(located),
        room=room,
        crossed=np.empty(room),
        crossed_which=np.empty(room, dtype=np.int64),
        crossed_values=np.empty(room),
        crossed_row=np.empty(room, dtype=np.int64),
        n_landings=0,
        times=_NOTHING,
        longest=_NOTHING,
        begins=_NO_PLACES,
        items=_NO_PLACES,
        values=_NOTHING,
        n_tables=len(tables),
        tables=_longs(tables),
        limited=int(native.limits is not None),
        limits=_NOTHING if native.limits is None else native.limits,
        inner=_NOTHING,
    )


def _kind(switch: Switch) -> int:
    if isinstance(switch, WholeSwitch):
        return FLOOR if switch.op == "floor" else CEIL
    if isinstance(switch, RootSwitch):
        return ROOT
    return TRUTH if isinstance(switch, HeldSwitch) else PASSED


def _pairs(functions: list[Any]) -> IntArray:
    return _longs([[each.address, each.context_address] if each else [0, 0] for each in functions])


def _longs(values: Any) -> IntArray:
    return np.ascontiguousarray(values, dtype=np.int64)


def with_landings(crossing: Crossing, landings: Landings, interval: tuple[float, float]) -> Crossing:
    """Return the crossing of another run.

    Parameters
    ----------
    crossing : Crossing
    landings : Landings
    interval : (float, float)
        From when to when.

    Returns
    -------
    Crossing
    """
    if landings is NOWHERE:
        inner = np.sort([np.nextafter(*interval), np.nextafter(*interval[::-1])])
        landings = landings._replace(times=np.array(interval[1:]), begins=np.zeros(1, dtype=np.int64), inner=inner)
    kept = {name: getattr(landings, name) for name in Landings._fields if name != "start"}
    return crossing._replace(n_landings=landings.longest.size, **kept)


def table_part(crossing: Crossing) -> list[int]:
    """Return the part of a march's table that tells the known times, from ``n_landings`` to ``values``."""
    return [crossing.n_landings, *map(address, crossing[FIRST + 1 : BEYOND])]


def hold_at_start(request: RunRequest, native: NativeSystem, begun: dict[str, float]) -> None:
    """Give every switch its value at the start.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
    begun : dict of str to float
        Values of switches that follow from the time.
    """
    context, problem = native.context, request.problem
    widths = widths_of(request)
    for slot, value in {**begun, **widths}.items():
        context.array[context.slots[slot]] = value
    located = [switch for switch in native.located if isinstance(switch, HeldSwitch)]
    if located:
        start, state = problem.interval[0], problem.start
        around = surroundings(problem, start, state) | widths
        for switch in located:
            context.array[context.slots[switch.slot]] = request.roots.get(switch.slot, switch.value(around))
