"""Switches that follow from time and parameters alone: which have known times, and how these follow.

Where the switching function is linear in the time as long as the switches within it keep their values, its zeros are
quotients of two formulas of parameters, on one interval after another. Other formulas of the time are searched by
interval arithmetic (`formulas.crossing_times`).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.crossing_times import MAX_TIMES, crossing_times
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import TIME, ZERO, Node, names_in, rewrite, walk
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.simplify import simplified
from unhurried_heron.model.switch_types import HeldSwitch, Switch, UnheldSwitch, WholeSwitch

_BROKEN = with_fact(lambda each: not each.smooth)


@dataclass(frozen=True)
class TimeSwitch:
    """How the times of a switch follow from parameters.

    Attributes
    ----------
    index : int
        Among the switches of the run.
    switch : HeldSwitch or UnheldSwitch
    gap, growth : Node or None
        The switching function, with the switches in it held, and its derivative by the time, free of the time; None
        for a curve.
    inner : tuple of int
        Indices of the switches in the gap.
    depth : int
        0 without any, else one more than the largest of theirs.
    """

    index: int
    switch: HeldSwitch | UnheldSwitch
    gap: Node | None = None
    growth: Node | None = None
    inner: tuple[int, ...] = ()
    depth: int = 0

    @property
    def live(self) -> Node:
        """The condition, or the whole number, with no switch held."""
        return self.switch.live if isinstance(self.switch, HeldSwitch) else Node("ge", self.switch.gap, ZERO)

    def curve(self, values: Mapping[str, Any], interval: tuple[float, float]) -> tuple[float, ...] | None:
        """Return the times of a curve strictly within an interval, in the order of the run; None where not isolated."""
        return self.curves(values, interval, 1)[0]

    def curves(
        self, values: Mapping[str, Any], interval: tuple[float, float], count: int
    ) -> list[tuple[float, ...] | None]:
        """Return the times of a curve for many values of parameters, as `curve` does.

        Parameters
        ----------
        values : mapping of str to float or ndarray, shape (count,)
        interval : (float, float)
        count : int

        Returns
        -------
        list of (tuple of float or None)
        """
        low, high = np.full(count, min(interval)), np.full(count, max(interval))
        found = crossing_times(self.live, values, low, high)
        return [None if times is None else _inside(times, interval) for times in found]


class RunSwitches(NamedTuple):
    """The switches of a run, without times where they are located on the way, and how the times of each follow."""

    all: tuple[Switch, ...] = ()
    follow: tuple[TimeSwitch | None, ...] = ()


def _inside(times: Iterable[float], interval: tuple[float, float]) -> tuple[float, ...]:
    low, high = min(interval), max(interval)
    kept = {float(time) for time in times if low < time < high}
    return tuple(sorted(kept, reverse=interval[1] < interval[0]))


def time_switches(switches: Sequence[Switch], known: Iterable[str]) -> tuple[TimeSwitch | None, ...]:
    """Return of each switch how its times follow from known parameters; None where they do not.

    Parameters
    ----------
    switches : sequence of Switch
    known : iterable of str
        Parameters that have a value, and keep it during the run.

    Returns
    -------
    tuple of TimeSwitch or None
    """
    allowed, slots = {TIME, *known}, dict[str, TimeSwitch]()
    found: list[TimeSwitch | None] = []
    for index, switch in enumerate(switches):
        each = None
        if switch.cause == "time" and isinstance(switch, HeldSwitch | UnheldSwitch):
            bare = TimeSwitch(index, switch)
            if names_in(bare.live) <= allowed:
                each = _with_line(bare, allowed, slots)
                if isinstance(switch, HeldSwitch):
                    slots[switch.slot] = each
        found.append(each)
    return tuple(found)


def _with_line(bare: TimeSwitch, allowed: set[str], slots: Mapping[str, TimeSwitch]) -> TimeSwitch:
    """Return a switch with those within it, and with its formulas where they are linear in the time.

    Parameters
    ----------
    bare : TimeSwitch
    allowed : set of str
        The time, and known parameters.
    slots : mapping of str to TimeSwitch
        Those before it, by what stands for their values.

    Returns
    -------
    TimeSwitch
    """
    gap = rewrite(bare.switch.gap, simplified, {})
    within = [slots[each] for each in sorted(names_in(gap)) if each in slots]
    depth = 1 + max((each.depth for each in within), default=-1)
    found = replace(bare, inner=tuple(each.index for each in within), depth=depth)
    held = {each.switch.slot for each in within if isinstance(each.switch, HeldSwitch)}
    if not names_in(gap) <= allowed | held or any(each.gap is None for each in within):
        return found
    if any(part.op in _BROKEN and TIME in names_in(_chooser(part)) for part in walk(gap)):
        return found
    growth = rewrite(Differentiator([TIME]).by_name(gap).get(TIME, ZERO), simplified, {})
    return found if TIME in names_in(growth) else replace(found, gap=gap, growth=growth)


def _chooser(part: Node) -> Node:
    """Return what decides where a formula that is not smooth breaks: of a choice its condition."""
    return part.operands[0] if part.op == "where" else part


def with_times(
    switches: Sequence[Switch],
    follow: Sequence[TimeSwitch | None],
    values: Mapping[str, Any],
    interval: tuple[float, float],
) -> tuple[Switch, ...]:
    """Return switches with their times in an interval, where these follow from values.

    Parameters
    ----------
    switches : sequence of Switch
    follow : sequence of TimeSwitch or None
        How the times of each follow.
    values : mapping of str to float
        Of parameters that keep them.
    interval : (float, float)
        From when to when.

    Returns
    -------
    tuple of Switch
    """
    found: list[Switch] = []
    for switch, each in zip(switches, follow, strict=True):
        if each is None:
            found.append(switch)
            continue
        times = _times(each, found, values, interval)
        found.append(replace(switch, cause="state") if times is None else replace(switch, times=times))
    return tuple(found)


def _times(
    each: TimeSwitch, before: Sequence[Switch], values: Mapping[str, Any], interval: tuple[float, float]
) -> tuple[float, ...] | None:
    """Return when a switch is crossed, in the order of the run; None where that cannot be known beforehand.

    Parameters
    ----------
    each : TimeSwitch
    before : sequence of Switch
        Those before it, with their times.
    values : mapping of str to float
    interval : (float, float)

    Returns
    -------
    tuple of float or None
    """
    inner = [before[index] for index in each.inner]
    if each.gap is None or each.growth is None or any(other.times is None for other in inner):
        return each.curve(values, interval)
    low, high = min(interval), max(interval)
    edges = np.array([low, *sorted({time for other in inner for time in other.times or ()}), high])
    middles = {**values, TIME: 0.5 * (edges[:-1] + edges[1:])}
    held = {other.slot: _truth(evaluate(other.live, middles)) for other in inner if isinstance(other, HeldSwitch)}
    start, growth = (
        np.broadcast_to(evaluate(node, {**values, **held, TIME: 0.0}), edges.size - 1)
        for node in (each.gap, each.growth)
    )
    pieces = [_crossed(each, *piece) for piece in zip(start, growth, edges[:-1], edges[1:], strict=True)]
    if sum(times.size for times in pieces) > MAX_TIMES:
        return None
    if edges.size == 2:
        return _inside(pieces[0], interval)
    # at the times of the switches within it, it may jump or stay
    marks = np.unique(np.concatenate([edges, *pieces]))
    middles = {**values, TIME: 0.5 * (marks[:-1] + marks[1:])}
    between = np.broadcast_to(evaluate(each.live, middles), marks.size - 1)
    return _inside(marks[1:-1][between[1:] != between[:-1]].tolist(), interval)


def _truth(value: Any) -> Any:
    return np.asarray(value, dtype=np.float64)


def _crossed(each: TimeSwitch, start: float, growth: float, begin: float, end: float) -> Array:
    """Return where a line crosses zero, or whole numbers, strictly within an interval; too many where they are.

    Parameters
    ----------
    each : TimeSwitch
    start : float
        The line at time 0.
    growth : float
        Its derivative.
    begin, end : float

    Returns
    -------
    ndarray, shape (n_times,)
    """
    steps = np.zeros(1)
    if growth == 0.0 or not np.isfinite([start, growth]).all():
        return np.empty(0)
    if isinstance(each.switch, WholeSwitch):
        first, last = sorted((start + growth * begin, start + growth * end))
        if not last - first < MAX_TIMES:
            return np.empty(MAX_TIMES + 1)
        steps = np.arange(np.floor(first), np.ceil(last) + 1.0)
    times = (steps - start) / growth
    return np.sort(times[(times > begin) & (times < end)])
