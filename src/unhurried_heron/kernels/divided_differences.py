"""Divided differences of what multistep methods of variable step know of the past; step and order follow errors.

Row q of the table is the divided difference of the last q + 1 points, the present one first, times unit^q: F. T. Krogh,
SIAM J. Numer. Anal. 10 (1973) 949-965; E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential
Equations I*, 2nd ed. (1993), section III.5. ``work``: a `VariableWork`.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.divided_differences_work import VARIABLE, VariableWork
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_record, offset_by
from unhurried_heron.kernels.memory.decoding import decoder

variable_work_in = decoder(VariableWork)
variable_in = as_record(VARIABLE)

# The unit of the table follows the length of the step where the two differ by more than this factor.
_FAR = 1e4
# A step aims at this share of the length whose error would be the whole tolerance.
_AIM = 0.8
# The order is changed where steps become longer by this factor,
_ORDER_GAINS = 1.1
# and the length is changed where it becomes longer by this one: both rebuild the table.
_LENGTH_GAINS = 1.2
# The factor from one step to the next at most,
_LONGEST = 2.0
# and at least.
_SHORTEST = 0.4
# An error of zero counts as this.
_TINY = 1e-300


@inner
def set_spans(work, finish):
    """Write the times from the points of the table to the end of the attempt, in the table's unit."""
    variable = variable_in(work.variable)
    for j in range(variable.count):
        work.spans[j] = (finish - work.times[j]) / variable.unit


@inner
def follow_unit(work, n, h):
    """Rewrite the table in a unit near the step's length, where that changed much.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    h : float
        Length of the step, negative backwards.
    """
    variable = variable_in(work.variable)
    if 1.0 / _FAR < abs(h) / variable.unit < _FAR:
        return
    ratio, power = abs(h) / variable.unit, 1.0
    for q in range(1, variable.count):
        power *= ratio
        row = offset_by(work.table, q * n)
        for k in range(n):
            row[k] *= power
    variable.unit = abs(h)


@inner
def begin_table(work, n, time, h, values):
    """Forget the past: the present values alone.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    time : float
    h : float
        Length of the step, negative backwards.
    values : float pointer, (n,)
        The present values.
    """
    variable = variable_in(work.variable)
    variable.order, variable.count, variable.steady, variable.starting = 1, 1, 0, 1
    variable.unit = abs(h)
    work.times[0] = time
    for k in range(n):
        work.table[k] = values[k]


@inner
def extend(work, n, values, most):
    """Write to ``fresh`` the differences from the end of the attempt, ``values`` there; return how many rows.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    values : float pointer, (n,)
        Those at the end of the attempt.
    most : int
        How many rows are wanted at most.

    Returns
    -------
    int
    """
    variable = variable_in(work.variable)
    count = min(min(variable.count + 1, work.rows), most)
    for k in range(n):
        work.fresh[k] = values[k]
    for q in range(1, count):
        row, below, old = (
            offset_by(work.fresh, q * n),
            offset_by(work.fresh, (q - 1) * n),
            offset_by(work.table, (q - 1) * n),
        )
        share = 1.0 / work.spans[q - 1]
        for k in range(n):
            row[k] = (below[k] - old[k]) * share
    return count


@inner
def keep(work, n, time, count):
    """Take the fresh differences as the table.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    time : float
    count : int
        Rows of the fresh differences.
    """
    variable = variable_in(work.variable)
    for i in range(count * n):
        work.table[i] = work.fresh[i]
    for j in range(min(count, work.rows) - 1, 0, -1):
        work.times[j] = work.times[j - 1]
    work.times[0] = time
    variable.count = count


@inner
def size_of_row(work, n, q, weight):
    """Return the size of ``weight`` times a fresh difference, in units of the tolerance.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    q : int
        The row.
    weight : float

    Returns
    -------
    float
    """
    row, total = offset_by(work.fresh, q * n), 0.0
    for k in range(n):
        ratio = row[k] * weight / work.scale[k]
        total += ratio * ratio
    return np.sqrt(total / n)


@inner
def _gain(error, order):
    return _AIM * max(error, _TINY) ** (-1.0 / (order + 1.0))


@inner
def choose_next(work, control):
    """Set order and length of the next step from the errors of this one."""
    variable = variable_in(work.variable)
    k = variable.order
    variable.steady += 1
    best, gain = k, _gain(variable.here, k)
    lower = k > 1 and (_gain(variable.below, k - 1) > _ORDER_GAINS * gain)
    # differences that do not fall with the order tell of rounding, or of a mode at the edge of stability
    guard = k > 2 and variable.below <= variable.here and variable.further <= variable.here
    if lower or guard:
        best, gain = k - 1, _gain(variable.below, k - 1)
    elif variable.starting == 1 and k < work.most and variable.here < variable.below:
        best = k + 1
    elif k < work.most and variable.steady > k and variable.above < np.inf:
        higher = _gain(variable.above, k + 1)
        if higher > _ORDER_GAINS * gain:
            best, gain = k + 1, higher
    if best <= k and k > 1:
        variable.starting = 0
    factor = min(_LONGEST, max(_SHORTEST, gain))
    if control.after_refusal == 1:
        factor = min(factor, 1.0)
    # steps of one length keep factors and coefficients
    if 0.9 <= factor < _LENGTH_GAINS:
        factor = 1.0
    if factor > 1.0 and variable.steady <= k and variable.starting == 0:
        factor = 1.0
    if best != k or factor != 1.0:
        variable.steady = 0
    variable.order, variable.refusals = best, 0
    control.step = control.length * factor


@inner
def after_error(work, control):
    """Shorten the step after too large an error, and lower the order where that happens again."""
    variable = variable_in(work.variable)
    variable.refusals += 1
    variable.steady, variable.starting = 0, 0
    k = variable.order
    gain = _gain(variable.here, k) if variable.here < np.inf else 0.1
    if k > 1 and (variable.below <= variable.here or variable.refusals > 1):
        variable.order = k - 1
        gain = max(gain, _gain(variable.below, k - 1)) if variable.below < np.inf else gain
    control.step = control.length * min(0.9, max(0.1, gain)) if variable.refusals < 4 else control.length * 0.25
