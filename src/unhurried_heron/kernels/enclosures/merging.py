"""Windows of several formulas laid over each other, and joined."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.enclosures import NO_ROOM, WINDOW_SIZE

# numbers of a window
ROW, START, END, LONGEST = range(WINDOW_SIZE)
# windows are joined if their steps differ by no more than this factor
_ALIKE = 4.0


@inner
def _copy(window, other):
    """Copy a window from another place."""
    for k in range(WINDOW_SIZE):
        window[k] = other[k]


@inner
def _next_edge(search, number, end, time):
    """Return when a window begins or ends, whichever is next after a time; infinite where there is no window left.

    Parameters
    ----------
    search : WindowSearch
    number : int
        Of the window.
    end : int
        That of no window of its kind.
    time : float

    Returns
    -------
    float
    """
    if number == end:
        return np.inf
    window = offset_by(search.windows, WINDOW_SIZE * number)
    return window[START] if window[START] > time else window[END]


@inner
def _longest_at(search, number, end, time):
    """Return how long steps may be from a time on, on account of a window that has not ended; infinite outside it.

    Parameters
    ----------
    search : WindowSearch
    number : int
        Of the window.
    end : int
        That of no window of its kind.
    time : float

    Returns
    -------
    float
    """
    if number == end or search.windows[WINDOW_SIZE * number + START] > time:
        return np.inf
    return search.windows[WINDOW_SIZE * number + LONGEST]


@inner
def overlay(search, begin, middle, end):
    """Lay windows over others, so that at every time the shorter steps hold; return what is behind them then.

    Parameters
    ----------
    search : WindowSearch
    begin, middle, end : int
        Where the first, the others, and what is behind them begin; each in the order of time, and apart.

    Returns
    -------
    int
        `NO_ROOM` where they do not fit.
    """
    left, right, count, time = begin, middle, 0, -np.inf
    while left < middle or right < end:
        until = min(_next_edge(search, left, middle, time), _next_edge(search, right, end, time))
        longest = min(_longest_at(search, left, middle, time), _longest_at(search, right, end, time))
        if longest < np.inf:
            if begin + count == search.room:
                return NO_ROOM
            window = offset_by(search.merging, WINDOW_SIZE * count)
            window[ROW], window[START], window[END], window[LONGEST] = (
                search.windows[WINDOW_SIZE * begin],
                time,
                until,
                longest,
            )
            count += 1
        time = until
        left += left < middle and search.windows[WINDOW_SIZE * left + END] <= time
        right += right < end and search.windows[WINDOW_SIZE * right + END] <= time
    for k in range(count):
        _copy(offset_by(search.windows, WINDOW_SIZE * (begin + k)), offset_by(search.merging, WINDOW_SIZE * k))
    return begin + count


@inner
def joined(search, begin, end):
    """Join windows that touch, or nearly, and ask for steps of about the same length; return how many are left.

    Parameters
    ----------
    search : WindowSearch
    begin, end : int
        Where the windows of one row of values begin, and what is behind them.

    Returns
    -------
    int
    """
    count, longest = 0, 0.0
    for k in range(begin, end):
        window = offset_by(search.windows, WINDOW_SIZE * k)
        last = offset_by(search.windows, WINDOW_SIZE * (begin + count - 1))
        least = min(last[LONGEST], window[LONGEST]) if count > 0 else window[LONGEST]
        touches = count > 0 and window[START] <= last[END] + 0.5 * least
        if touches and max(longest, window[LONGEST]) <= _ALIKE * least:
            longest = max(longest, window[LONGEST])
            last[END], last[LONGEST] = window[END], least
        else:
            longest = window[LONGEST]
            _copy(offset_by(search.windows, WINDOW_SIZE * (begin + count)), window)
            count += 1
    return count
