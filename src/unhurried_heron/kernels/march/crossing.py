"""Where the march stops on its way: known times are passed, switches flip, events act; then it starts again.

Between two such times the rates are smooth, so every method keeps its order across them: E. Hairer, S. P. Norsett and
G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.6.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.codegen.signature import HEADER_BYTES, ROW_BYTES, ROW_NUMBERS
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.actions import act_all, happen_here, refresh_events
from unhurried_heron.kernels.march.event_acceptance import happens_at
from unhurried_heron.kernels.march.event_values import in_band, leads_back, watch_derivatives, watch_values
from unhurried_heron.kernels.march.functions import call_function
from unhurried_heron.kernels.march.rest import come_to_rest
from unhurried_heron.kernels.march.sides import JUST_FLIPPED, note_acted
from unhurried_heron.kernels.memory.bundles import TABLE_LENGTH, TABLE_ROWS, TABLE_SIZE, TABLE_SLOT
from unhurried_heron.kernels.memory.call import (
    address_of,
    as_control,
    as_doubles,
    as_longs,
    offset_by,
)
from unhurried_heron.kernels.memory.control import (
    ACCUMULATING,
    ACTS,
    AT_END,
    BEFORE_ROW,
    CEIL,
    END_DERIVATIVE_ROW,
    END_ROW,
    EVENT_STOPPED,
    FLOOR,
    LANDS,
    NO_ROOM,
    PASSED,
    REACHED_END,
    ROOT,
    SWITCHING,
    TRUTH,
)
from unhurried_heron.kernels.memory.decoding import crossing_in, output_in, system_in, watch_in

# crossings that get on by no more than this share of the interval are in one place
_IN_PLACE = 1e-10
# This many actions in a row that follow each other faster and faster,
_FASTER = 12
# and by no more than this share of the interval, accumulate.
_SHORT = 1e-8
# where crossings follow each other in one place, a step that begins there is at most so many times as long as it took
# from one to the next: the polynomials of longer steps begin with errors that are larger than what lies between
_BEYOND = 8.0
# This many crossings in a row
_EARLY = 3
# within this share of their steps say that steps begin too long.
_HARDLY_BEGUN = 2e-2
# Roots that come back to rest this many times in a march hover there. Sliding is compiled anew for each root, which
# takes as long as some hundred crossings.
_HOVERS = 32
_NAN = np.nan


@inner
def _set(crossing, control, switch, value):
    """Give a switch its value, and tell the crossing if that is another."""
    slot = crossing.slots[switch]
    if slot >= 0:
        if crossing.context[slot] == value:
            return
        crossing.context[slot] = value
    index = control.n_crossed
    if index >= crossing.room:
        control.no_room = 1
        return
    crossing.crossed[index], crossing.crossed_which[index] = control.time, switch
    crossing.crossed_values[index], crossing.crossed_row[index] = value, control.n_rows - 1
    control.n_crossed += 1


@inner
def _following(crossing, system, control, switch):
    """Return the value of a switch where those that it depends on are held; NaN if its formula stopped."""
    if call_function(crossing.gaps, switch, control.time, system.state, crossing.fresh) != 1:
        return _NAN
    gap, kind = crossing.fresh[0], crossing.kinds[switch]
    if kind == FLOOR:
        return np.floor(gap)
    if kind == CEIL:
        return np.ceil(gap)
    return 1.0 if gap >= 0.0 else 0.0


@inner
def _keep_or_flip(watch, crossing, system, control, located):
    """Flip a truth that is between two levels only where what is watched says so."""
    event, slot = crossing.n_events + located, crossing.slots[crossing.located[located]]
    code = call_function(watch.addresses, event, control.time, system.state, crossing.fresh)
    if code == 1 and crossing.fresh[0] < 0.0:
        crossing.context[slot] = 1.0 - crossing.context[slot]
        # on the side that it kept before within the errors of the steps it is no more
        watch.band[event] = 0.0


@inner
def _follow_nested(crossing, system, watch, control, flipped):
    """Give switches that depend on others the values of their present side."""
    for k in range(watch.m - crossing.n_events):
        switch = crossing.located[k]
        if crossing.nested[switch] == 1 and switch != flipped and crossing.kinds[switch] == ROOT:
            _keep_or_flip(watch, crossing, system, control, k)
        elif crossing.nested[switch] == 1 and switch != flipped:
            crossing.context[crossing.slots[switch]] = _following(crossing, system, control, switch)


@inner
def _look_again(crossing, system, watch, control):
    """After a jump every switch takes the value of the side where it is now."""
    for k in range(watch.m - crossing.n_events):
        switch = crossing.located[k]
        if crossing.slots[switch] < 0:
            continue
        if call_function(crossing.lives, switch, control.time, system.state, crossing.fresh) == 1:
            _set(crossing, control, switch, crossing.fresh[0])


@inner
def _flip(crossing, system, watch, control, switch):
    """Take a switch to its other side."""
    kind = crossing.kinds[switch]
    if kind == PASSED:
        _set(crossing, control, switch, _NAN)
        return
    held = crossing.context[crossing.slots[switch]]
    if kind in (TRUTH, ROOT):
        _set(crossing, control, switch, 1.0 - held)
    else:
        call_function(crossing.gaps, switch, control.time, system.state, crossing.fresh)
        rises = crossing.fresh[0] - held > (0.5 if kind == FLOOR else -0.5)
        _set(crossing, control, switch, held + (1.0 if rises else -1.0))
    _follow_nested(crossing, system, watch, control, switch)


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
def _row_at(rows, last, time, context, slot):
    """Return the row of a table that holds at a time, not far from that in use."""
    begins = as_doubles(rows + HEADER_BYTES)
    pointer = as_longs(address_of(offset_by(context, slot)))
    row = (pointer[0] - rows - HEADER_BYTES) // ROW_BYTES
    while row < last and begins[ROW_NUMBERS * (row + 1)] <= time:
        row += 1
    while row > 0 and begins[ROW_NUMBERS * row] > time:
        row -= 1
    return row


@inner
def _hold_between(control, crossing):
    """Take the rows of tables in use until the next known time, and keep functions within it."""
    middle = 0.5 * (control.time + control.end)
    for k in range(crossing.n_tables):
        table = offset_by(crossing.tables, TABLE_SIZE * k)
        rows, slot = table[TABLE_ROWS], table[TABLE_SLOT]
        row = _row_at(rows, table[TABLE_LENGTH] - 1, middle, crossing.context, slot)
        pointer = as_longs(address_of(offset_by(crossing.context, slot)))
        pointer[0] = rows + ROW_BYTES * row + HEADER_BYTES
    if crossing.limited == 1:
        low, high = 2 * control.landing, 2 * control.landing + 1
        crossing.limits[0], crossing.limits[1] = crossing.inner[low], crossing.inner[high]


@inner
def _land(system, watch, control, crossing):
    """Pass a known time; return whether anything changes there but the bound on the steps."""
    landing = control.landing
    control.landing += 1
    bound = crossing.longest[landing]
    if bound == bound:
        control.largest_step = bound
    control.end = crossing.times[control.landing]
    _hold_between(control, crossing)
    first, beyond, follow = crossing.begins[landing], crossing.begins[landing + 1], False
    for index in range(first, beyond):
        item = crossing.items[index] - crossing.n_events
        if item >= 0:
            _set(crossing, control, item, crossing.values[index])
            follow = follow or crossing.slots[item] >= 0
    if follow:
        _follow_nested(crossing, system, watch, control, -1)
    return beyond > first


@inner
def _happen(system, watch, control, crossing):
    """Let the events of a known time happen; False if a condition stopped."""
    landing = control.landing - 1
    for index in range(crossing.begins[landing], crossing.begins[landing + 1]):
        event = crossing.items[index]
        if event >= crossing.n_events:
            continue
        happens = happens_at(watch, event, control.time, system.state)
        if happens < 0:
            return False
        if happens == 1:
            happen_here(watch, control, system, event)
    return True


@inner
def _record_after(control, system, output):
    """Put the state after a jump where the time of the jump is recorded."""
    last = control.next_wanted - 1
    if last >= 0 and output.wanted[last] == control.time:
        for k in range(system.n):
            output.recorded[last * system.n + k] = system.state[k]


@inner
def _watch_switches(system, watch, control, crossing, flipped):
    """Set what the functions of the switches are where the next step begins; False if one stopped."""
    if watch.m == crossing.n_events:
        return True
    if not watch_values(watch, control.time, system.state, END_ROW):
        return False
    for e in range(crossing.n_events, watch.m):
        value = watch.values[END_ROW * watch.m + e]
        if not (watch.band[e] > 0.0 and in_band(watch, e, value)):
            watch.values[e] = value
        switch = crossing.located[e - crossing.n_events]
        if switch == flipped and crossing.kinds[switch] == PASSED:
            # it was just passed: its zero must not be found again
            watch.values[e] = 0.0
    return True


@inner
def _keeps_side(crossing, switch):
    """Whether a switch that was just flipped is on its new side however the errors of the steps move it at first.

    A root that rests is not: what flows little comes back within its width.
    """
    return crossing.kinds[switch] == ROOT and crossing.context[crossing.slots[switch]] == 1.0


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
    if lands and not _land(system, watch, control, crossing):
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
        if not _happen(system, watch, control, crossing):
            return EVENT_STOPPED
    elif control.stopped_by >= count:
        flipped = crossing.located[control.stopped_by - count]
        _flip(crossing, system, watch, control, flipped)
        gap, on = abs(control.time - control.last_crossing), _goes_on(control)
        control.early = control.early + 1 if control.theta < _HARDLY_BEGUN else 0
        control.first_bound = _BEYOND * gap if control.in_place > 1 or control.early >= _EARLY else 0.0
        control.last_crossing = control.time
        rests = crossing.kinds[flipped] == ROOT and not _keeps_side(crossing, flipped)
        if rests and not come_to_rest(system, watch, control, count):
            return EVENT_STOPPED
        # a root that rested and would fall back at once stays between both: it slides
        at_rest = control.rests_to_leave > 0 and _keeps_side(crossing, flipped)
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
        _look_again(crossing, system, watch, control)
        _record_after(control, system, output)
        if not lands and reason == REACHED_END:
            faster, on = _accumulates(control), _goes_on(control)
            control.last_crossing = control.time
            reason = ACCUMULATING if faster else REACHED_END
    if reason == REACHED_END and not _watch_switches(system, watch, control, crossing, flipped):
        reason = EVENT_STOPPED
    if flipped >= 0 and _keeps_side(crossing, flipped):
        watch.side[control.stopped_by] = JUST_FLIPPED
    if reason == REACHED_END and control.time != crossing.times[crossing.n_landings]:
        _restart(control)
    if control.no_room == 1:
        return NO_ROOM
    return reason if on or reason != REACHED_END else SWITCHING
