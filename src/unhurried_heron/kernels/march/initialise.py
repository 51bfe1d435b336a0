"""What a march begins with: records are copied, and what follows from parameters, state and interval is worked out."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.known_times import land, take_rows
from unhurried_heron.kernels.march.time_sources import next_towards
from unhurried_heron.kernels.memory.bundles import CROSSING, N_LANDINGS
from unhurried_heron.kernels.memory.call import address_of, as_control, as_longs, call_kernel, call_native, offset_by
from unhurried_heron.kernels.memory.control import VALUE_ROWS
from unhurried_heron.kernels.memory.decoding import crossing_in, initial_data_in, parts_in, system_in, watch_in
from unhurried_heron.kernels.memory.initial_data import COPY, LENGTH, RECORD, RECORD_SIZE

# The width of a root as a share of the effect of the states' absolute tolerances on its argument. Steps that keep the
# tolerance hover above a smaller width (with 1e-4 and 3e-3 some methods never came to rest on random networks of tanks;
# measured).
_SHARE = 0.5
# The same as a share of the largest state, where there is no absolute tolerance.
_MIN = 1e-18
# The smallest width, for states that are all zero.
_SMALLEST = 1e-280


@inner
def _copy_records(data):
    """Take the records of the march and of its family as they were laid out."""
    for k in range(data.n_records):
        record = offset_by(data.records, RECORD_SIZE * k)
        target, source = as_longs(record[RECORD]), as_longs(record[COPY])
        for i in range(record[LENGTH]):
            target[i] = source[i]


@inner
def _begin_at(data, system, control):
    """Put the march at its start.

    Parameters
    ----------
    data : InitialData
    system : System
    control : CONTROL
    """
    start, end = data.interval[0], data.interval[1]
    for k in range(system.n):
        system.state[k] = data.initial[k]
    control.time = control.origin = control.last_crossing = start
    control.end, control.span, control.last_gap = end, abs(end - start), np.inf
    if control.step != 0.0:
        control.step = np.copysign(control.step, end - start)


@inner
def _take_parameters(data, crossing):
    """Give all functions the values of the parameters."""
    for k in range(data.n_parameters):
        crossing.context[k] = data.parameters[k]
    as_longs(address_of(offset_by(crossing.context, crossing.changes)))[0] += 1


@inner
def _let_follow(data, system, crossing):
    """Work out the parameters and starting values that follow from others.

    Parameters
    ----------
    data : InitialData
    system : System
    crossing : Crossing
    """
    call_native(data.following, data.interval[0], system.state, data.following_values, data.following_context)
    for k in range(data.n_following):
        target, value = data.following_targets[k], data.following_values[k]
        if target < system.n:
            system.state[target] = value
        else:
            crossing.context[target - system.n] = value


@inner
def _forget(watch):
    """Forget what was seen of the events."""
    for k in range(watch.m):
        watch.counts[k] = 0
        watch.band[k] = watch.side[k] = 0.0
    for k in range(VALUE_ROWS * watch.m):
        watch.values[k] = np.nan


@inner
def _argument(data, system, crossing, root):
    """Return the argument of a root at the state, NaN where its formula stopped.

    Parameters
    ----------
    data : InitialData
    system : System
    crossing : Crossing
    root : int

    Returns
    -------
    float
    """
    code = call_function(data.arguments, root, data.interval[0], system.state, crossing.fresh)
    return crossing.fresh[0] if code == 1 else np.nan


@inner
def _find_widths(data, system, watch, crossing):
    """Find how near to zero the arguments of roots count as zero: within what the tolerances tell apart.

    Parameters
    ----------
    data : InitialData
    system : System
    watch : Watch
    crossing : Crossing
    """
    largest = 0.0
    for k in range(system.n if data.n_roots > 0 else 0):
        largest = max(largest, abs(system.state[k]))
    for root in range(data.n_roots):
        here, reach = _argument(data, system, crossing, root), 0.0
        for index in range(data.reach_begins[root], data.reach_begins[root + 1]):
            k = data.reaching[index]
            own = system.state[k]
            system.state[k] = own + watch.absolute[k]
            moved = abs(_argument(data, system, crossing, root) - here)
            system.state[k] = own
            if moved < np.inf:
                reach += moved
        crossing.context[data.widths[root]] = max(_SHARE * reach, _MIN * largest + _SMALLEST)


@inner
def _hold_located(data, system, watch, crossing):
    """Give the switches that are located along the run their values at the start.

    Parameters
    ----------
    data : InitialData
    system : System
    watch : Watch
    crossing : Crossing
    """
    for k in range(watch.m - crossing.n_events):
        switch = crossing.located[k]
        if not has_function(crossing.lives, switch):
            continue
        if call_function(crossing.lives, switch, data.interval[0], system.state, crossing.fresh) == 1:
            crossing.context[crossing.slots[switch]] = crossing.fresh[0]


@inner
def _limit(low, high, limits, scratch):
    """Write between which times functions are asked from one known time to the next.

    Parameters
    ----------
    low, high : float
    limits : float pointer, (2,)
    scratch : float pointer, (1,)
    """
    first, last = next_towards(low, high, scratch), next_towards(high, low, scratch)
    limits[0], limits[1] = min(first, last), max(first, last)


@inner
def _limit_all(data, crossing, count):
    """Write between which times functions are asked, of each interval between known times and of the first.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    count : int
        Known times.
    """
    begin = data.interval[0]
    for k in range(count + 1):
        _limit(begin, crossing.times[k], offset_by(crossing.inner, 2 * k), data.scratch)
        begin = crossing.times[k]
    _limit(data.interval[0], data.interval[2], crossing.limits, data.scratch)


def initialise(address):
    """Begin a march; ``address``: of the table of its `InitialData`.

    Returns 0, the room that known times need where they have too little, or -1 where a switch has too many of them.
    """
    data = initial_data_in(as_longs(address))
    table = as_longs(data.march)
    control, system, parts = as_control(table[0]), system_in(table), parts_in(table)
    watch, crossing = watch_in(table), crossing_in(table)
    _copy_records(data)
    _begin_at(data, system, control)
    _take_parameters(data, crossing)
    if data.n_following > 0:
        _let_follow(data, system, crossing)
    _forget(watch)
    if parts.cross == 0:
        return 0
    _find_widths(data, system, watch, crossing)
    answer = call_kernel(data.put_in_order, address)
    if answer != 0:
        return answer
    take_rows(crossing, 0.5 * (data.interval[0] + data.interval[2]))
    _hold_located(data, system, watch, crossing)
    control.end = crossing.times[0]
    if crossing.limited == 1:
        _limit_all(data, crossing, table[CROSSING + N_LANDINGS])
    if control.end == control.time and crossing.begins[1] == crossing.begins[0]:
        # steps are bounded from the start on, and the first is chosen for what is ahead
        land(system, watch, control, crossing)
    return 0
