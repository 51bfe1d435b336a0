"""Driving a march from its start to its ending, in slices short enough to stop between."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import nullcontext
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, Records
from unhurried_heron.deadline import seconds_allowed, seconds_left
from unhurried_heron.driver.diagnostics import Look, look_at, next_look, worth_keeping
from unhurried_heron.driver.interrupt import DeferredInterrupt
from unhurried_heron.driver.march import March
from unhurried_heron.driver.recorder import StepRecorder, recorded
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.slide import Slide
from unhurried_heron.driver.slide_detection import AT_LAST, NEAR, slide_at
from unhurried_heron.driver.watchdog import Watchdog
from unhurried_heron.errors import ValueGivenError
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.model.action import modes_of
from unhurried_heron.model.switch_types import HeldSwitch, RootSwitch
from unhurried_heron.run.event_log import EMPTY_EVENT_LOG, EventLog, SwitchLog
from unhurried_heron.run.trajectory import Trajectory
from unhurried_heron.text.progress import ProgressBar

# A slice of a march lasts about this many seconds, so that Ctrl-C and budgets are heeded soon.
_SLICE_SECONDS = 0.05
# A slice has at most this many times the attempts of the one before.
_MAX_GROWTH = 512.0
# With full matrices of this size a single attempt may last longer than a slice.
_LARGE = 300
# A count that no march reaches.
_UNLIMITED = 2**62
# Steps between two looks at the pace.
_MANY = 1_000_000
# Steps have collapsed that became this share of those of the best slice,
_SHRUNK = 1e-3
# where the rest would take this many times the steps so far.
_HOPELESS = 1e3


class Driver:
    """Calls a march until it ends, keeping what it leaves; afterwards holds what the `Run` is made of."""

    def __init__(self, march: March, request: RunRequest) -> None:
        self.march, self.budget, self._request = march, request.budget, request
        self._times, self._steps = request.times, StepRecorder()
        self._rows = 0
        self._ledger: list[Array] | None = [] if request.ledger else None
        self._found: list[tuple[Array, ...]] = []
        self._switch_log: list[tuple[Array, ...]] = []
        context = march.native.context
        self._begun = context.values.copy()
        self.seconds = 0.0
        self.slide: Slide | None = None
        # the steps and the time at the last slice and at the last look at the pace, the longest steps of a slice on
        # average, and how many steps are left
        self._slice = self._seen = (0, request.problem.interval[0])
        self._longest = self.left = 0.0
        self.looks: list[Look] = []
        self._next_look = next_look(0)
        self.interrupted = self.ctrl_c = self.hands_over = False
        self.call_host: Callable[[], bool] = bool
        self.exhausted = ""

    def drive(self, bar: ProgressBar) -> Reason:
        """March to an ending.

        Raises
        ------
        BaseException
            Whatever the user's function raised.
        """
        control = self.march.control
        control["evaluation_limit"] = self.budget.rate_evaluations or _UNLIMITED
        begun = time.perf_counter()
        # The kernel is watched also if the march begins with an explicit method, which may change.
        large = self.march.system.n >= _LARGE
        with (
            DeferredInterrupt(self._stop) as deferred,
            Watchdog(self._stop, seconds_left()) if large else nullcontext(),
        ):
            while True:
                reason = self._next_slice()
                self.seconds = time.perf_counter() - begun
                bar.update(float(control["time"][0]), int(control["accepted"][0]))
                if reason is Reason.CHANGE and self._request.hands_over:
                    self.hands_over, reason = True, Reason.PAUSED
                    break
                if reason is Reason.CHANGE:
                    self.march.change()
                    # The pace that is known is that of the other method.
                    self.march.pace = 1
                elif reason is Reason.SWITCHING and self._may_slide():
                    self.slide = slide_at(self._request, self.march, self._last_crossed())
                    if self.slide is not None:
                        break
                    if control["leads_back"][0]:
                        control["rests_to_leave"] -= 1
                    else:
                        control["most_in_place"] = AT_LAST
                elif reason not in (Reason.BUFFER_FULL, Reason.PAUSED, Reason.EVENTS_FULL):
                    break
                self.interrupted = deferred.hit
                # In the middle of a step only the time counts.
                self.exhausted = self._out_of_time() if reason is Reason.EVENTS_FULL else self._exhausted()
                if self.interrupted or self.exhausted:
                    reason = Reason.PAUSED
                    break
                if self._request.adapts and self._collapses():
                    reason = Reason.COLLAPSED
                    break
        self.ctrl_c, self.call_host = deferred.hit, deferred.call_host
        if reason in (Reason.RATES_STOPPED, Reason.EVENT_STOPPED):
            self.march.native.raise_pending(float(control["bad_time"][0]))
        if reason is Reason.INCONSISTENT:
            raise self._inconsistent()
        return reason

    def _inconsistent(self) -> ValueGivenError:
        """Return the error of starting values that miss constraints."""
        march, problem = self.march, self._request.problem
        index, move = int(march.control["bad_component"][0]), march.system.rates_at_state
        name, value = problem.model.layout.names[index], float(march.system.state[index])
        return ValueGivenError(
            f"the starting values miss a constraint: '{name}' begins {move[index]:.6g} from where it would hold",
            name=name,
            location="initial",
            expected=f"values for which the equations of rows of zeros hold, such as {name} near"
            f" {value + move[index]:.12g}",
            given=f"{name} = {value:.12g}",
        )

    def _may_slide(self) -> bool:
        """Whether it is still open if crossings that lead back to each other are a motion along their switches."""
        control = self.march.control
        open_yet = control["leads_back"][0] or control["most_in_place"][0] < AT_LAST
        return bool(open_yet and control["started"][0] == -1)

    def _stop(self) -> None:
        self.march.control["attempts_left"] = 0
        self.march.control["stop"] = 1

    def _attempts(self) -> int:
        control = self.march.control
        return int(control["accepted"][0] + control["refused"][0])

    def _next_slice(self) -> Reason:
        control = self.march.control
        allowed = self.march.pace
        if self.budget.steps is not None:
            allowed = min(allowed, self.budget.steps - self._attempts())
        # Examinations follow counts of attempts, not the clock, so that runs are repeatable.
        allowed = min(allowed, max(self._next_look - self._attempts(), 1))
        control["attempts_left"] = allowed
        before, attempts = time.perf_counter(), self._attempts()
        reason = Reason(self.march.chunk())
        taken = time.perf_counter() - before
        if reason is Reason.EVENTS_FULL:
            # the steps stay in their buffer, which holds the one that is being searched
            self._keep_events()
        else:
            self._keep()
        if reason is Reason.PAUSED:
            growth = min(_MAX_GROWTH, max(0.1, _SLICE_SECONDS / max(taken, 1e-9)))
            # The growth refers to the attempts of the slice, which may be fewer than the pace.
            self.march.pace = int(min(1e9, max(1.0, (self._attempts() - attempts) * growth)))
        if self._attempts() >= self._next_look:
            self._look(self._attempts())
        return reason

    def _look(self, attempts: int) -> None:
        """Keep where the march is, if stability can hold its steps back."""
        if not (self._request.adapts and np.isfinite(self._request.method.real_stability_limit)):
            self._next_look = _UNLIMITED
            return
        self.looks = [*worth_keeping(self.looks, attempts), look_at(self.march, attempts)]
        self._next_look = next_look(attempts)

    def _keep(self) -> None:
        control, output = self.march.control, self.march.output
        count = int(control["n_steps"][0])
        if count and self._steps.take(output, count):
            self.march.renew_output()
        self._keep_crossed(int(control["n_crossed"][0]))
        if self._request.sink is not None:
            rows = int(control["next_wanted"][0])
            self._request.sink.take(self._request.problem, self._times, self.march.recorded, rows)
        self._rows += int(control["n_rows"][0])
        if self._ledger is not None:
            self._ledger.append(output.ledger[: control["n_rows"][0]].copy())
        self._keep_events()

    def _keep_events(self) -> None:
        control, watch = self.march.control, self.march.watch
        count, events = int(control["n_events"][0]), len(self.march.native.events)
        if not count or not events:
            return
        own = np.flatnonzero(watch.which[:count] < events)
        if own.size:
            states = watch.states[own]
            after = (watch.after[own], watch.modes[own]) if watch.acting else (states, np.empty((own.size, 0)))
            self._found.append((watch.times[own], watch.which[own], states, *after))

    def _keep_crossed(self, count: int) -> None:
        if count:
            each = self.march.crossing
            rows = each.crossed_row[:count] + self._rows
            self._switch_log.append(
                (
                    each.crossed[:count].copy(),
                    each.crossed_which[:count].copy(),
                    each.crossed_values[:count].copy(),
                    rows,
                )
            )

    def _last_crossed(self) -> list[int]:
        """Return the numbers of the switches that were crossed where the march stands, in whatever slices."""
        found: list[int] = []
        for times, which, _, _ in self._switch_log[::-1]:
            near = np.abs(times - self.march.last("time")) <= NEAR * self.march.last("span")
            found = [*which[near].tolist(), *found]
            if len(found) > AT_LAST or not near[0]:
                break
        return found

    def _exhausted(self) -> str:
        control, budget = self.march.control, self.budget
        if budget.steps is not None and self._attempts() >= budget.steps:
            return f"{budget.steps} step{'s' * (budget.steps > 1)}"
        if budget.rate_evaluations is not None and control["rate_evaluations"][0] >= budget.rate_evaluations:
            return f"{budget.rate_evaluations} rate evaluation{'s' * (budget.rate_evaluations > 1)}"
        return self._out_of_time()

    def _collapses(self) -> bool:
        """Whether steps that were long have become so short that the march would never come to its end."""
        control = self.march.control
        count, time = int(control["accepted"][0]), float(control["time"][0])
        if count > self._slice[0]:
            self._longest = max(self._longest, abs(time - self._slice[1]) / (count - self._slice[0]))
            self._slice = (count, time)
        if count - self._seen[0] < _MANY:
            return False
        before, self._seen = self._seen, (count, time)
        mean = abs(time - before[1]) / (count - before[0])
        left = abs(self._request.problem.interval[1] - time)
        self.left = left / max(mean, 1e-300)
        return mean < _SHRUNK * self._longest and self.left > _HOPELESS * count

    def _out_of_time(self) -> str:
        # The seconds of the set-up count, too.
        return seconds_allowed() if seconds_left() <= 0.0 else ""

    def root_values(self) -> dict[str, float]:
        """Return whether each root counts, 1, or rests at zero, 0, by the name of its switch."""
        context = self.march.native.context
        roots = [each for each in self._request.problem.model.rates.switches if isinstance(each, RootSwitch)]
        return {each.slot: float(context.array[context.slots[each.slot]]) for each in roots}

    def widths(self) -> dict[str, float]:
        """Return how near to zero the argument of each root counted as zero, by the name of the width."""
        context, roots = self.march.native.context, self._request.problem.model.resting_roots
        return {each.width: float(context.array[context.slots[each.width]]) for each in roots}

    def event_log(self) -> EventLog:
        """Return the events, in the order they happened."""
        native, events, n = self.march.native, self._request.events, self.march.system.state.size
        if not events:
            return EMPTY_EVENT_LOG
        modes = native.beyond.modes if native.beyond else ()
        none = np.empty(0), np.empty(0, dtype=np.int64), *np.empty((2, 0, n)), np.empty((0, len(modes)))
        found = [np.concatenate(each) for each in zip(none, *self._found, strict=True)] if self._found else [*none]
        if self.march.last("searching"):
            # The march ended within a step that is not part of the run.
            sign = np.sign(self._request.problem.interval[1] - self._request.problem.interval[0])
            inside = sign * (found[0] - self.march.last("time")) <= 0.0
            found = [each[inside] for each in found]
        times, which, before, after, levels = found
        acting = np.array([event.then is not None for event in events], dtype=bool)[which]
        names = tuple(native.context.parameters[slot] for slot in modes)
        problem = self._request.problem
        start, end = problem.interval
        begun, sign = self._begun[list(modes)], float(np.sign(end - start))
        assigned = modes_of(problem.model, tuple(each for each in events if not callable(each.then)), problem.units)
        return EventLog(times, which, before, after, levels, acting, names, begun, sign, assigned)

    def crossed(self) -> SwitchLog:
        """Return what was crossed: switches, in the order of the run."""
        switches = self.march.native.beyond.switches if self.march.native.beyond else ()
        if not self._switch_log:
            return SwitchLog.nothing()
        times, which, crossed_values, rows = (np.concatenate(each) for each in zip(*self._switch_log, strict=True))
        denied = np.array([isinstance(each, HeldSwitch) and each.opposite for each in switches])
        return SwitchLog(
            times,
            which,
            np.where(denied[which], 1.0 - crossed_values, crossed_values),
            rows,
            tuple(s.text for s in switches),
        )

    def trajectory(self, event_log: EventLog) -> Trajectory:
        """Return the solution, as far as it was kept."""
        control, state = self.march.control, self.march.system.state.copy()
        time = float(control["time"][0])
        jumps = event_log.jumps()
        if self._times is None:
            return self._steps.trajectory(time, state, jumps, self._request.nonnegative)
        count = int(control["next_wanted"][0])
        return recorded(self._times, self.march.recorded, count, time, state, jumps)

    def ledger(self) -> Records | None:
        """One row for each attempt, (n_attempts,) of `control.LEDGER`, or None if it was not kept."""
        parts: Any = self._ledger
        return None if parts is None else parts[0] if len(parts) == 1 else np.concatenate(parts)
