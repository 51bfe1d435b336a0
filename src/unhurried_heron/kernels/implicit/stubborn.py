"""Newton's method for one stage of a fixed step that simplified iterations do not solve: its own Jacobian, damped.

The steps are damped until the residual falls: P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), section
3.1.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.newton import factor_for
from unhurried_heron.kernels.implicit.scale import size_of
from unhurried_heron.kernels.linear_algebra.calls import solve
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.control import FOR_STAGES
from unhurried_heron.kernels.memory.work_spaces import CONVERGED, DIVERGED, STOPPED

_MOST_ITERATIONS = 100
# a step of Newton's method that must be cut by more than this goes nowhere
_SHORTEST = 1.0 / 4096.0
_STARTS = 2


@inner
def _miss(system, work, control, time, shift):
    """Write what the stage misses to ``defect``, rates - shift z, and return the code of the rates and its size."""
    n = system.n
    for k in range(n):
        work.shifted[k] = work.base[k] + work.z[k]
    code = ask_rates(system, control, FOR_STAGES, time, work.shifted, work.residual)
    if code != 1:
        return code, np.inf
    for k in range(n):
        work.defect[k] = (work.residual[k] - shift * work.z[k]) / shift
    return code, size_of(work, work.defect, n)


@inner
def _direct(system, work, control, context, time, shift):
    """Turn the miss into the Newton step, from the Jacobian at the stage; return the code, 2 where it is singular."""
    n = system.n
    for k in range(n):
        work.stage[k] = work.base[k] + work.z[k]
    code = jacobian_at(system, work, control, time, work.stage, work.residual)
    if code != 1:
        return code
    if factor_for(work, control, context, shift) == 0:
        return 2
    for k in range(n):
        work.defect[k] *= shift
    solve(work.solve, context, work.defect, work.defect)
    control.solves += 1
    control.iterations += 1
    return 1


@inner
def _search(system, work, control, time, shift, size):
    """Go along the Newton step until the miss falls below ``size``; return the code, the new size and the share."""
    share, code, now = 1.0, 1, np.inf
    n = system.n
    for k in range(n):
        work.direction[k] = work.defect[k]
    while share >= _SHORTEST:
        for k in range(n):
            work.z[k] += share * work.direction[k]
        code, now = _miss(system, work, control, time, shift)
        if code < 1 or (code == 1 and now < size):
            break
        for k in range(n):
            work.z[k] -= share * work.direction[k]
        share *= 0.5
    return code, now, share


@inner
def insist_on_stage(system, work, control, context, time, shift, threshold):
    """Solve a stage from where the iteration ended, then from no change; return outcome and number of iterations.

    Jacobian and factors are of this stage afterwards. ``work`` has ``direction`` and ``stage`` (n,) besides what
    `solve_stage` needs; ``shifted`` and ``defect`` are written over.
    """
    n, total = system.n, 0
    for start in range(_STARTS):
        for k in range(n):
            if start > 0 or not abs(work.z[k]) < 1e300:
                work.z[k] = 0.0
        code, size = _miss(system, work, control, time, shift)
        for _ in range(_MOST_ITERATIONS):
            if code < 1:
                return STOPPED, total
            if code != 1 or not size < 1e300:
                break
            code = _direct(system, work, control, context, time, shift)
            if code < 1:
                return STOPPED, total
            if code > 1:
                break
            total += 1
            length = size_of(work, work.defect, n)
            if length <= threshold:
                for k in range(n):
                    work.z[k] += work.defect[k]
                    system.trial[k] = work.base[k] + work.z[k]
                return CONVERGED, total
            code, size, share = _search(system, work, control, time, shift, size)
            if share < _SHORTEST:
                break
    return DIVERGED, total
