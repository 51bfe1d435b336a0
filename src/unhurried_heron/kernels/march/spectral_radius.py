"""The largest modulus of an eigenvalue of the Jacobian, by the power method on differences of the rates.

G. H. Golub and C. F. Van Loan, *Matrix Computations*, 4th ed. (2013), section 7.3.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.control import FOR_ESTIMATES

# The power method ends where the radius changes by no more than this share,
_SETTLED = 0.005
# or after this number of iterations.
_MAX_TURNS = 60
# Relative change of a state for a difference, the square root of rounding.
_NUDGE = 1.5e-8
# The golden section, whose multiples spread evenly over the circle.
_GOLDEN = 0.6180339887498949


@inner
def _size(values, n):
    """Return the length of a vector of ``n`` numbers."""
    total = 0.0
    for k in range(n):
        total += values[k] * values[k]
    return np.sqrt(total)


@inner
def fill_with_every_mode(direction, n):
    """Begin the power method anew, with something of every mode."""
    for k in range(n):
        turn = (k + 1) * _GOLDEN
        direction[k] = turn - np.floor(turn) - 0.5


@inner
def difference_of_rates(system, control, present, moved, found):
    """Find how the rates differ between a state and the present one: the Jacobian times the way there.

    Parameters
    ----------
    system : System
    control : CONTROL
    present : float pointer, (n,)
        The rates at the present state.
    moved : float pointer, (n,)
        The other state.
    found : float pointer, (n,)
        Filled with the difference, where the rates could be had.

    Returns
    -------
    int
        The answer of the rates.
    """
    code = ask_rates(system, control, FOR_ESTIMATES, control.time, moved, found)
    if code == 1:
        for k in range(system.n):
            found[k] -= present[k]
    return code


@inner
def find_radius(system, control, direction, moved, found):
    """Iterate until the largest modulus is known.

    Parameters
    ----------
    system : System
    control : CONTROL
    direction : float pointer, (n,)
        Where the iterations begin, and the direction of the fastest mode afterwards.
    moved, found : float pointer, (n,)
        Scratch.

    Returns
    -------
    (float, int, bool)
        The modulus, how many evaluations it took, and whether the rates went on.
    """
    n, radius, cost = system.n, 0.0, 0
    size = _size(system.state, n)
    reach = _NUDGE * (
        size if size > 0.0 else max(_size(system.absolute, n), abs(control.length) * _size(system.rates_at_state, n))
    )
    for turn in range(_MAX_TURNS):
        length = _size(direction, n)
        if control.stop != 0 or not 0.0 < length < np.inf or not reach > 0.0:
            break
        for k in range(n):
            moved[k] = system.state[k] + reach / length * direction[k]
        code = difference_of_rates(system, control, system.rates_at_state, moved, found)
        cost += 1
        if code < 1:
            return radius, cost, False
        if code != 1:
            break
        new = _size(found, n) / reach
        if not new < np.inf:
            break
        assembled = abs(new - radius) <= _SETTLED * new
        radius = new
        if radius * reach == 0.0:
            break
        for k in range(n):
            direction[k] = found[k]
        if assembled and turn > 1:
            break
    if not 0.0 < _size(direction, n) < np.inf:
        fill_with_every_mode(direction, n)
    return radius, cost, True
