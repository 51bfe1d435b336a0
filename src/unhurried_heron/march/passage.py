"""Crossing jumps and kinks: the march lands on each, the switch changes its value, and the march starts again.

Between two switches the rates are smooth, so every method keeps its order across them: E. Hairer, S. P. Norsett and G.
Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.6.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.formulas.narrow import Window
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.march.layout import March
from unhurried_heron.model.switch import HeldSwitch, Switch
from unhurried_heron.native.rows import prober
from unhurried_heron.native.signature import NativeFunction
from unhurried_heron.problem.problem import Problem

Crossing = tuple[float, str, float]
# so many crossings in a row without getting on: both sides push back to the switch
_MOST_IN_PLACE = 60
_IN_PLACE = 1e-10
_TINY = 1e-300


class Passage:
    """Holds the switches of one run and takes the march across them.

    Parameters
    ----------
    events : int
        Number of the user's events; the located switches come after them.
    fixed : bool
        Whether the steps are fixed.
    """

    def __init__(
        self,
        problem: Problem,
        march: March,
        events: int,
        *,
        fixed: bool,
        held: bool,
    ) -> None:
        self._problem, self._march, self._events, self._fixed = problem, march, events, fixed
        self._switches = problem.switches if held else ()
        self._timed = [each for each in self._switches if each.times is not None and isinstance(each, HeldSwitch)]
        windows = () if fixed else problem.narrow
        self._landings = _landings(self._switches, windows, problem.interval) if self._switches or windows else []
        self._longest = float(march.control["largest_step"][0])
        self._next = 0
        self._held = self._values_ahead() if self._timed else {}
        # made when they are first needed, by the function's identity
        self._probes: dict[int, Callable[[float], float | None]] = {}
        self._values: dict[str, float] = {}
        self._in_place = 0
        self._last = problem.interval[0]
        self.crossings: list[Crossing] = []
        self.marks: list[tuple[int, str]] = []
        self.endless = ""

    def _values_ahead(self) -> dict[str, dict[int, float]]:
        """Return what each switch of known times holds between the landings, by the landing that ends the stretch."""
        (start, end), times = self._problem.interval, [landing.time for landing in self._landings]
        edges = np.array([start, *times, end])
        middles = 0.5 * (edges[:-1] + edges[1:])
        # at the start it is not known yet which landing comes first
        places = {switch.slot: [k for k, edge in enumerate(edges[:-1]) if edge == start] for switch in self._timed}
        for k, landing in enumerate(self._landings):
            for switch in landing.switches:
                if isinstance(switch, HeldSwitch) and switch.slot in places:
                    places[switch.slot].append(k + 1)
        found = {}
        for switch in self._timed:
            here = np.array(sorted({*places[switch.slot]}))
            values = evaluate(switch.live, {**self._problem.parameters, "t": middles[here]})
            found[switch.slot] = dict(zip(here.tolist(), np.broadcast_to(values, here.size).tolist(), strict=True))
        return found

    def begin(self) -> None:
        """Give every switch its value at the start, and the march its first place to land on."""
        start, _ = self._problem.interval
        # what begins where the run does is there from the start
        while self._next < len(self._landings) and self._landings[self._next].time == start:
            self._march.control["largest_step"] = min(self._longest, self._landings[self._next].longest or np.inf)
            self._next += 1
        self._aim(start, self._timed)
        for switch in self._march.native.located:
            if isinstance(switch, HeldSwitch):
                self._set(switch, switch.value(self._surroundings(start)))

    def cross(self, reason: Reason, rows: int) -> bool:
        """Take the march across what it has come to; False if it has come to its end.

        ``rows`` counts the rows of the ledger so far.
        """
        control = self._march.control
        time = float(control["time"][0])
        if reason is Reason.REACHED_END:
            if self._next >= len(self._landings):
                return False
            if not self._land(time, rows):
                return True
            self._refresh_watched(time, None)
        else:
            index = int(control["stopped_by"][0]) - self._events
            if index < 0:
                return False
            switch = self._march.native.located[index]
            self._flip(switch, time, rows)
            if self._runs_in_place(switch, time):
                return False
            if self._events:
                self._refresh_events(time)
            self._refresh_watched(time, index)
        self._restart(time)
        return True

    def _land(self, time: float, rows: int) -> bool:
        """Pass a place that was landed on; False if nothing but the bound on the steps changes there."""
        landing = self._landings[self._next]
        before = dict(self._values)
        self._next += 1
        if landing.longest is not None:
            self._march.control["largest_step"] = min(self._longest, landing.longest)
        labels = landing.switches
        self._aim(time, [switch for switch in labels if isinstance(switch, HeldSwitch)])
        for switch in labels:
            if not isinstance(switch, HeldSwitch):
                self.crossings.append((time, switch.text, np.nan))
            elif self._values[switch.slot] != before[switch.slot]:
                self.crossings.append((time, switch.text, switch.told(self._values[switch.slot])))
        if labels:
            self.marks.append((rows - 1, ", ".join(switch.text for switch in labels)))
        return bool(labels)

    def _aim(self, time: float, changing: Sequence[HeldSwitch]) -> None:
        """Set the next landing, and switches of known times to their values until then."""
        end = self._landings[self._next].time if self._next < len(self._landings) else self._problem.interval[1]
        self._march.control["end"] = end
        self._march.native.hold_between(time, end)
        for switch in changing:
            self._set(switch, self._held[switch.slot][self._next])
        if changing:
            self._follow_nested(time, None)

    def _flip(self, switch: Switch, time: float, rows: int) -> None:
        told = np.nan
        if isinstance(switch, HeldSwitch):
            value = switch.beyond(self._values[switch.slot], lambda: self._surroundings(time))
            self._set(switch, value)
            self._follow_nested(time, switch)
            told = switch.told(value)
        self.crossings.append((time, switch.text, told))
        self.marks.append((rows - 1, switch.text))

    def _runs_in_place(self, switch: Switch, time: float) -> bool:
        start, end = self._problem.interval
        stays = abs(time - self._last) <= _IN_PLACE * abs(end - start)
        self._in_place = self._in_place + 1 if stays else 0
        self._last = time
        if self._in_place >= _MOST_IN_PLACE:
            self.endless = switch.text
        return bool(self.endless)

    def _set(self, switch: HeldSwitch, value: float) -> None:
        self._values[switch.slot] = value
        context = self._march.native.context
        context.array[context.slots[switch.slot]] = value

    def _follow_nested(self, time: float, flipped: HeldSwitch | None) -> None:
        """Switches that depend on others may be on their other side now."""
        for switch in self._march.native.located:
            # at the start those that are located have no value yet
            if not isinstance(switch, HeldSwitch) or switch.slot not in self._values:
                continue
            if switch.nested and switch is not flipped:
                self._set(switch, switch.following(self._surroundings(time)))

    def _surroundings(self, time: float) -> dict[str, Any]:
        """Everything a condition may mention, at a time."""
        state = self._march.system.state
        scalars = {name: state[place] for name, place in self._problem.model.layout.scalars.items()}
        problem = self._problem
        return {**problem.inputs, **problem.parameters, **self._values, **scalars, "t": time, STATE: state}

    def _value_of(self, function: NativeFunction, time: float) -> float:
        if id(function) not in self._probes:
            self._probes[id(function)] = prober(function, self._march.system.state)
        found = self._probes[id(function)](time)
        if found is None:
            function.raise_pending("an event or switch function")
            return float("nan")
        return found

    def _refresh_events(self, time: float) -> None:
        """Set what each event's function was at the start of the next step, so that none is lost or found twice."""
        watch, control = self._march.watch, self._march.control
        count = int(control["n_events"][0])
        slack = 1e-14 * max(abs(time), abs(float(control["step"][0])))
        for e in range(self._events):
            before = float(watch.values[0, e])
            now = self._value_of(self._march.native.events[e], time)
            here = [float(watch.times[k]) for k in range(count) if watch.which[k] == e]
            if here and abs(here[-1] - time) <= slack:
                now = 0.0
            elif not here and before != 0.0 and now * before <= 0.0:
                # it is reached within rounding of the switch: the next step finds it
                now = np.copysign(_TINY, before)
            watch.values[0, e] = now

    def _refresh_watched(self, time: float, crossed: int | None) -> None:
        native, values = self._march.native, self._march.watch.values
        for k, switch in enumerate(native.located):
            found = self._value_of(native.watched[k], time)
            # a switch without a value of its own was just passed: its zero must not be found again
            values[0, self._events + k] = 0.0 if k == crossed and not isinstance(switch, HeldSwitch) else found

    def _restart(self, time: float) -> None:
        control = self._march.control
        control["started"] = -1
        control["bad_component"] = -1
        if self._fixed:
            control["origin"], control["fixed_steps"] = time, 0
        else:
            control["step"] = 0.0


