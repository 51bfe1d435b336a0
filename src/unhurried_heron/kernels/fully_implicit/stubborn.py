"""Newton's method for a fixed step that simplified iterations do not solve: all stages at once, damped.

Every stage has its own Jacobian, so the s n unknowns do not fall apart. The steps are damped until the residual
z - h A f(y + z) falls: P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), section 3.1.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.fully_implicit.newton import all_stage_rates
from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import RE
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by
from unhurried_heron.kernels.memory.decoding import block_work_in, system_in
from unhurried_heron.kernels.memory.work_spaces import CONVERGED, DIVERGED, GAMMA, NEWTON_LIMIT, STOPPED

_MOST_ITERATIONS = 100
# a step of Newton's method that must be cut by more than this goes nowhere
_SHORTEST = 1.0 / 4096.0
_STARTS = 2


@inner
def _residual(system, work, h):
    """Write A^-1 z/h - f to ``stacked`` and return its size, in units of the tolerance of an increment."""
    n, s = system.n, work.stages
    total = 0.0
    for k in range(n):
        inverse = 1.0 / work.scale[k] * h / work.limits[GAMMA]
        for i in range(s):
            missing = 0.0
            for j in range(s):
                missing += work.inverse[i * s + j] * work.z[j * n + k]
            missing = missing / h - work.f[i * n + k]
            work.stacked[i * n + k] = missing
            total += (missing * inverse) ** 2
    return np.sqrt(total / (s * n))


@inner
def _form(system, work, control, h):
    """Factor the whole matrix at the present stages; return the code of the Jacobian, 2 where it is singular."""
    n, s = system.n, work.stages
    size, whole = s * n, as_doubles(as_longs(work.whole)[RE])
    for i in range(s):
        z, rates = offset_by(work.z, i * n), offset_by(work.f, i * n)
        for k in range(n):
            work.d1[k] = system.state[k] + z[k]
            work.d2[k] = rates[k]
        code = jacobian_at(system, work, control, control.time + work.c[i] * h, work.d1, work.d2)
        if code != 1:
            return code
        for r in range(n):
            row = offset_by(whole, (i * n + r) * size)
            for j in range(s):
                for k in range(n):
                    row[j * n + k] = -work.jacobian[r * n + k] if i == j else 0.0
                row[j * n + r] += work.inverse[i * s + j] / h
    control.factorisations += 1
    return 1 if factor(work.factor, work.whole, 0.0, 0.0) != 0 else 2


@inner
def _move(work, size, share):
    """Go a share of the Newton step."""
    for k in range(size):
        work.z[k] -= share * work.direction[k]


@inner
def _find_direction(system, work, control, h):
    """Write the Newton step to ``direction``; return the code of the Jacobian, and the length in tolerances."""
    n, length = system.n, 0.0
    code = _form(system, work, control, h)
    if code == 1:
        for k in range(work.stages * n):
            work.direction[k] = work.stacked[k]
        solve(work.solve_whole, work.whole, work.direction, work.direction)
        control.solves += 1
        control.iterations += 1
        for k in range(n):
            inverse = 1.0 / work.scale[k]
            for i in range(work.stages):
                x = work.direction[i * n + k] * inverse
                length += x * x
    return code, np.sqrt(length / (work.stages * n))


@inner
def _newton(system, work, control, h):
    """Iterate from the present increments; return the outcome and the number of iterations."""
    n = system.n
    code = all_stage_rates(system, work, control, h)
    for count in range(1, _MOST_ITERATIONS + 1):
        if code < 1:
            return STOPPED, count
        size = _residual(system, work, h) if code == 1 else np.inf
        if not size < 1e300:
            return DIVERGED, count
        code, length = _find_direction(system, work, control, h)
        if code < 1:
            return STOPPED, count
        if code > 1 or not length < 1e300:
            return DIVERGED, count
        share = 1.0
        while True:
            _move(work, work.stages * n, share)
            code = all_stage_rates(system, work, control, h)
            if code < 1:
                return STOPPED, count
            if code == 1 and (_residual(system, work, h) < size or length * share <= work.limits[NEWTON_LIMIT]):
                break
            _move(work, work.stages * n, -share)
            share *= 0.5
            if share < _SHORTEST:
                return DIVERGED, count
        if share == 1.0 and length <= work.limits[NEWTON_LIMIT]:
            return CONVERGED, count
    return DIVERGED, _MOST_ITERATIONS


def insist(address):
    """Solve the next step from where the iteration ended, then from no change; return 4 * iterations + outcome + 1.

    ``address``: of the table of a fully implicit march.
    """
    table = as_longs(address)
    control, system, work = as_control(table[0]), system_in(table), block_work_in(table)
    n, total = system.n, 0
    h = control.length
    outcome = DIVERGED
    for start in range(_STARTS):
        for k in range(work.stages * n):
            if start > 0 or not abs(work.z[k]) < 1e300:
                work.z[k] = 0.0
        outcome, count = _newton(system, work, control, h)
        total += count
        if outcome != DIVERGED:
            break
    return 4 * total + outcome + 1
