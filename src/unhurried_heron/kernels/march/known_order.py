"""Known times put in their order: of switches and events, and of bounds on the steps; and what switches hold between.

The next time of each source is known; the nearest is a landing, with whatever is one time with it. Where switches are
within others, their lines change with these, so that sources are looked at from the innermost switches outwards, each
until the nearest time of those before it.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.time_sources import column_of, find_next, switch_of, together, value_between
from unhurried_heron.kernels.memory.bundles import CROSSING, N_LANDINGS
from unhurried_heron.kernels.memory.call import as_longs
from unhurried_heron.kernels.memory.decoding import crossing_in, initial_data_in, system_in
from unhurried_heron.kernels.memory.initial_data import LISTED, SOURCE_DEPTH, SOURCE_FIRST, SOURCE_ITEM, SOURCE_KIND

_NAN = np.nan


@inner
def _hold(data, crossing, state, depth, now, until):
    """Let the switches of a depth hold what they do until a time, for the lines of those that they are within.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    depth : int
    now, until : float
    """
    for source in range(data.n_sources):
        if column_of(data, source, SOURCE_DEPTH) == depth and switch_of(data, crossing, source) >= 0:
            slot = crossing.slots[switch_of(data, crossing, source)]
            crossing.context[slot] = value_between(data, crossing, state, source, now, until)


@inner
def _look_ahead(data, crossing, state, now):
    """Find the next times of switches within which others are, whose lines may have changed; return the nearest of all.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    now : float

    Returns
    -------
    float
        The end where there is none, NaN where a line passes too many whole numbers.
    """
    start, until, depth = data.interval[0], data.interval[1], 0
    sign = np.copysign(1.0, until - start)
    for source in range(data.n_sources):
        if column_of(data, source, SOURCE_DEPTH) > depth:
            _hold(data, crossing, state, depth, now, until)
            depth = column_of(data, source, SOURCE_DEPTH)
        if depth > 0 and not find_next(data, crossing, state, source, now):
            return _NAN
        if sign * (data.upcoming[source] - until) < 0.0:
            until = data.upcoming[source]
    return until


@inner
def _nearest(data):
    """Return the source whose next time is the nearest, -1 where none has any."""
    sign, found = np.copysign(1.0, data.interval[1] - data.interval[0]), -1
    time = sign * np.inf
    for source in range(data.n_sources):
        if sign * (data.upcoming[source] - time) < 0.0:
            found, time = source, data.upcoming[source]
    return found


@inner
def _is_in(crossing, first, count, item):
    """Whether an item is among those of a landing.

    Parameters
    ----------
    crossing : Crossing
    first, count : int
        Where the items of the landing begin and end.
    item : int

    Returns
    -------
    bool
    """
    found = False
    for index in range(first, count):
        found = found or crossing.items[index] == item
    return found


@inner
def _land_on(data, crossing, state, landing, first):
    """Form the next landing, of all that is one time with the nearest; return where its items end.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    landing : int
        Its index; nothing is written beyond the room.
    first : int
        Where its items begin.

    Returns
    -------
    int
    """
    source = _nearest(data)
    head, count, fits = data.upcoming[source], first, landing < data.room
    switches = False
    if fits:
        crossing.times[landing], crossing.longest[landing], crossing.begins[landing] = head, _NAN, first
    while source >= 0 and together(data.upcoming[source], head, data.scratch):
        item, time = column_of(data, source, SOURCE_ITEM), data.upcoming[source]
        if item >= 0 and time != head and _is_in(crossing, first, min(count, data.room), item):
            break
        if item < 0:
            if fits:
                crossing.longest[landing] = data.bounds[data.position[source]]
        else:
            if count < data.room:
                crossing.items[count] = item
            count += 1
            switches = switches or item >= crossing.n_events
        if column_of(data, source, SOURCE_KIND) == LISTED:
            data.position[source] += 1
        find_next(data, crossing, state, source, time)
        source = _nearest(data)
    if switches:
        # what a switch follows may jump, and so it may
        for other in range(data.n_sources):
            item = column_of(data, other, SOURCE_ITEM)
            if column_of(data, other, SOURCE_DEPTH) > 0 and not _is_in(crossing, first, min(count, data.room), item):
                if count < data.room:
                    crossing.items[count] = item
                count += 1
    return count


@inner
def _source_of(data, item):
    """Return the source of an item that is a switch."""
    for source in range(data.n_sources):
        if column_of(data, source, SOURCE_ITEM) == item:
            return source
    return -1


@inner
def _give_values(data, crossing, state, first, count, now, until):
    """Write what the switches of a landing hold beyond it; return where its items end without those that stay.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    first, count : int
        Where its items begin and end.
    now, until : float
        Its time, and the next.

    Returns
    -------
    int
    """
    kept = first
    for index in range(first, count):
        item, value = crossing.items[index], _NAN
        if item >= crossing.n_events:
            source = _source_of(data, item)
            value = value_between(data, crossing, state, source, now, until)
            if column_of(data, source, SOURCE_DEPTH) > 0 and value == data.held[source]:
                continue
            data.held[source] = value
        crossing.items[kept], crossing.values[kept] = item, value
        kept += 1
    return kept


@inner
def _begin(data, crossing, state):
    """Find the first time of each source; False where a line passes too many whole numbers.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)

    Returns
    -------
    bool
    """
    for source in range(data.n_sources):
        data.position[source] = column_of(data, source, SOURCE_FIRST)
        # those of switches that others are within follow when these hold something
        if column_of(data, source, SOURCE_DEPTH) > 0:
            data.upcoming[source] = np.copysign(np.inf, data.interval[1] - data.interval[0])
        elif not find_next(data, crossing, state, source, data.interval[0]):
            return False
    return True


def put_in_order(address):
    """Put known times in their order, and let switches hold what they do at first.

    ``address`` is that of the table of the march's `InitialData`. Returns 0; the room that is needed, where it is
    larger; -1 where a line passes too many whole numbers.
    """
    data = initial_data_in(as_longs(address))
    table = as_longs(data.march)
    state, crossing = system_in(table).state, crossing_in(table)
    now, landing, count = data.interval[0], 0, 0
    if not _begin(data, crossing, state):
        return -1
    source = _nearest(data)
    if source >= 0 and data.upcoming[source] == now:
        count, landing = _land_on(data, crossing, state, 0, 0), 1
        for index in range(min(count, data.room)):
            crossing.values[index] = _NAN
    until = _look_ahead(data, crossing, state, now)
    for source in range(data.n_sources):
        data.begun[source] = data.held[source] = value_between(data, crossing, state, source, now, until)
    data.interval[2] = until
    while until == until and _nearest(data) >= 0:
        first, now = count, data.upcoming[_nearest(data)]
        count = _land_on(data, crossing, state, landing, first)
        until = _look_ahead(data, crossing, state, now)
        if max(landing + 1, count) <= data.room:
            count = _give_values(data, crossing, state, first, count, now, until)
            # where nothing happens, the march does not land
            landing -= int(count == first and crossing.longest[landing] != crossing.longest[landing])
        landing += 1
    if until != until:
        return -1
    if max(landing, count) > data.room:
        return max(landing, count)
    crossing.times[landing], crossing.begins[landing] = data.interval[1], count
    table[CROSSING + N_LANDINGS] = landing
    for source in range(data.n_sources):
        switch = switch_of(data, crossing, source)
        if switch >= 0:
            crossing.context[crossing.slots[switch]] = data.begun[source]
    return 0
