"""The first step of an adaptive run, by estimate.

E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.4.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from unhurried_heron.run.trajectory import Array


def first_step(
    rates: Callable[[float, Array], Array | None],
    state: Array,
    interval: tuple[float, float],
    scale: Array,
    order: int,
) -> tuple[float, int]:
    """Return the size of the first step and the number of rate evaluations it took.

    Parameters
    ----------
    rates : callable
        Rates at (t, y), or None where they cannot be had.
    scale : ndarray, shape (n_states,)
        Allowed error of each state.
    order : int
        Order of the error estimate.
    """
    start, end = interval
    length = abs(end - start)
    slope = rates(start, state)
    if slope is None or not np.isfinite(slope).all():
        # the march itself reports what is wrong at the start
        return 1e-6 * length, 1
    size, speed = _norm(state / scale), _norm(slope / scale)
    guess = 0.01 * size / speed if size > 1e-5 and speed > 1e-5 else 1e-6 * length
    # a step cannot be shorter than the spacing of floating-point times allows
    shortest = 32 * np.spacing(max(abs(start), length * 1e-300))
    guess = max(min(guess, length), shortest)
    with np.errstate(over="ignore", invalid="ignore"):
        probe = rates(start + np.copysign(guess, end - start), state + np.copysign(guess, end - start) * slope)
    if probe is None or not np.isfinite(probe).all():
        return max(0.01 * guess, shortest), 2
    with np.errstate(over="ignore", invalid="ignore"):
        bend = _norm((probe - slope) / scale) / guess
    steepest = max(speed, bend)
    best = (0.01 / steepest) ** (1.0 / (order + 1)) if steepest > 1e-15 else max(1e-6 * length, 1e-3 * guess)
    return float(max(min(100 * guess, best, length), shortest)), 2


def _norm(vector: Array) -> float:
    """Root mean square, safe from overflow."""
    largest = float(np.abs(vector).max())
    if largest == 0.0 or not np.isfinite(largest):
        return largest
    return largest * float(np.sqrt(np.mean((vector / largest) ** 2)))