class Landing(NamedTuple):
    """A known time at which the march ends a step: the switches there, and the bound on the steps from there on."""

    time: float
    switches: tuple[Switch, ...] = ()
    longest: float | None = None


def _landings(
    switches: tuple[Switch, ...], windows: tuple[Window, ...], interval: tuple[float, float]
) -> list[Landing]:
    """Return the known times in the order of the run."""
    sign = 1.0 if interval[1] > interval[0] else -1.0
    close = 8 * np.finfo(float).eps * max(abs(interval[0]), abs(interval[1]))
    found = [Landing(time, (each,)) for each in switches for time in each.times or ()]
    found = [each for each in found if min(abs(each.time - interval[0]), abs(each.time - interval[1])) > close]
    edges: dict[float, float] = {}
    for window in windows[:: 1 if sign > 0 else -1]:
        first, last = (window.start, window.end) if sign > 0 else (window.end, window.start)
        # one that begins where another ends takes its place
        edges[first] = window.longest
        edges.setdefault(last, np.inf)
    found += [Landing(time, (), longest) for time, longest in edges.items() if time != interval[1]]
    merged: list[Landing] = []
    for each in sorted(found, key=lambda landing: sign * landing.time):
        if merged and abs(each.time - merged[-1].time) <= close:
            last_one = merged[-1]
            longest = last_one.longest if each.longest is None else each.longest
            merged[-1] = Landing(last_one.time, (*last_one.switches, *each.switches), longest)
        else:
            merged.append(each)
    return merged
