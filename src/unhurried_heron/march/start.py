"""The first step of an adaptive run, by estimate.

The plan is that of E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993),
section II.4; the last formula is made independent of the unit of time.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from unhurried_heron.run.trajectory import Array


def starting_step(
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
    guess = 0.01 * size / speed if size > 1e-5 and speed > 0.0 else 1e-6 * length
    # a step cannot be shorter than the spacing of floating-point times allows
    shortest = 32 * np.spacing(max(abs(start), length * 1e-300))
    guess = max(min(guess, length), shortest)
    with np.errstate(over="ignore", invalid="ignore"):
        probe = rates(start + np.copysign(guess, end - start), state + np.copysign(guess, end - start) * slope)
    if probe is None or not np.isfinite(probe).all():
        return max(0.01 * guess, shortest), 2
    with np.errstate(over="ignore", invalid="ignore"):
        bend = _norm((probe - slope) / scale) / guess
    best = 100 * guess
    rate = bend / speed if speed > 0.0 else 0.0
    if rate > 1e-300:
        # if every derivative is larger than the one before by this rate, the error of a step h is about
        # speed * rate^order * h^(order + 1), which is to be a hundredth of the tolerance
        best = (0.01 * rate / speed) ** (1.0 / (order + 1)) / rate
    elif speed == 0.0 and bend > 0.0:
        best = float(np.sqrt(0.01 / bend))
    return float(max(min(100 * guess, best, length), shortest)), 2


def _norm(vector: Array) -> float:
    """Root mean square, safe from overflow."""
    largest = float(np.abs(vector).max())
    if largest == 0.0 or not np.isfinite(largest):
        return largest
    return largest * float(np.sqrt(np.mean((vector / largest) ** 2)))
