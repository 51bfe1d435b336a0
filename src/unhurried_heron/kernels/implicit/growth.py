"""Growth that an error estimate does not see: it is damped together with its error, or rests below the tolerance."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import UNKNOWN
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import address_of, call_kernel
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.work_spaces import FOLLOWS

# eigenvalues cost about as much as a step: they are looked at where it grows, and now and then
_LONGER = 1.5
# Steps after which growth is looked for in any case.
_NOW_AND_THEN = 16


@inner
def steps_over_growth(work, n, h):
    """Whether an odd number of real growing modes is so fast that the step would follow their unstable branch.

    The determinant of shift - J is the product of shift - lambda over the eigenvalues: its sign, free from the factors,
    tells whether lambda > shift for an odd number of real ones. Beyond that the method damps what grows.

    Parameters
    ----------
    work : work space of an implicit family
    n : int
        Number of states.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    bool
    """
    memory = implicit_memory(work.memory)
    if memory.sign == UNKNOWN:
        return False
    backward = h < 0.0 and n % 2 == 1
    return (memory.sign < 0) != backward


@inner
def stands_still(work, n, moves):
    """Whether a component moves in a step by less than the tolerance: it may rest on top of something that grows.

    Parameters
    ----------
    work : work space of an implicit family
    n : int
        Number of states.
    moves : float pointer, (n,)
        How far each state moves in the step.

    Returns
    -------
    bool
    """
    still = False
    for k in range(n):
        still |= abs(moves[k]) <= work.scale[k]
    return still


@inner
def longest_seen(control, work, n, h):
    """Return the longest step that shows what grows, by the last Jacobian: a radian or e-fold of it, or less.

    Parameters
    ----------
    control : CONTROL
    work : work space of an implicit family
    n : int
        Number of states.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    float
        Infinite where nothing grows.
    """
    if work.growth == 0:
        return np.inf
    sign = 1.0 if h > 0.0 else -1.0
    work.spare[0] = n
    for i in range(n * n):
        work.spare[i + 1] = sign * work.jacobian[i]
    call_kernel(work.growth, address_of(work.spare))
    growth, modulus = work.spare[0], work.spare[1]
    # what hardly grows until the end does no harm
    return work.limits[FOLLOWS] / modulus if growth * abs(control.end - control.time) > 1.0 else np.inf


@inner
def damps_growth(control, work, n, h):
    """Whether an adaptive step, whose matrices are factored, would damp what grows.

    Parameters
    ----------
    control : CONTROL
    work : work space of an implicit family
    n : int
        Number of states.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    bool
    """
    if control.adaptive == 0:
        return False
    # On the first step nothing is known yet of modes that grow from zero.
    first = implicit_memory(work.memory).previous_step == 0.0
    return steps_over_growth(work, n, h) or (first and longest_seen(control, work, n, h) < abs(h))


@inner
def heed_growth(control, work, n, moves):
    """Bound the next adaptive step where something may grow from below the tolerance, which an error estimate misses.

    Parameters
    ----------
    control : CONTROL
    work : work space of an implicit family
    n : int
        Number of states.
    moves : float pointer, (n,)
        How far each state moves in the step.
    """
    if control.adaptive == 0:
        return
    h = control.length
    longer = abs(control.step) > _LONGER * abs(h) or control.accepted % _NOW_AND_THEN == 0
    if longer and stands_still(work, n, moves):
        control.step = np.copysign(min(abs(control.step), longest_seen(control, work, n, h)), h)
