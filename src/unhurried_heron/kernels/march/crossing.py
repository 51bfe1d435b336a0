"""Where the march stops on its way: known times are passed, switches flip, events act; then it starts again.

Between two such times the rates are smooth, so every method keeps its order across them: E. Hairer, S. P. Norsett and
G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.6.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.actions import act_all, keep_after_all, refresh_events
from unhurried_heron.kernels.march.algebraic import hold_at_zero, meet_beyond
from unhurried_heron.kernels.march.event_values import leads_back, watch_derivatives, watch_values
from unhurried_heron.kernels.march.known_times import happen, land, record_after
from unhurried_heron.kernels.march.rest import come_to_rest
from unhurried_heron.kernels.march.sides import JUST_FLIPPED, note_acted
from unhurried_heron.kernels.march.switches import (
    flip,
    keeps_side,
    look_again,
    watch_switches,
)
from unhurried_heron.kernels.memory.call import (
    as_control,
    as_longs,
)
from unhurried_heron.kernels.memory.control import (
    ACCUMULATING,
    ACTS,
    AT_END,
    BEFORE_ROW,
    END_DERIVATIVE_ROW,
    EVENT,
    EVENT_STOPPED,
    LANDS,
    NO_ROOM,
    REACHED_END,
    ROOT,
    SWITCHING,
)
from unhurried_heron.kernels.memory.decoding import crossing_in, output_in, system_in, watch_in

# Crossings count as being at one time if they are apart by no more than this share of the interval.
_IN_PLACE = 1e-10
# This many actions in a row that follow each other faster and faster,
_FASTER = 12
# and by no more than this share of the interval, accumulate.
_SHORT = 1e-8
# Where crossings follow each other at one time, the first step beyond a crossing is at most this multiple of the time
# from one to the next: the polynomials of longer steps begin with errors larger than the distance between the
# crossings.
_BEYOND = 8.0
# This many crossings in a row
_EARLY = 3
# within this share of their steps say that steps begin too long.
_HARDLY_BEGUN = 2e-2
# Roots that come back to rest this many times in a march hover there. Sliding is compiled anew for each root, which
# takes as long as some hundred crossings.
_HOVERS = 32


@inner
def _goes_on(control):
    """Whether crossings get on in time; counts those that do not."""
    stays = abs(control.time - control.last_crossing) <= _IN_PLACE * control.span
    control.in_place = control.in_place + 1 if stays else 0
    return control.in_place < control.most_in_place


@inner
def _accumulates(control):
    """Whether actions follow each other faster and faster, towards a time that they never pass."""
    gap = abs(control.time - control.last_crossing)
    control.shorter = control.shorter + 1 if gap < control.last_gap else 0
    control.last_gap = gap
    return control.shorter >= _FASTER and gap <= _SHORT * control.span


@inner
def _restart(control):
    control.started = -1
    control.bad_component = -1
    if control.adaptive == 1:
        control.step = 0.0
    else:
        control.origin, control.fixed_steps = control.time, 0


def cross(address):
    """Take a march across what it has come to; ``address``: of the table of a march.

    Returns REACHED_END to go on, AT_END, EVENT where one ends the run, SWITCHING, ACCUMULATING,
    ACTION_FAILED, NO_ROOM or EVENT_STOPPED.
    """
    table = as_longs(address)
    control, system, watch = as_control(table[0]), system_in(table), watch_in(table)
    crossing, output = crossing_in(table), output_in(table)
    lands = control.crossing == LANDS
    if lands and control.landing >= crossing.n_landings:
        return AT_END
    count, jumps, on, flipped = crossing.n_events, False, True, -1
    if lands and not land(system, watch, control, crossing):
        return REACHED_END
    if count > 0 and not (
        watch_values(watch, control.time, system.state, BEFORE_ROW)
        and watch_derivatives(watch, control.time, system.state, END_DERIVATIVE_ROW)
    ):
        return EVENT_STOPPED
    refresh_events(watch, control, count)
    if lands:
        control.first_event = control.n_events
    if lands:
        if not happen(system, watch, control, crossing):
            return EVENT_STOPPED
    elif control.stopped_by >= count:
        flipped = crossing.located[control.stopped_by - count]
        flip(crossing, system, watch, control, flipped)
        gap, on = abs(control.time - control.last_crossing), _goes_on(control)
        control.early = control.early + 1 if control.theta < _HARDLY_BEGUN else 0
        control.first_bound = _BEYOND * gap if control.in_place > 1 or control.early >= _EARLY else 0.0
        control.last_crossing = control.time
        rests = crossing.kinds[flipped] == ROOT and not keeps_side(crossing, flipped)
        if rests and not come_to_rest(system, watch, control, count):
            return EVENT_STOPPED
        # a root that rested and would fall back at once stays between both: it slides
        at_rest = control.rests_to_leave > 0 and keeps_side(crossing, flipped)
        if at_rest and leads_back(watch, control, system, control.stopped_by):
            control.fallen_back += 1
        control.leads_back = int(control.fallen_back >= _HOVERS)
        if control.leads_back == 1:
            control.fallen_back = 0
        on = on and control.leads_back == 0
    control.moved = 0
    reason = act_all(system, watch, control, crossing)
    for index in range(control.first_event, control.n_events):
        event = watch.which[index]
        jumps = jumps or (event < count and watch.stop[event] & ACTS != 0)
    if jumps:
        control.degree = output.size // system.n - 1
        note_acted(watch, control, count)
        look_again(crossing, system, watch, control, 0)
        record_after(control, system, output)
        if not lands and reason == REACHED_END:
            faster, on = _accumulates(control), _goes_on(control)
            control.last_crossing = control.time
            reason = ACCUMULATING if faster else REACHED_END
    at_end = control.time == crossing.times[crossing.n_landings]
    constrained = (system.n_constraints > 0 or system.n_manifold > 0) and (jumps or not at_end)
    if constrained and reason in (REACHED_END, EVENT):
        met = meet_beyond(system, watch, control, crossing)
        reason = reason if met == REACHED_END else met
        keep_after_all(watch, control, system)
        record_after(control, system, output)
    if reason == REACHED_END and not watch_switches(system, watch, control, crossing, flipped):
        reason = EVENT_STOPPED
    if reason == REACHED_END and constrained:
        hold_at_zero(system, watch, control, crossing)
    if flipped >= 0 and keeps_side(crossing, flipped):
        watch.side[control.stopped_by] = JUST_FLIPPED
    if reason == REACHED_END and not at_end:
        _restart(control)
    if control.no_room == 1:
        return NO_ROOM
    return reason if on or reason != REACHED_END else SWITCHING
