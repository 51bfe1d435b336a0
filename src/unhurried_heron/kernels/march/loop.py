"""The march: what every family of methods does alike, written once and compiled once.

A family is another kernel, called by address with what it is asked for in ``control.ask``:

- START, at the start and beyond a switch, when state and rates are known: forget what was learnt elsewhere.
- ATTEMPT a step of ``control.length``: fill ``system.trial``, ``control.error`` and ``control.row_iterations``; return
  ACCEPTED or REFUSED, or a reason to return with.
- DESCRIBE an attempt that was accepted: put its step polynomial at ``control.polynomial_address``, if ATTEMPT did not;
return
  REACHED_END, or RATES_STOPPED. Asked only where somebody wants to see between the ends of the step.
- REFUSE: set a shorter ``control.step``; return REACHED_END, or a reason to give up.
- ACCEPT: state and time have moved; set the next ``control.step`` and bring ``system.rates_at_state`` up to date;
return
  REACHED_END, or a reason to give up.
- STRIDE, of those that say they can (`Family.strides`): take up to ``control.stride`` fixed steps as if one by one, and
  say there how many; return REACHED_END, or a reason to give up.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.batched_steps import stride
from unhurried_heron.kernels.march.event_acceptance import FAILED
from unhurried_heron.kernels.march.events import FULL, NOTHING, STOPS, describe, move_to_event
from unhurried_heron.kernels.march.guards import SHORTER, crossed_pole, is_guarded, look_ahead, pass_guards, refuse_for
from unhurried_heron.kernels.march.manifold import HARDLY, NO_WAY, STOPPED, keep_on_manifold
from unhurried_heron.kernels.march.narrow import foresee, leaps_over
from unhurried_heron.kernels.march.nonnegative import BELOW, LED_BELOW, keep_nonnegative
from unhurried_heron.kernels.march.outcome import (
    begin,
    choose_attempt,
    count_step,
    find_rates_at_state,
    is_wanted,
    keep_row,
    keep_step,
    pause_reason,
    record_until,
    too_short,
)
from unhurried_heron.kernels.march.starting_step import choose_starting_step
from unhurried_heron.kernels.memory.call import as_control, as_longs, call_kernel
from unhurried_heron.kernels.memory.control import (
    ACCEPT,
    ACCEPTED,
    AT_END,
    ATTEMPT,
    CROSSES,
    EVENT,
    EVENT_STOPPED,
    EVENTS_FULL,
    FOR_END,
    LANDS,
    NEGATIVE,
    POLE,
    RATES_STOPPED,
    REACHED_END,
    REFUSE,
    REFUSED,
    SMALLEST_RELATIVE_STEP,
    START,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import crossing_in, output_in, parts_in, system_in, watch_in


@inner
def _start(system, control, watch, parts, address):
    """Start, or start again beyond a switch.

    Parameters
    ----------
    system : System
    control : CONTROL
    watch : Watch
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    int
        REACHED_END, or a reason to return with.
    """
    reason = begin(system, control, watch)
    if reason == REACHED_END and control.step == 0.0:
        reason = choose_starting_step(system, control, watch.trial)
        if control.first_bound > 0.0 and abs(control.step) > control.first_bound:
            shortest = 2.0 * SMALLEST_RELATIVE_STEP * abs(control.time)
            control.step = np.copysign(max(control.first_bound, shortest), control.step)
        control.first_bound = 0.0
    if reason == REACHED_END:
        control.after_refusal = 0
        control.ask = START
        call_kernel(parts.family, address)
    return reason


@inner
def _held_against_guards(system, control, answer, scratch):
    """Return what becomes of an attempt whose family answered: ACCEPTED, REFUSED, or NEGATIVE.

    Parameters
    ----------
    system : System
    control : CONTROL
    answer : int
        Of the family.
    scratch : float pointer, (n,)
        Scratch space.

    Returns
    -------
    int
        ACCEPTED, REFUSED, NEGATIVE, RATES_STOPPED, or what the family answered.
    """
    control.guard = -1
    control.moved_back = 0
    if answer == ACCEPTED and system.n_manifold > 0:
        far = keep_on_manifold(system, control, control.finish, system.trial)
        if far == STOPPED:
            return RATES_STOPPED
        if far == NO_WAY:
            refuse_for(control, system.n_guards, SHORTER)
            return REFUSED
        control.moved_back = int(far > HARDLY)
    if answer == ACCEPTED and control.adaptive == 1 and system.n_nonnegative > 0:
        kept = keep_nonnegative(system, control)
        if kept == LED_BELOW:
            return NEGATIVE
        if kept == BELOW:
            answer = REFUSED
    if answer == ACCEPTED and is_guarded(system, control) and look_ahead(system, control):
        guard = crossed_pole(system, control, scratch)
        if guard >= 0:
            refuse_for(control, guard, SHORTER)
            answer = REFUSED
        elif control.n_parts > 0 and leaps_over(system, control):
            answer = REFUSED
    return answer


@inner
def _attempt(system, control, output, parts, address, scratch):
    """Attempt a step and count it; return ACCEPTED, REFUSED, or a reason to return with.

    ``control.guard`` is the guard that refused it, one more than there are for what is narrow or negative, -1 where the
    family did.

    Parameters
    ----------
    system : System
    control : CONTROL
    output : Output
    parts : Parts
    address : int
        Address of the table of the march.
    scratch : float pointer, (n,)
        Scratch space.

    Returns
    -------
    int
    """
    if not choose_attempt(control, output):
        return STEP_TOO_SMALL
    control.ask = ATTEMPT
    answer = call_kernel(parts.family, address)
    if answer != ACCEPTED and answer != REFUSED:
        return answer
    if control.guarded == 1:
        answer = _held_against_guards(system, control, answer, scratch)
        if answer == NEGATIVE:
            return answer
    keep_row(control, output, answer == ACCEPTED)
    if answer == ACCEPTED:
        count_step(control, output)
        if is_wanted(control, output) and not describe(control, parts, address):
            return RATES_STOPPED
    return answer


@inner
def _move_on(system, control, parts, address):
    """Take the end of the attempt as the present state.

    Parameters
    ----------
    system : System
    control : CONTROL
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    int
        REACHED_END, or a reason to return with.
    """
    length = control.length
    control.time = control.finish
    for k in range(system.n):
        system.state[k] = system.trial[k]
    if control.guarded == 1:
        pass_guards(system)
    control.ask = ACCEPT
    reason = call_kernel(parts.family, address)
    control.after_refusal = 0
    if control.guarded == 1:
        if control.moved_back == 1 and reason == REACHED_END:
            reason = find_rates_at_state(system, control, FOR_END)
        if control.n_parts > 0:
            foresee(system, control, length)
    return reason


@inner
def _try_again(control, parts, address):
    """Have the family prepare another attempt after a refused one.

    Parameters
    ----------
    control : CONTROL
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    int
        REACHED_END, or a reason to return with.
    """
    control.refused += 1
    control.ask = REFUSE
    reason = call_kernel(parts.family, address)
    control.after_refusal = 1
    return reason


@inner
def _cross(system, control, watch, parts, address, why):
    """Cross what the march has come to, and start again beyond it; AT_END at the end of the run.

    Parameters
    ----------
    system : System
    control : CONTROL
    watch : Watch
    parts : Parts
    address : int
        Address of the table of the march.
    why : int
        LANDS at a known time, or the reason of the search.

    Returns
    -------
    int
    """
    if parts.cross == 0:
        return AT_END if why == LANDS else EVENT
    control.crossing = why
    reason = call_kernel(parts.cross, address)
    if reason == REACHED_END and control.started != 1:
        reason = _start(system, control, watch, parts, address)
    return reason


def march(address):
    """March until the end, an event, a full buffer or a failure; return a reason (`control.Reason`)."""
    table = as_longs(address)
    control, system, parts = as_control(table[0]), system_in(table), parts_in(table)
    watch, output, crossing = watch_in(table), output_in(table), crossing_in(table)
    control.n_events = 0
    again = control.searching == 1
    if not again:
        control.n_steps = control.n_rows = control.n_crossed = 0
    reason = _start(system, control, watch, parts, address) if control.started != 1 else REACHED_END
    while reason == REACHED_END:
        if not again:
            if control.time == control.end:
                reason = _cross(system, control, watch, parts, address, LANDS)
                continue
            if control.strides == 1:
                reason = stride(control, output, parts, address)
                if reason != REACHED_END or control.time == control.end:
                    continue
            reason = pause_reason(control, output, watch, crossing)
            if reason != REACHED_END:
                break
            answer = _attempt(system, control, output, parts, address, watch.trial)
            if answer == REFUSED:
                if control.guard < 0:
                    reason = _try_again(control, parts, address)
                elif control.adaptive == 0:
                    return POLE
                elif too_short(control):
                    return STEP_TOO_SMALL
                continue
            if answer != ACCEPTED:
                return answer
        # a step whose search was left in the middle is searched to its end
        again = False
        found = call_kernel(parts.search, address) if watch.m != 0 else NOTHING
        if found == FAILED:
            return EVENT_STOPPED
        if found == FULL:
            return EVENTS_FULL
        keep_step(control, output)
        if found == STOPS:
            reason = record_until(control, system, output, control.time + control.theta * control.length)
            if reason != REACHED_END:
                return reason
            move_to_event(control, system, output)
            reason = _cross(system, control, watch, parts, address, CROSSES)
            continue
        reason = record_until(control, system, output, control.finish)
        if reason != REACHED_END:
            return reason
        reason = _move_on(system, control, parts, address)
        if control.started == -1 and reason == REACHED_END:
            reason = _start(system, control, watch, parts, address)
    return REACHED_END if reason == AT_END else reason
