"""Damped Newton's method, with fresh Jacobians, for fixed steps that simplified iterations do not solve.

It looks for the root that is connected with the present state as the step grows from 0. So it starts from no change.
Each step is damped until the simplified correction behind it is shorter, which does not depend on the units of the
equations and proves descent: P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), section 3.3. Along the
connected branch the determinant of the equations keeps its sign, so a root where it is negative lies on another branch
and is refused; then the step is made to grow from 0 in parts, each solved from where the one before ended: section 5.1.
Where the branch itself ends before the step does, a root beyond it is taken, and counted, or none.

``equations`` is what one stage and a block of stages have in common: the number of unknowns; pointers to the unknowns
``z``, to a scratch array that takes what is missed and the corrections, to the damped step and to a copy of z; and the
two functions ``miss`` and ``correct``.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.mass_matrix import sign_of_short_steps, subtract_mass
from unhurried_heron.kernels.implicit.newton import TOLERANCE, factor_for
from unhurried_heron.kernels.linear_algebra.calls import sign_of_determinant, solve
from unhurried_heron.kernels.linear_algebra.context import DONE, UNKNOWN
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_part
from unhurried_heron.kernels.memory.control import FOR_STAGES
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, STOPPED

# Iterations for one part of a step.
_MAX_ITERATIONS = 60
# A Newton step that must be cut by more than this factor makes no progress.
_SHORTEST = 1.0 / 65536.0
# The first part of a step that grows from nothing,
_FIRST_PART = 0.25
# and the smallest by which it grows.
_MIN_PART = 1e-3
# Residuals from here on count as infinite.
_HUGE = 1e300
# Starting values from which a root beyond the connected branch is sought.
_STARTS = 8
# Corrections below this share of a state are rounding.
_ROUNDED = 32.0 * 2.220446049250313e-16


@inner
def _size(values, scale, n, count):
    """Return the root mean square of ``count`` values, n at a time in units of ``scale``.

    Parameters
    ----------
    values : float pointer, (count,)
    scale : float pointer, (n,)
        Units of the states.
    n : int
        Number of states.
    count : int

    Returns
    -------
    float
    """
    total = 0.0
    for k in range(n):
        inverse = 1.0 / scale[k]
        for i in range(count // n):
            x = values[i * n + k] * inverse
            total += x * x
    return np.sqrt(total / count)


@inner
def _go(z, direction, count, share):
    """Move the unknowns by a share of a direction.

    Parameters
    ----------
    z : float pointer, (count,)
        Changed in place.
    direction : float pointer, (count,)
    count : int
    share : float
    """
    for k in range(count):
        z[k] += share * direction[k]


@inner
def _is_rounding(system, z, correction, count):
    """Whether a correction changes the states of the stages by some roundings only.

    Parameters
    ----------
    system : System
    z : float pointer, (count,)
        The unknowns.
    correction : float pointer, (count,)
    count : int

    Returns
    -------
    bool
    """
    n = system.n
    rounding = True
    for k in range(count):
        rounding = rounding and abs(correction[k]) <= _ROUNDED * (abs(system.state[k % n]) + abs(z[k]))
    return rounding


@inner
def _damped(system, work, control, equations, part, threshold):
    """Iterate from the present unknowns for a part of the step.

    Returns the outcome, the number of iterations and the sign of the determinant.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    equations : tuple
        Arrays of the unknowns (their count, the unknowns, the miss, a direction, a copy), what writes the miss, what
        corrects, and where.
    part : float
        The share of the step that is solved for.
    threshold : float
        The largest error of the iteration, in tolerances.

    Returns
    -------
    (int, int, int)
    """
    (count, z, scratch, direction, _), miss, correct, where = equations
    n, share, sign = system.n, 1.0, 1
    code = miss(system, work, control, where, part)
    for iteration in range(1, _MAX_ITERATIONS + 1):
        if code == 1:
            code, sign = correct(system, work, control, where, part, True)
        if code != 1:
            return (STOPPED if code < 1 else DIVERGED), iteration, sign
        size = _size(scratch, work.scale, n, count)
        if not size < _HUGE:
            return DIVERGED, iteration, sign
        for k in range(count):
            direction[k] = scratch[k]
        if size <= threshold or _is_rounding(system, z, scratch, count):
            _go(z, direction, count, 1.0)
            return CONVERGED, iteration, sign
        share = min(1.0, 2.0 * share)
        while True:
            _go(z, direction, count, share)
            code = miss(system, work, control, where, part)
            if code == 1:
                code, _ = correct(system, work, control, where, part, False)
            if code < 1:
                return STOPPED, iteration, sign
            after = _size(scratch, work.scale, n, count) if code == 1 else np.inf
            if after <= (1.0 - 0.5 * share) * size or (share == 1.0 and after <= threshold):
                break
            _go(z, direction, count, -share)
            share *= 0.5
            if share < _SHORTEST:
                return DIVERGED, iteration, sign
        code = miss(system, work, control, where, part)
    return DIVERGED, _MAX_ITERATIONS, sign


@inner
def _leap(system, work, control, equations, threshold):
    """Take a root beyond the end of the connected branch, which folded, and count that; DIVERGED where none is near.

    Where a relaxation leaps, the branch of a long step ends with the slow manifold that it follows. ``control.leaps``
    is told at the end of the run.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    equations : tuple
        Arrays of the unknowns (their count, the unknowns, the miss, a direction, a copy), what writes the miss, what
        corrects, and where.
    threshold : float
        The largest error of the iteration, in tolerances.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    count, z, _, _, kept = equations[0]
    total = 0
    for start in range(_STARTS):
        for k in range(count):
            # The search starts at the predicted state, and then further and further along the direction
            # of the step.
            z[k] = work.guess[k] if start == 0 else kept[k] * 2.0 ** (start - 1)
        outcome, more, sign = _damped(system, work, control, equations, 1.0, threshold)
        total += more
        if outcome == STOPPED:
            return STOPPED, total
        if outcome == CONVERGED and sign > 0:
            if control.leaps == 0:
                control.leap_time = control.time
            control.leaps += 1
            return CONVERGED, total
    return DIVERGED, total


