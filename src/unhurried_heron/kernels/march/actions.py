"""Events that act: what they change, in which order, and which others their jumps take along."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import happens_at, keep_after
from unhurried_heron.kernels.march.event_values import changes, in_band, watch_values
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.memory.bundles import ACTION_SIZE, FIRST_TARGET, N_TARGETS
from unhurried_heron.kernels.memory.call import address_of, as_longs, offset_by
from unhurried_heron.kernels.memory.control import (
    ACTION_FAILED,
    ACTS,
    BEFORE_ROW,
    CROSSES,
    END_ROW,
    ENDS,
    EVENT,
    EVENT_STOPPED,
    REACHED_END,
    SWITCHING,
)

# A value that tells only the side of a function at zero.
_TINY = 1e-300
# Times that differ by this share of time or step are one.
_SAME_TIME = 1e-14


@inner
def _found_here(watch, control, event):
    """Whether an event was found where the march stands: on this step, or of one that goes both ways on steps before.

    What goes one way only and comes from the other side again does happen again.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.

    Returns
    -------
    bool
    """
    slack = _SAME_TIME * max(abs(control.time), abs(control.length))
    index = control.n_events - 1
    first = 0 if watch.going[event] == 0 else control.first_event
    while index >= first and abs(watch.times[index] - control.time) <= slack:
        if watch.which[index] == event:
            return True
        index -= 1
    return False


@inner
def _found_before(watch, control, event):
    """Whether an event was found on this step, before where the march stands.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.

    Returns
    -------
    bool
    """
    found = False
    for index in range(control.first_event, control.n_events):
        found = found or watch.which[index] == event
    return found


@inner
def refresh_events(watch, control, count):
    """Set what each event's function is where the next step begins, so that none is lost or found twice.

    START_ROW holds what they were where the step began, END_ROW at its end, had nothing stopped it, BEFORE_ROW here.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    count : int
        Number of events.
    """
    slack = _SAME_TIME * max(abs(control.time), abs(control.length))
    for e in range(count):
        before, end, now = watch.values[e], watch.values[END_ROW * watch.m + e], watch.values[BEFORE_ROW * watch.m + e]
        if watch.band[e] > 0.0 and in_band(watch, e, now) and not _found_here(watch, control, e):
            # The event has acted, and its function has not been away from zero since.
            continue
        stays = before == 0.0 and watch.going[e] == 0 and control.crossing == CROSSES
        if _found_here(watch, control, e) or (stays and abs(control.theta * control.length) <= slack):
            now = 0.0
        elif before == 0.0 and now == 0.0:
            # Within rounding of the start of the step, the function is on the side to which the step goes.
            now = np.copysign(_TINY, end) if end != 0.0 and watch.going[e] != 0 else 0.0
        elif before != 0.0 and now * before <= 0.0 and not _found_before(watch, control, e):
            if changes(before, now, watch.going[e]):
                # The zero is within rounding of this time: the next step finds it.
                now = np.copysign(_TINY, before)
            elif now == 0.0:
                # The function has passed zero the other way, as far as rounding tells.
                now = np.copysign(_TINY, -before)
        watch.values[e] = now


@inner
def happen_here(watch, control, system, event):
    """Put an event that happens here, without having been found on a step, after the others.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.
    """
    index, n = control.n_events, system.n
    if index >= watch.room:
        control.no_room = 1
        return
    watch.times[index], watch.which[index] = control.time, event
    for k in range(n):
        watch.states[index * n + k] = system.state[k]
    keep_after(watch, index, system.n, system.state)
    control.n_events += 1


@inner
def _act(system, watch, control, crossing, event, index):
    """Change states and parameters as an event wants it, and keep what came of it; return REACHED_END if all is well.

    EVENT_STOPPED if its function stopped, ACTION_FAILED where it gives a value that is no number.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing
    event : int
        Index of the event function.
    index : int
        Row of the event among those that were found.

    Returns
    -------
    int
        EVENT_STOPPED, ACTION_FAILED or REACHED_END.
    """
    n, fresh = system.n, crossing.fresh
    # Events that happen together within rounding have one time.
    watch.times[index] = control.time
    action = offset_by(crossing.actions, ACTION_SIZE * event)
    first, count = action[FIRST_TARGET], action[N_TARGETS]
    if has_function(action, 0):
        control.bad_time = control.time
        if call_function(action, 0, control.time, system.state, fresh) != 1:
            return EVENT_STOPPED
        for k in range(abs(count)):
            target = crossing.targets[first + k]
            # a function leaves what it does not name
            if count < 0 and fresh[k] != fresh[k]:
                continue
            if not abs(fresh[k]) < np.inf:
                control.bad_component, control.stopped_by = target, event
                return ACTION_FAILED
            if target < n:
                control.moved = control.moved or int(system.state[target] != fresh[k])
                system.state[target] = fresh[k]
            else:
                crossing.context[target - n] = fresh[k]
        counter = as_longs(address_of(offset_by(crossing.context, crossing.changes)))
        counter[0] += 1
    keep_after(watch, index, system.n, system.state)
    return REACHED_END


@inner
def keep_after_all(watch, control, system):
    """Keep the state after the last event that acts here, and after those that it takes along, once constraints hold.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    """
    index = control.n_events - 1
    while index >= control.first_event and watch.times[index] == control.time:
        keep_after(watch, index, system.n, system.state)
        if watch.stop[watch.which[index]] & ACTS != 0:
            return
        index -= 1


@inner
def _carried(system, watch, control, crossing, event):
    """See which events a jump takes through zero, and append those that happen; False if a function stopped.

    The event whose jump it is does not happen by it. Where a function stood at zero and stays there, its event does not
    happen again before it was on the other side. BEFORE_ROW holds what the functions were before the jump.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing
    event : int
        Index of the event function.

    Returns
    -------
    bool
    """
    m = watch.m
    if not watch_values(watch, control.time, system.state, END_ROW):
        return False
    for e in range(crossing.n_events):
        before, now, here = watch.values[e], watch.values[END_ROW * m + e], watch.values[BEFORE_ROW * m + e]
        watch.values[BEFORE_ROW * m + e] = now
        if now == here or (before == 0.0 and abs(now) <= 2.0 * abs(here)):
            continue
        if before != 0.0 and e != event and changes(before, now, watch.going[e]):
            happens = happens_at(watch, e, control.time, system.state)
            if happens < 0:
                return False
            if happens == 1:
                happen_here(watch, control, system, e)
        elif before * now == 0.0 and before != 0.0:
            now = np.copysign(_TINY, -before)
        watch.values[e] = now
    return True


@inner
def act_all(system, watch, control, crossing):
    """Act on every event that happens here, and on those that its jump takes through zero, in the order they come.

    Returns REACHED_END, EVENT where one ends the run, SWITCHING where they never end, ACTION_FAILED, EVENT_STOPPED.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing

    Returns
    -------
    int
        REACHED_END, EVENT, SWITCHING, ACTION_FAILED or EVENT_STOPPED.
    """
    ends, index, limit = False, control.first_event, watch.room - 2 * watch.m
    slack = _SAME_TIME * max(abs(control.time), abs(control.length))
    while index < control.n_events:
        event = watch.which[index]
        if event < crossing.n_events and abs(watch.times[index] - control.time) <= slack:
            if watch.stop[event] & ENDS != 0 or watch.counts[event] == watch.last[event]:
                ends = True
                control.stopped_by = event
            if watch.stop[event] & ACTS != 0:
                # each jump may take every other event along
                if control.n_events > limit:
                    return SWITCHING
                reason = _act(system, watch, control, crossing, event, index)
                if reason != REACHED_END:
                    return reason
                if not _carried(system, watch, control, crossing, event):
                    return EVENT_STOPPED
        index += 1
    return EVENT if ends else REACHED_END
