"""Times at which formulas are on the side of a jump where a run is: at a jump they are what they are after it."""

from __future__ import annotations

import numpy as np

from unhurried_heron.arrays import Array


def going_on(time: float, interval: tuple[float, float]) -> float:
    """Return a time as a run is that goes on from it: backward just before it."""
    return time if interval[1] >= interval[0] else float(np.nextafter(time, -np.inf))


def as_the_rows(times: Array, interval: tuple[float, float]) -> Array:
    """Return the times of a run's rows, at which it goes on, and ends as it came.

    Parameters
    ----------
    times : ndarray, shape (n_times,)
    interval : (float, float)

    Returns
    -------
    ndarray, shape (n_times,)
    """
    if interval[1] < interval[0]:
        return np.append(np.nextafter(times[:-1], -np.inf), times[-1:])
    return np.append(times[:-1], np.nextafter(times[-1:], times[0])) if times.size > 1 else times
