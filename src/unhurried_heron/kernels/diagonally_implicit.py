"""A diagonally implicit Runge-Kutta method: its stages are solved one after the other, with factors that are kept.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.6. Where the first
stage is explicit, its rates are those of the step before, as it was solved: a fresh one would amplify what Newton's
iteration left by the stiffness. The error between the steps bounds them too (`implicit.between`).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.diagonal_stages import all_stages
from unhurried_heron.kernels.diagonally_implicit_work import DiagonalWork
from unhurried_heron.kernels.implicit.control import (
    after_failure,
    begin_anew,
    finish_step,
    note_solution,
)
from unhurried_heron.kernels.implicit.derivatives import derive, find_rates_at_end
from unhurried_heron.kernels.implicit.growth import damps_growth
from unhurried_heron.kernels.implicit.interpolation_error import judge, write_movement
from unhurried_heron.kernels.implicit.mass_matrix import multiply_by_mass
from unhurried_heron.kernels.implicit.newton import begin_iterations, factor_for
from unhurried_heron.kernels.implicit.scale import filtered_size, size_of
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import renew_jacobian
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import check_rates_at_state
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles, offset_by
from unhurried_heron.kernels.memory.control import ACCEPTED
from unhurried_heron.kernels.memory.decoding import decoder, implicit_memory
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, GROWS, OLD, STOPPED

diagonal_work_in = decoder(DiagonalWork)

# Factors are used again for a step that differs by this share: Newton's iteration hardly notices.
_SAME_STEP = 1e-3


@inner
def _prepare(system, work, control, h):
    """Bring Jacobian and factors up to date; return CONVERGED, DIVERGED, STOPPED or GROWS.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
        STOPPED, DIVERGED, GROWS or CONVERGED.
    """
    memory = implicit_memory(work.memory)
    if not renew_jacobian(system, work, control):
        return STOPPED
    if not abs(memory.factored_step - h) <= _SAME_STEP * abs(h):
        memory.factored_step = 0.0
        for i in range(work.n_shifts):
            if factor_for(work, control, work.shifts[i], 1.0 / (h * work.diagonals[i])) != DONE:
                return DIVERGED
        if damps_growth(system, work, control, work.shifts[0], h):
            return GROWS
        memory.factored_step = h
    return CONVERGED


@inner
def _solve_step(system, work, control, h):
    """Find the rates of all stages; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    memory, total = implicit_memory(work.memory), 0
    while True:
        outcome = _prepare(system, work, control, h)
        if outcome != CONVERGED:
            begin_iterations(work)
            return outcome, total
        outcome, count = all_stages(system, work, control, h)
        total += count
        if outcome != DIVERGED or control.adaptive == 1 or memory.jacobian_age != OLD:
            return outcome, total
        # a fixed step cannot be shortened: it gets a Jacobian of its own
        memory.jacobian_age = 0


@inner
def _combine(system, work, weights, factor, out):
    """Write ``factor`` times the weighted sum of the stages' rates.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    weights : float pointer, (stages,)
    factor : float
        What the sum is multiplied by: the length of the step, or 1.
    out : float pointer, (n,)
        Filled with the result.
    """
    n = system.n
    for k in range(n):
        out[k] = 0.0
    for j in range(work.stages):
        if weights[j] != 0.0:
            stage_rates, weight = offset_by(work.k, j * n), weights[j] * factor
            for k in range(n):
                out[k] += weight * stage_rates[k]


@inner
def _write_polynomial(system, work, coefficients, h):
    """Write the step polynomial from the rates of the stages.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    h : float
        Length of the step, negative backwards.
    """
    n = system.n
    for k in range(n):
        coefficients[k] = system.state[k]
    for d in range(work.degree):
        _combine(system, work, offset_by(work.interpolant, d * work.stages), h, offset_by(coefficients, (d + 1) * n))


@inner
def _estimate(system, work, control, h):
    """Return the size of the error estimate in units of the tolerance.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    float
    """
    n, last = system.n, work.stages - 1
    if work.filtered == 0:
        _combine(system, work, work.error, h, work.residual)
        return size_of(work, work.residual, n)
    _combine(system, work, work.error, 1.0 / work.a[last * work.stages + last], work.residual)
    multiply_by_mass(system, work.residual, work.defect)
    control.solves += 1
    return filtered_size(work, work.contexts[last], work.residual, n)


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    h, n = control.length, system.n
    control.error = np.nan
    outcome, count = _solve_step(system, work, control, h)
    answer = note_solution(system, work, control, outcome, count)
    if answer != ACCEPTED:
        return answer
    if work.ends == 0:
        _combine(system, work, work.b, h, system.trial)
        for k in range(n):
            system.trial[k] += system.state[k]
    coefficients = as_doubles(control.polynomial_address)
    _write_polynomial(system, work, coefficients, h)
    error = _estimate(system, work, control, h) if control.adaptive == 1 else 0.0
    return judge(system, work, control, error, work.shifts[0])


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    n = system.n
    write_movement(work, n, work.defect)
    finish_step(system, work, control, work.shifts[0], work.defect)
    if work.ends == 1:
        stage_rates = offset_by(work.k, (work.stages - 1) * n)
        for k in range(n):
            system.rates_at_state[k] = stage_rates[k]
        return check_rates_at_state(system, control)
    return find_rates_at_end(system, control, work.p, work.degree)


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL

    Returns
    -------
    int
    """
    return after_failure(system, work, control, work.residual)


@inner
def _derive(system, work, control):
    """Find the derivatives where the march stands (`derive`).

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL

    Returns
    -------
    int
    """
    return derive(system, work, control, work.shifts[0], (work.residual, work.defect))


family = answering(diagonal_work_in, _attempt, _accept, _refuse, begin_anew, derive=_derive)
