"""The next known time of a source: among those listed, or where a line passes zero or a whole number."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.memory.call import address_of, as_longs
from unhurried_heron.kernels.memory.initial_data import (
    LINE,
    LISTED,
    MAX_STEPS,
    SOURCE_END,
    SOURCE_ITEM,
    SOURCE_KIND,
    SOURCE_SIZE,
    TOGETHER,
)

# Whole numbers that rounding may put on the wrong side of the present time.
_ROUNDED = 4
_NAN = np.nan


@inner
def next_towards(start, end, scratch):
    """Return the floating-point number next to ``start`` on the way to ``end``.

    Parameters
    ----------
    start, end : float
    scratch : float pointer, (1,)

    Returns
    -------
    float
    """
    if start == end:
        return start
    scratch[0] = start
    bits = as_longs(address_of(scratch))
    if start == 0.0:
        bits[0] = 1
        return np.copysign(scratch[0], end)
    bits[0] += 1 if (end > start) == (start > 0.0) else -1
    return scratch[0]


@inner
def together(time, other, scratch):
    """Whether two times are one: within rounding of how large they are, and not of the interval.

    Parameters
    ----------
    time, other : float
    scratch : float pointer, (1,)

    Returns
    -------
    bool
    """
    size = max(abs(time), abs(other))
    return abs(time - other) <= TOGETHER * (next_towards(size, np.inf, scratch) - size)


@inner
def column_of(data, source, column):
    """Return a column of a source.

    Parameters
    ----------
    data : InitialData
    source : int
    column : int

    Returns
    -------
    int
    """
    return data.sources[SOURCE_SIZE * source + column]


@inner
def _line(functions, source, crossing, state):
    """Return the value of a formula of parameters and held switches, NaN where it stopped.

    Parameters
    ----------
    functions : int64 pointer, (n_sources, 2)
    source : int
    crossing : Crossing
    state : float pointer, (n,)

    Returns
    -------
    float
    """
    return crossing.fresh[0] if call_function(functions, source, 0.0, state, crossing.fresh) == 1 else _NAN


@inner
def _beyond(data, time, now):
    """Whether a time is beyond the present one, and strictly within the interval.

    Parameters
    ----------
    data : InitialData
    time, now : float

    Returns
    -------
    bool
    """
    start, end, scratch = data.interval[0], data.interval[1], data.scratch
    sign = np.copysign(1.0, end - start)
    inside = sign * (time - now) > 0.0 and sign * (end - time) > 0.0
    return inside and not (
        together(time, now, scratch) or together(time, start, scratch) or together(time, end, scratch)
    )


@inner
def find_next(data, crossing, state, source, now):
    """Find the next time of a source beyond the present one, an infinity for none.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    source : int
    now : float

    Returns
    -------
    bool
        False where a line passes too many whole numbers.
    """
    start, end = data.interval[0], data.interval[1]
    never = np.copysign(np.inf, end - start)
    kind = column_of(data, source, SOURCE_KIND)
    if kind == LISTED:
        at = data.position[source]
        data.upcoming[source] = data.listed[at] if at < column_of(data, source, SOURCE_END) else never
        return True
    data.upcoming[source] = never
    begin, growth = _line(data.gaps, source, crossing, state), _line(data.growths, source, crossing, state)
    if not (abs(begin) < np.inf and 0.0 < abs(growth) < np.inf):
        return True
    if kind == LINE:
        time = -begin / growth
        if _beyond(data, time, now):
            data.upcoming[source] = time
        return True
    if not abs(growth * (end - start)) < MAX_STEPS:
        return False
    rises = (growth > 0.0) == (end > start)
    value = begin + growth * now
    whole = np.floor(value) if rises else np.ceil(value)
    for _ in range(_ROUNDED):
        time = (whole - begin) / growth
        if _beyond(data, time, now):
            data.upcoming[source] = time
            return True
        whole += 1.0 if rises else -1.0
    return True


@inner
def switch_of(data, crossing, source):
    """Return the switch of a source, below zero where it has none that holds a value.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    source : int

    Returns
    -------
    int
    """
    switch = column_of(data, source, SOURCE_ITEM) - crossing.n_events
    return switch if switch >= 0 and has_function(crossing.lives, switch) else -1


@inner
def value_between(data, crossing, state, source, now, until):
    """Return what the switch of a source holds between two times, NaN for none.

    Parameters
    ----------
    data : InitialData
    crossing : Crossing
    state : float pointer, (n,)
    source : int
    now, until : float

    Returns
    -------
    float
    """
    switch = switch_of(data, crossing, source)
    if switch < 0:
        return _NAN
    middle = 0.5 * (now + until)
    # between neighbouring numbers there is no time
    middle = now if middle == until else middle
    return crossing.fresh[0] if call_function(crossing.lives, switch, middle, state, crossing.fresh) == 1 else _NAN
