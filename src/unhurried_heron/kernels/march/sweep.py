"""Members of a sweep, marched one after another without leaving compiled code."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.narrow import PART_SIZE
from unhurried_heron.kernels.march.step_measures import begin_measures, measure_steps
from unhurried_heron.kernels.memory.bundles import RECORDED
from unhurried_heron.kernels.memory.call import address_of, as_control, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.control import BUFFER_FULL, EVENTS_FULL, NO_ROOM, PAUSED
from unhurried_heron.kernels.memory.decoding import (
    crossing_in,
    initial_data_in,
    step_measures_in,
    sweep_in,
    system_in,
    watch_in,
)
from unhurried_heron.kernels.memory.initial_data import INITIAL, PARAMETERS, SOURCE_END, SOURCE_FIRST, SOURCE_SIZE
from unhurried_heron.kernels.memory.sweep import DONE, FULL, N_COUNTED, ROOM, STOPPED


@inner
def _let_record(sweep, control, system, member):
    """Let the march write the recorded states of a member where they belong.

    Parameters
    ----------
    sweep : Sweep
    control : CONTROL
    system : System
    member : int
    """
    n = system.n
    own = offset_by(sweep.recorded, member * sweep.n_times * n)
    sweep.table[RECORDED] = address_of(own)
    control.next_wanted = sweep.at_start
    for k in range(sweep.n_times * n):
        own[k] = np.nan
    for k in range(sweep.at_start * n):
        own[k] = system.state[k]


@inner
def _keep_events(sweep, watch, control, n_events, n):
    """Keep the events that a call of the march found; False where they do not fit.

    Parameters
    ----------
    sweep : Sweep
    watch : Watch
    control : CONTROL
    n_events : int
        Events that were asked for, before switches.
    n : int

    Returns
    -------
    bool
    """
    for index in range(control.n_events):
        if watch.which[index] >= n_events:
            continue
        row = sweep.n_found[0]
        if row >= sweep.event_room:
            return False
        sweep.event_times[row], sweep.event_which[row] = watch.times[index], watch.which[index]
        sweep.event_members[row] = sweep.next[0]
        for k in range(n):
            sweep.event_states[row * n + k] = watch.states[index * n + k]
        for k in range(sweep.n_modes):
            sweep.event_modes[row * sweep.n_modes + k] = watch.modes[index * sweep.n_modes + k]
        sweep.n_found[0] = row + 1
    return True


@inner
def _measure(sweep, control, member, reason):
    """Take the steps that a call of the march left into the measures of a member.

    Parameters
    ----------
    sweep : Sweep
    control : CONTROL
    member : int
    reason : int
        With which the march returned.
    """
    # a step whose search was left in the middle is kept when that is done
    if sweep.n_measures > 0 and reason != EVENTS_FULL:
        results = offset_by(sweep.measures, member * sweep.n_measures)
        measure_steps(step_measures_in(sweep.step_measures), results, control.n_steps, control.time)
        control.n_steps = 0


@inner
def _march(sweep, control, n_events, n):
    """March a member to its ending; return the reason, PAUSED also where it was stopped from outside.

    Parameters
    ----------
    sweep : Sweep
    control : CONTROL
    n_events : int
    n : int

    Returns
    -------
    int
        EVENTS_FULL where its events did not fit.
    """
    watch = watch_in(sweep.table)
    control.evaluation_limit = sweep.evaluations
    reason = BUFFER_FULL
    while reason in (BUFFER_FULL, EVENTS_FULL, PAUSED):
        left = sweep.attempts - control.accepted - control.refused
        if sweep.stop[0] != 0 or left <= 0 or control.rate_evaluations >= sweep.evaluations:
            return PAUSED
        control.attempts_left = min(left, sweep.slice)
        reason = call_kernel(sweep.march, address_of(sweep.table))
        _measure(sweep, control, sweep.next[0], reason)
        if n_events > 0 and not _keep_events(sweep, watch, control, n_events, n):
            return EVENTS_FULL
    return reason


@inner
def _count(control, counts):
    """Write what a member took, in the order of `COUNTED`.

    Parameters
    ----------
    control : CONTROL
    counts : int64 pointer, (len(COUNTED),)
    """
    counts[0], counts[1], counts[2] = control.accepted, control.refused, control.rate_evaluations
    counts[3], counts[4], counts[5] = control.for_jacobians, control.for_starting, control.for_estimates
    counts[6], counts[7], counts[8] = control.for_between, control.newton_failures, control.jacobians
    counts[9], counts[10], counts[11] = control.factorisations, control.solves, control.iterations
    counts[12], counts[13], counts[14] = control.linear_iterations, control.fill, control.changes


@inner
def _take_own(sweep, data, member):
    """Let the sources of known times be those of a member.

    Parameters
    ----------
    sweep : Sweep
    data : InitialData
    member : int
    """
    begins = offset_by(sweep.own_begins, 2 * sweep.n_own * member)
    for k in range(sweep.n_own):
        source = offset_by(data.sources, SOURCE_SIZE * sweep.own_sources[k])
        source[SOURCE_FIRST], source[SOURCE_END] = begins[2 * k], begins[2 * k + 1]


@inner
def _take_parts(sweep, control, member):
    """Let the narrow parts of the rates be those of a member.

    Parameters
    ----------
    sweep : Sweep
    control : CONTROL
    member : int
    """
    begin = sweep.part_begins[member]
    control.n_parts = sweep.part_begins[member + 1] - begin
    for k in range(PART_SIZE * control.n_parts):
        sweep.parts[k] = sweep.own_parts[PART_SIZE * begin + k]


def march_members(address):
    """March members from `Sweep.next` on; ``address``: of the table of a `Sweep`.

    Returns DONE, ROOM, STOPPED or FULL.
    """
    sweep = sweep_in(as_longs(address))
    data, control, system = initial_data_in(sweep.data), as_control(sweep.table[0]), system_in(sweep.table)
    n, n_events = system.n, crossing_in(sweep.table).n_events
    while sweep.next[0] < sweep.n_members:
        member, before = sweep.next[0], sweep.n_found[0]
        if sweep.alone[member] != 0:
            sweep.next[0] += 1
            continue
        _take_own(sweep, data, member)
        sweep.data[PARAMETERS] = address_of(offset_by(sweep.parameters, member * data.n_parameters))
        sweep.data[INITIAL] = address_of(offset_by(sweep.initial, member * n))
        room = call_kernel(sweep.initialise, address_of(sweep.data))
        if room > 0:
            return ROOM
        if sweep.n_narrow > 0:
            _take_parts(sweep, control, member)
        if sweep.n_times > 0:
            _let_record(sweep, control, system, member)
        if sweep.n_measures > 0:
            begin_measures(step_measures_in(sweep.step_measures), offset_by(sweep.measures, member * sweep.n_measures))
        reason = _march(sweep, control, n_events, n) if room == 0 else NO_ROOM
        if sweep.stop[0] != 0 or reason == EVENTS_FULL:
            sweep.n_found[0] = before
            return STOPPED if sweep.stop[0] != 0 else FULL
        sweep.reasons[member], sweep.ends[member] = reason, control.time
        _count(control, offset_by(sweep.counts, member * N_COUNTED))
        for k in range(n):
            sweep.finals[member * n + k] = system.state[k]
        sweep.next[0] += 1
    return DONE
