"""Growth that an error estimate does not see: it is damped together with its error, or rests below the tolerance."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.mass_matrix import sign_of_short_steps
from unhurried_heron.kernels.implicit.newton import TOLERANCE
from unhurried_heron.kernels.linear_algebra.calls import sign_of_determinant, solve
from unhurried_heron.kernels.linear_algebra.context import DONE, SHIFT
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import address_of, as_doubles, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import FOLLOWS

# eigenvalues cost about as much as a step: they are looked at where it grows, and now and then
_LONGER = 1.5
# Steps after which growth is looked for in any case.
_NOW_AND_THEN = 16


@inner
def steps_over_growth(system, work, control, h):
    """Whether an odd number of real growing modes is so fast that the step would follow their unstable branch.

    The determinant of shift*M - J is a product of shift - lambda over the eigenvalues: its sign, free from the factors,
    tells whether lambda > shift for an odd number of real ones. Beyond that the method damps what grows.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    bool
    """
    return implicit_memory(work.memory).sign * sign_of_short_steps(system, control, h) < 0


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
def _write_modes(system, work, context, sign):
    """Write a matrix whose eigenvalues tell those of the last Jacobian to ``spare``; False where there is none.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    context : int
        Address of a context of real factors.
    sign : float
        1 forward in time, -1 backward.

    Returns
    -------
    bool
    """
    n = system.n
    work.spare[0] = n
    if system.n_mass == 0:
        work.spare[1], work.spare[2] = 0.0, 1.0
        for i in range(n * n):
            work.spare[i + 3] = sign * work.jacobian[i]
        return True
    work.spare[1], work.spare[2] = as_doubles(as_longs(context)[SHIFT])[0], sign
    for j in range(n):
        for k in range(n):
            work.shifted[k] = 0.0
        for e in range(system.n_mass):
            if system.mass_columns[e] == j:
                work.shifted[system.mass_rows[e]] += system.mass[e]
        if solve(work.solve, context, work.shifted, work.shifted, TOLERANCE) != DONE:
            return False
        for k in range(n):
            work.spare[k * n + j + 3] = work.shifted[k]
    return _leave_out_constrained(n, work.spare, work.shifted)


@inner
def _leave_out_constrained(n, values, moves):
    """Leave out the states that constraints tell, whose columns are zero and whose rows are in no unit of the others.

    Parameters
    ----------
    n : int
        Number of states.
    values : float pointer, (n n + 3,)
        The matrix stands behind its order, shift and sign; changed in place.
    moves : float pointer, (n,)
        Scratch.

    Returns
    -------
    bool
        Whether any state is left.
    """
    matrix, count, at = offset_by(values, 3), 0, 0
    for j in range(n):
        size = 0.0
        for i in range(n):
            size = max(size, abs(matrix[i * n + j]))
        moves[j] = size
        count += int(size != 0.0)
    for i in range(n):
        for j in range(n):
            if moves[i] != 0.0 and moves[j] != 0.0:
                matrix[at] = matrix[i * n + j]
                at += 1
    values[0] = count
    return count > 0


@inner
def longest_seen(system, work, control, context, h):
    """Return the longest step that shows what grows, by the last Jacobian: a radian or e-fold of it, or less.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of a context of real factors.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    float
        Infinite where nothing grows.
    """
    if work.growth == 0 or not _write_modes(system, work, context, np.copysign(1.0, h)):
        return np.inf
    call_kernel(work.growth, address_of(work.spare))
    growth, modulus = work.spare[0], work.spare[1]
    # what hardly grows until the end does no harm
    return work.limits[FOLLOWS] / modulus if growth * abs(control.end - control.time) > 1.0 else np.inf


@inner
def damps_growth(system, work, control, context, h):
    """Whether an adaptive step, whose matrices are factored, would damp what grows.

    The sign of the determinant of the real ones is kept.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the real factors.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    bool
    """
    memory = implicit_memory(work.memory)
    memory.sign = sign_of_determinant(context)
    if control.adaptive == 0:
        return False
    # On the first step nothing is known yet of modes that grow from zero.
    first = memory.previous_step == 0.0
    return steps_over_growth(system, work, control, h) or (
        first and longest_seen(system, work, control, context, h) < abs(h)
    )


@inner
def heed_growth(system, work, control, context, moves):
    """Bound the next adaptive step where something may grow from below the tolerance, which an error estimate misses.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of a context of real factors.
    moves : float pointer, (n,)
        How far each state moves in the step.
    """
    if control.adaptive == 0:
        return
    h = control.length
    longer = abs(control.step) > _LONGER * abs(h) or control.accepted % _NOW_AND_THEN == 0
    if longer and stands_still(work, system.n, moves):
        control.step = np.copysign(min(abs(control.step), longest_seen(system, work, control, context, h)), h)