@inner
def solve_damped(system, work, control, equations, threshold):
    """Find the root that is connected with no change; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    equations : tuple
        ``(count, z, scratch, direction, kept)``, ``miss``, ``correct``, ``where``, as the head of this file tells.
        ``miss(system, work, control, where, part)`` writes to ``scratch`` what the equations miss and returns the code
        of the rates; ``correct(..., fresh)`` turns that into the Newton correction, with a fresh Jacobian if wanted,
        and returns a code, 2 where the matrix is singular, and the sign of its determinant.
    threshold : float
        The largest correction of a solution, in units of the tolerance.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    count, z, _, _, kept = equations[0]
    for k in range(count):
        z[k] = 0.0
    outcome, total, sign = _damped(system, work, control, equations, 1.0, threshold)
    if outcome == STOPPED or (outcome == CONVERGED and sign > 0):
        return outcome, total
    done, part = 0.0, _FIRST_PART
    for k in range(count):
        kept[k] = 0.0
    while done < 1.0:
        if control.stop != 0:
            return DIVERGED, total
        for k in range(count):
            z[k] = kept[k]
        further = min(1.0, done + part)
        outcome, more, sign = _damped(system, work, control, equations, further, threshold)
        total += more
        if outcome == STOPPED:
            return STOPPED, total
        if outcome == CONVERGED and sign > 0:
            done, part = further, 2.0 * part
            for k in range(count):
                kept[k] = z[k]
            continue
        part *= 0.5
        if part < _MIN_PART:
            outcome, more = _leap(system, work, control, equations, threshold)
            return outcome, total + more
    return CONVERGED, total


@inner
def _stage_miss(system, work, control, where, part):
    """Write what a stage base + z misses, rates - shift M z.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    where : (int, float, float, (int, int))
        Context of the factors, time and shift of the stage, and the addresses of the rates and their context.
    part : float
        The share of the step that is solved for.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    (_, time, shift, rates), n = where, system.n
    for k in range(n):
        work.stage[k] = work.base[k] + work.z[k]
    code = ask_part(rates, control, FOR_STAGES, time, work.stage, work.residual)
    for k in range(n):
        work.defect[k] = work.residual[k]
    subtract_mass(system, shift / part, work.z, work.defect)
    return code


@inner
def _stage_correct(system, work, control, where, part, fresh):
    """Turn the miss of a stage into the Newton correction.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    where : (int, float, float, (int, int))
        As of `_stage_miss`.
    part : float
        The share of the step that is solved for.
    fresh : bool
        Whether Jacobian and factors are to be found anew.

    Returns
    -------
    (int, int)
        The code of the rates, 2 where the matrix is singular; and the sign of the determinant, 0 for none.
    """
    (context, time, shift, _), sign = where, 1
    if fresh:
        code = jacobian_at(system, work, control, time, work.stage, work.residual)
        if code != 1:
            return code, 0
        if factor_for(work, control, context, shift / part) != DONE:
            return 2, 0
        # where nothing tells the sign, the root is taken as it is
        sign = sign_of_determinant(context)
        sign = 1 if sign == UNKNOWN else sign * sign_of_short_steps(system, control, shift)
    solved = solve(work.solve, context, work.defect, work.defect, TOLERANCE)
    control.solves += 1
    control.iterations += 1
    return (1 if solved == DONE else 2), sign


@inner
def solve_stage_damped(system, work, control, part, stage, threshold):
    """Solve a stage y = base + z, rates = shift M z; return the outcome and the number of iterations.

    Jacobian and factors are of this stage afterwards. ``work`` has ``direction``, ``stage`` and ``kept`` (n,) besides
    what `solve_stage` needs; ``residual`` and ``defect`` are written over.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    part : (int, int)
        The addresses of the rates, or of a part of them, and of their context.
    stage : (int, float, float)
        The address of the context of the factors, the time of the stage, and the shift.
    threshold : float
        The largest error of the iteration, in tolerances.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    context, time, shift = stage
    arrays = (system.n, work.z, work.defect, work.direction, work.kept)
    equations = (arrays, _stage_miss, _stage_correct, (context, time, shift, part))
    outcome, count = solve_damped(system, work, control, equations, threshold)
    for k in range(system.n):
        system.trial[k] = work.base[k] + work.z[k]
    return outcome, count
