"""The compiled part of `two_stage`."""

from __future__ import annotations

import numpy as np
from two_stage import GAMMA, Work

from unhurried_heron.kernels.implicit.newton import factor_for, forget_iterations, solve_stage
from unhurried_heron.kernels.linear_algebra.calls import solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import find_jacobian
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.controller import factor_after_acceptance, factor_after_refusal
from unhurried_heron.kernels.march.outcome import too_short
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    NEWTON_FAILED,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import decoder
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, STOPPED

work_in = decoder(Work)


@inner
def attempt(system, work, control):
    n, h, y = system.n, control.length, system.state
    shift = 1.0 / (h * GAMMA)
    control.error, control.row_iterations = np.nan, 0
    for k in range(n):
        work.scale[k] = system.absolute[k] + system.relative[k] * abs(y[k])
        work.base[k], work.z[k] = y[k], h * GAMMA * system.rates_at_state[k]
    if find_jacobian(system, work, control) != 1:
        return RATES_STOPPED
    if factor_for(work, control, work.real, shift) != DONE:
        return REFUSED
    for stage in range(2):
        node = GAMMA if stage == 0 else 1.0
        outcome, count = solve_stage(system, work, control, work.real, control.time + node * h, shift, 1e-4)
        control.row_iterations += count
        if outcome == STOPPED:
            return RATES_STOPPED
        if outcome != CONVERGED:
            return REFUSED
        for k in range(n):
            if stage == 0:
                work.first[k] = work.z[k] * shift
                work.base[k] = y[k] + h * (1.0 - GAMMA) * work.first[k]
            else:
                work.second[k] = work.z[k] * shift
    coefficients = as_doubles(control.polynomial_address)
    total = 0.0
    for k in range(n):
        work.residual[k] = (work.second[k] - work.first[k]) * (GAMMA * h * shift)
    if solve(work.solve, work.real, work.residual, work.residual, 0.1) != DONE:
        return REFUSED
    for k in range(n):
        ratio = work.residual[k] / work.scale[k]
        total += ratio * ratio
        move, a, b = system.trial[k] - y[k], h * system.rates_at_state[k], h * work.second[k]
        coefficients[k], coefficients[n + k] = y[k], a
        coefficients[2 * n + k], coefficients[3 * n + k] = 3.0 * move - 2.0 * a - b, a + b - 2.0 * move
    if control.adaptive == 1:
        control.error = np.sqrt(total / n)
    return REFUSED if control.error > 1.0 else ACCEPTED


@inner
def accept(system, work, control):
    for k in range(system.n):
        system.rates_at_state[k] = work.second[k]
    if control.adaptive == 1:
        control.step = control.length * factor_after_acceptance(work.controller, control.error, control)
    return REACHED_END


@inner
def refuse(system, work, control):
    control.step = control.length * factor_after_refusal(work.controller, control.error)
    if control.adaptive == 0:
        return NEWTON_FAILED
    return STEP_TOO_SMALL if too_short(control) else REACHED_END


@inner
def start(system, work, control):
    forget_iterations(work)
    return REACHED_END


family = answering(work_in, attempt, accept, refuse, start)
