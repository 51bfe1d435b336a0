"""Newton's method for a fixed step that simplified iterations do not solve: all stages at once, damped.

Every stage has its own Jacobian, so the 3 n unknowns do not fall apart. The steps are damped until the residual
z - h A f(y + z) falls: P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), section 3.1.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.collocation.constants import C1, C2, GAMMA, I00, NEWTON
from unhurried_heron.kernels.collocation.newton import all_stage_rates
from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import RE
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.bundles import CONVERGED, DIVERGED, STOPPED
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by
from unhurried_heron.kernels.memory.decoding import dense_work_in, system_in

_MOST_ITERATIONS = 100
# a step of Newton's method that must be cut by more than this goes nowhere
_SHORTEST = 1.0 / 4096.0
_STARTS = 2


@inner
def _residual(system, method, work, h):
    """Write A^-1 z/h - f to ``stacked`` and return its size, in units of the tolerance of an increment."""
    n = system.n
    total = 0.0
    for k in range(n):
        z1, z2, z3 = work.z1[k], work.z2[k], work.z3[k]
        inverse = 1.0 / work.scale[k] * h / method[GAMMA]
        for i in range(3):
            row = offset_by(method, I00 + 3 * i)
            rate = work.g1[k] if i == 0 else (work.g2[k] if i == 1 else work.g3[k])
            missing = (row[0] * z1 + row[1] * z2 + row[2] * z3) / h - rate
            work.stacked[i * n + k] = missing
            total += (missing * inverse) ** 2
    return np.sqrt(total / (3 * n))


@inner
def _form(system, method, work, control, h):
    """Factor the whole matrix at the present stages; return the code of the Jacobian, 2 where it is singular."""
    n = system.n
    size, whole = 3 * n, as_doubles(as_longs(work.whole)[RE])
    for i in range(3):
        z = work.z1 if i == 0 else (work.z2 if i == 1 else work.z3)
        node = method[C1] if i == 0 else (method[C2] if i == 1 else 1.0)
        rates = work.g1 if i == 0 else (work.g2 if i == 1 else work.g3)
        for k in range(n):
            work.w1[k] = system.state[k] + z[k]
            work.w2[k] = rates[k]
        code = jacobian_at(system, work, control, control.time + node * h, work.w1, work.w2)
        if code != 1:
            return code
        for r in range(n):
            row = offset_by(whole, (i * n + r) * size)
            for j in range(3):
                for k in range(n):
                    row[j * n + k] = -work.jacobian[r * n + k] if i == j else 0.0
                row[j * n + r] += method[I00 + 3 * i + j] / h
    control.factorisations += 1
    return 1 if factor(work.factor, work.whole, 0.0, 0.0) != 0 else 2


@inner
def _move(work, n, share):
    """Go a share of the Newton step."""
    for k in range(n):
        work.z1[k] -= share * work.direction[k]
        work.z2[k] -= share * work.direction[n + k]
        work.z3[k] -= share * work.direction[2 * n + k]


@inner
def _find_direction(system, method, work, control, h):
    """Write the Newton step to ``direction``; return the code of the Jacobian, and the length in tolerances."""
    n, length = system.n, 0.0
    code = _form(system, method, work, control, h)
    if code == 1:
        for k in range(3 * n):
            work.direction[k] = work.stacked[k]
        solve(work.solve, work.whole, work.direction, work.direction)
        control.solves += 1
        control.iterations += 1
        for k in range(n):
            inverse = 1.0 / work.scale[k]
            for i in range(3):
                x = work.direction[i * n + k] * inverse
                length += x * x
    return code, np.sqrt(length / (3 * n))


@inner
def _newton(system, method, work, control, h):
    """Iterate from the present increments; return the outcome and the number of iterations."""
    n = system.n
    code = all_stage_rates(system, method, work, control, h)
    for count in range(1, _MOST_ITERATIONS + 1):
        if code < 1:
            return STOPPED, count
        size = _residual(system, method, work, h) if code == 1 else np.inf
        if not size < 1e300:
            return DIVERGED, count
        code, length = _find_direction(system, method, work, control, h)
        if code < 1:
            return STOPPED, count
        if code > 1 or not length < 1e300:
            return DIVERGED, count
        share = 1.0
        while True:
            _move(work, n, share)
            code = all_stage_rates(system, method, work, control, h)
            if code < 1:
                return STOPPED, count
            if code == 1 and (_residual(system, method, work, h) < size or length * share <= method[NEWTON]):
                break
            _move(work, n, -share)
            share *= 0.5
            if share < _SHORTEST:
                return DIVERGED, count
        if share == 1.0 and length <= method[NEWTON]:
            return CONVERGED, count
    return DIVERGED, _MOST_ITERATIONS


def insist(address):
    """Solve the next step from where the iteration ended, then from no change; return 4 * iterations + outcome + 1.

    ``address``: of the table of a collocation march.
    """
    table = as_longs(address)
    control, system, work = as_control(table[0]), system_in(table), dense_work_in(table)
    n, total = system.n, 0
    h = control.length
    outcome = DIVERGED
    for start in range(_STARTS):
        for k in range(n):
            if start > 0 or not (abs(work.z1[k]) + abs(work.z2[k]) + abs(work.z3[k]) < 1e300):
                work.z1[k] = work.z2[k] = work.z3[k] = 0.0
        outcome, count = _newton(system, work.constants, work, control, h)
        total += count
        if outcome != DIVERGED:
            break
    return 4 * total + outcome + 1
