"""Known times that a march passes: rows of measured tables, switches that follow from time alone, events at times."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.machine_code.signature import HEADER_BYTES, ROW_BYTES, ROW_NUMBERS
from unhurried_heron.kernels.march.actions import happen_here
from unhurried_heron.kernels.march.event_acceptance import happens_at
from unhurried_heron.kernels.march.switches import (
    follow_nested,
    set_switch,
)
from unhurried_heron.kernels.memory.bundles import TABLE_LENGTH, TABLE_ROWS, TABLE_SIZE, TABLE_SLOT
from unhurried_heron.kernels.memory.call import (
    address_of,
    as_doubles,
    as_longs,
    offset_by,
)


@inner
def _row_at(rows, last, time, context, slot):
    """Return the row of a table that holds at a time, not far from that in use.

    Parameters
    ----------
    rows : int
        Address of the table.
    last : int
        Its last row.
    time : float
    context : float pointer
        Of all functions.
    slot : int
        Where the address of the row in use stands in it.

    Returns
    -------
    int
    """
    begins = as_doubles(rows + HEADER_BYTES)
    pointer = as_longs(address_of(offset_by(context, slot)))
    row = (pointer[0] - rows - HEADER_BYTES) // ROW_BYTES
    while row < last and begins[ROW_NUMBERS * (row + 1)] <= time:
        row += 1
    while row > 0 and begins[ROW_NUMBERS * row] > time:
        row -= 1
    return row


@inner
def take_rows(crossing, middle):
    """Take the rows of tables that are in use around a time."""
    for k in range(crossing.n_tables):
        table = offset_by(crossing.tables, TABLE_SIZE * k)
        rows, slot = table[TABLE_ROWS], table[TABLE_SLOT]
        row = _row_at(rows, table[TABLE_LENGTH] - 1, middle, crossing.context, slot)
        pointer = as_longs(address_of(offset_by(crossing.context, slot)))
        pointer[0] = rows + ROW_BYTES * row + HEADER_BYTES


@inner
def _hold_between(control, crossing):
    """Take the rows of tables in use until the next known time, and keep functions within it."""
    take_rows(crossing, 0.5 * (control.time + control.end))
    if crossing.limited == 1:
        low, high = 2 * control.landing, 2 * control.landing + 1
        crossing.limits[0], crossing.limits[1] = crossing.inner[low], crossing.inner[high]


@inner
def land(system, watch, control, crossing):
    """Pass a known time; return whether anything changes there but the bound on the steps.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing

    Returns
    -------
    bool
    """
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
            set_switch(crossing, control, item, crossing.values[index])
            follow = follow or crossing.slots[item] >= 0
    if follow:
        follow_nested(crossing, system, watch, control, -1)
    return beyond > first


@inner
def happen(system, watch, control, crossing):
    """Let the events of a known time happen; False if a condition stopped.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing

    Returns
    -------
    bool
    """
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
def record_after(control, system, output):
    """Put the state after a jump where the time of the jump is recorded.

    Parameters
    ----------
    control : CONTROL
    system : System
    output : Output
    """
    last = control.next_wanted - 1
    if last >= 0 and output.wanted[last] == control.time:
        for k in range(system.n):
            output.recorded[last * system.n + k] = system.state[k]
