"""A Rosenbrock method: one linear system a stage, with the Jacobian of the present step and nothing to iterate.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.7, in the transformed
form, (7.25). The error between the steps bounds them too (`implicit.between`).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.control import (
    after_failure,
    begin_anew,
    finish_step,
    note_solution,
)
from unhurried_heron.kernels.implicit.derivatives import derive, find_rates_at_end
from unhurried_heron.kernels.implicit.growth import damps_growth
from unhurried_heron.kernels.implicit.interpolation_error import judge, write_movement
from unhurried_heron.kernels.implicit.mass_matrix import multiply_by_mass, subtract_mass
from unhurried_heron.kernels.implicit.newton import begin_iterations, factor_for
from unhurried_heron.kernels.implicit.scale import filtered_size, size_of
from unhurried_heron.kernels.linear_algebra.calls import solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import derivatives_at, find_jacobian, jacobian_of_rates
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_JACOBIAN,
    FOR_STAGES,
)
from unhurried_heron.kernels.memory.decoding import decoder, implicit_memory, newton_in
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, FRESH, GROWS, STOPPED
from unhurried_heron.kernels.rosenbrock_work import LinearlyImplicitWork

linearly_implicit_work_in = decoder(LinearlyImplicitWork)

_ROOT = 1.4901161193847656e-08  # of the spacing of floating-point numbers

# The share of the tolerance of a step that a stage may miss its linear equations by.
_SHARE = 0.01


@inner
def _find_time_derivative(system, work, control):
    """Find the time derivative of the rates, by differences if it is not written; return the code of the function.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, t, h = system.n, control.time, control.length
    if system.time_derivative != 0:
        control.bad_time = t
        function, point = (
            (system.time_derivative, system.time_derivative_context),
            (t, system.state, system.rates_at_state),
        )
        return derivatives_at(system, control, function, point, work.time_derivative, n)
    moved = t + np.copysign(min(abs(h), _ROOT * max(abs(t), abs(h))), h)
    rates = system.rates_at_state
    if system.n_mass > 0:
        rates = work.residual
        code = ask_rates(system, control, FOR_JACOBIAN, t, system.state, rates)
        if code != 1:
            return code
    code = ask_rates(system, control, FOR_JACOBIAN, moved, system.state, work.time_derivative)
    for k in range(n):
        work.time_derivative[k] = (work.time_derivative[k] - rates[k]) / (moved - t)
    return code


@inner
def _prepare(system, work, control, h):
    """Bring Jacobian, time derivative and factors up to date; return CONVERGED, DIVERGED, STOPPED or GROWS.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
        STOPPED, DIVERGED, GROWS or CONVERGED.
    """
    memory = implicit_memory(work.memory)
    if memory.jacobian_age == 0:
        code = (
            find_jacobian(system, work, control)
            if system.n_mass == 0
            else jacobian_of_rates(system, work, control, work.residual)
        )
        if code != 1:
            return STOPPED
        if system.moves == 1:
            code = _find_time_derivative(system, work, control)
            if code != 1:
                return STOPPED if code < 1 else DIVERGED
        memory.jacobian_age = FRESH
    if factor_for(work, control, work.context, 1.0 / (h * work.diagonal[0])) != DONE:
        return DIVERGED
    if damps_growth(system, work, control, work.context, h):
        return GROWS
    return CONVERGED


@inner
def _rates_of_stage(system, work, control, i, h):
    """Write the rates of a stage to its row of ``f``; return their code.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL
    i : int
        Index of the stage.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, s, out = system.n, work.stages, offset_by(work.f, i * system.n)
    if work.same[i] != i and (system.n_mass == 0 or work.same[i] >= 0):
        known = system.rates_at_state if work.same[i] < 0 else offset_by(work.f, work.same[i] * n)
        for k in range(n):
            out[k] = known[k]
        return 1
    for k in range(n):
        system.trial[k] = system.state[k]
    for j in range(i):
        weight = work.a[i * s + j]
        if weight != 0.0:
            stage = offset_by(work.u, j * n)
            for k in range(n):
                system.trial[k] += weight * stage[k]
    control.stage = i
    return ask_rates(system, control, FOR_STAGES, control.time + work.alpha[i] * h, system.trial, out)


@inner
def _all_stages(system, work, control, h):
    """Solve for all stages; return the outcome.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
        STOPPED, DIVERGED or CONVERGED.
    """
    n, s = system.n, work.stages
    for i in range(s):
        code = _rates_of_stage(system, work, control, i, h)
        if code != 1:
            return STOPPED if code < 1 else DIVERGED
        stage, rates = offset_by(work.u, i * n), offset_by(work.f, i * n)
        in_time = work.gamma[i] * h if system.moves == 1 else 0.0
        for k in range(n):
            stage[k] = rates[k] + in_time * work.time_derivative[k]
        for j in range(i):
            weight = work.c[i * s + j] / h
            if weight != 0.0:
                other = offset_by(work.u, j * n)
                subtract_mass(system, -weight, other, stage)
        control.solves += 1
        if solve(work.solve, work.context, stage, stage, _SHARE * system.relative[0]) != DONE:
            return DIVERGED
    return CONVERGED


@inner
def _combine(system, work, weights, out):
    """Write the weighted sum of the stages.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    weights : float pointer, (stages,)
    out : float pointer, (n,)
        Filled with the result.
    """
    n = system.n
    for k in range(n):
        out[k] = 0.0
    for j in range(work.stages):
        weight = weights[j]
        if weight != 0.0:
            stage = offset_by(work.u, j * n)
            for k in range(n):
                out[k] += weight * stage[k]


@inner
def _estimate(system, work, control, h):
    """Return the size of the error estimate in units of the tolerance.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    float
    """
    n = system.n
    _combine(system, work, work.error, work.residual)
    if work.filtered == 0:
        return size_of(work, work.residual, n)
    for k in range(n):
        work.residual[k] /= h * work.diagonal[0]
    multiply_by_mass(system, work.residual, work.defect)
    control.solves += 1
    return filtered_size(work, work.context, work.residual, n)


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    h, n = control.length, system.n
    control.error = np.nan
    begin_iterations(work)
    outcome = _prepare(system, work, control, h)
    if outcome == CONVERGED:
        outcome = _all_stages(system, work, control, h)
    answer = note_solution(system, work, control, outcome, 0)
    if answer != ACCEPTED:
        return answer
    _combine(system, work, work.m, system.trial)
    coefficients = as_doubles(control.polynomial_address)
    for k in range(n):
        system.trial[k] += system.state[k]
        coefficients[k] = system.state[k]
    for d in range(work.degree):
        _combine(system, work, offset_by(work.interpolant, d * work.stages), offset_by(coefficients, (d + 1) * n))
    error = _estimate(system, work, control, h) if control.adaptive == 1 else 0.0
    return judge(system, work, control, error, work.context)


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    write_movement(work, system.n, work.defect)
    # a Jacobian is of one step alone
    newton_in(work.newton).theta = 1.0
    finish_step(system, work, control, work.context, work.defect)
    return find_rates_at_end(system, control, work.p, work.degree)


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL

    Returns
    -------
    int
    """
    return after_failure(system, work, control, work.f)


@inner
def _derive(system, work, control):
    """Find the derivatives where the march stands (`derive`).

    Parameters
    ----------
    system : System
    work : LinearlyImplicitWork
    control : CONTROL

    Returns
    -------
    int
    """
    return derive(system, work, control, work.context, (work.residual, work.defect))


family = answering(linearly_implicit_work_in, _attempt, _accept, _refuse, begin_anew, derive=_derive)
