"""Backward differentiation of variable step and order: the polynomial through the last points has the new rates.

With the coefficients of the steps as they are, in the form of divided differences: K. E. Brenan, S. L. Campbell and
L. R. Petzold, *Numerical Solution of Initial-Value Problems in Differential-Algebraic Equations* (1996), section 5.2.
The leading coefficient is sum 1/(t_n+1 - t_n+1-j); factors serve while it changes little.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.divided_differences import (
    after_error,
    begin_table,
    choose_next,
    extend,
    follow_unit,
    keep,
    set_spans,
    size_of_row,
    variable_in,
    variable_work_in,
)
from unhurried_heron.kernels.implicit.control import after_divergence, begin_anew, note_solution, refuse_not_finite
from unhurried_heron.kernels.implicit.derivatives import derive
from unhurried_heron.kernels.implicit.growth import damps_growth, heed_growth
from unhurried_heron.kernels.implicit.newton import begin_iterations, factor_for, solve_stage
from unhurried_heron.kernels.implicit.scale import set_scale
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import renew_jacobian
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import check_rates_at_state, too_short
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    REACHED_END,
    REFUSED,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory, newton_in
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, GROWS, NEWTON_LIMIT, OLD, STOPPED

# Factors serve for a leading coefficient that differs by less than this share; corrections are scaled accordingly.
_ALIKE = 0.25
# below this contraction a Jacobian is kept
_GOOD_CONTRACTION = 0.2


@inner
def _prepare(system, work, control, shift):
    """Bring Jacobian and factors up to date; return CONVERGED, DIVERGED, STOPPED or GROWS.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL
    shift : float
        The shift in shift*M - J, one over a time.

    Returns
    -------
    int
        STOPPED, DIVERGED, GROWS or CONVERGED.
    """
    memory = implicit_memory(work.memory)
    if not renew_jacobian(system, work, control):
        return STOPPED
    if not abs(memory.factored_step - shift) <= _ALIKE * abs(shift):
        memory.factored_step = 0.0
        if factor_for(work, control, work.context, shift) != DONE:
            return DIVERGED
        if damps_growth(system, work, control, work.context, control.length):
            return GROWS
        memory.factored_step = shift
    return CONVERGED


@inner
def _predict(system, work, control):
    """Write what the past gives to ``base`` and the guess to ``z``; return the leading coefficient.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    float
    """
    n, variable = system.n, variable_in(work.variable)
    k, unit = variable.order, variable.unit
    leading = 0.0
    for j in range(k):
        leading += 1.0 / (work.spans[j] * unit)
    for i in range(n):
        work.base[i] = work.z[i] = 0.0
    value, derivative = 1.0, 0.0
    for q in range(k + 1):
        row = offset_by(work.table, q * n)
        for i in range(n):
            work.z[i] += value * row[i]
        if q < k:
            # the polynomial through the last k points, less its derivative over the leading coefficient
            weight = value - derivative / (unit * leading)
            for i in range(n):
                work.base[i] += weight * row[i]
        derivative = derivative * work.spans[q] + value
        value *= work.spans[q]
    for i in range(n):
        work.z[i] -= work.base[i]
    return leading


@inner
def _errors(work, n, count):
    """Find the errors of this order and of its neighbours, in units of the tolerance.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    count : int
        Rows of the fresh differences.
    """
    variable = variable_in(work.variable)
    k = variable.order
    variable.below = variable.above = variable.further = np.inf
    product, leading = 1.0, 0.0
    for q in range(1, min(k + 1, count - 2) + 1):
        product *= work.spans[q - 1]
        leading += 1.0 / work.spans[q - 1]
        if q >= k - 2:
            error = size_of_row(work, n, q + 1, product / leading)
            if q == k - 2:
                variable.further = error
            elif q == k - 1:
                variable.below = error
            elif q == k:
                variable.here = error
            else:
                variable.above = error


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    memory, variable, n = implicit_memory(work.memory), variable_in(work.variable), system.n
    control.error, control.order = np.nan, variable.order
    follow_unit(work, n, control.length)
    set_spans(work, control.finish)
    while True:
        shift = work.weights[0] = _predict(system, work, control)
        outcome, count = _prepare(system, work, control, shift), 0
        if outcome == CONVERGED:
            # halfway between what corrections of slow and of fast modes need
            share = 2.0 / (1.0 + shift / memory.factored_step)
            limit = work.limits[NEWTON_LIMIT]
            outcome, count = solve_stage(system, work, control, work.context, control.finish, shift, limit, share)
        else:
            begin_iterations(work)
        if outcome != DIVERGED or memory.jacobian_age != OLD or control.stop != 0:
            break
        # A Jacobian of the present state is found before the step is shortened.
        memory.jacobian_age = 0
    answer = refuse_not_finite(system, work, note_solution(system, work, control, outcome, count))
    if answer != ACCEPTED:
        return answer
    rows = extend(work, n, system.trial, variable.order + 3)
    _errors(work, n, rows)
    control.error = memory.error = variable.here
    return ACCEPTED if variable.here < 1.0 else REFUSED


@inner
def _describe(system, work, control):
    """Write the polynomial through the last points and the end of the step, in theta.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END.
    """
    n, variable, coefficients = system.n, variable_in(work.variable), as_doubles(control.polynomial_address)
    k, rows = variable.order, work.most + 1
    for i in range(rows * n):
        coefficients[i] = 0.0
    # Newton's form from the end: p = fresh_0 + (t - t_n+1) (fresh_1 + (t - t_n) (…)), with t = t_n + theta h
    h = control.length / variable.unit
    for q in range(k, -1, -1):
        row = offset_by(work.fresh, q * n)
        # times (t - point q), the end being the first
        begin = -h if q == 0 else (control.time - work.times[q - 1]) / variable.unit
        if q < k:
            for d in range(k - q, -1, -1):
                here, below = offset_by(coefficients, d * n), offset_by(coefficients, (d - 1) * n if d > 0 else 0)
                for i in range(n):
                    here[i] = begin * here[i] + (h * below[i] if d > 0 else 0.0)
        for i in range(n):
            coefficients[i] += row[i]
    return REACHED_END


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    n, memory, variable = system.n, implicit_memory(work.memory), variable_in(work.variable)
    for k in range(n):
        work.moved[k] = work.fresh[k] - work.table[k]
        system.rates_at_state[k] = work.z[k] * work.weights[0]
    keep(work, n, control.time, min(min(variable.count + 1, work.rows), variable.order + 3))
    set_scale(system, work, control.step)
    memory.previous_step = control.length
    memory.jacobian_age = OLD if newton_in(work.newton).theta <= _GOOD_CONTRACTION else 0
    choose_next(work, control)
    heed_growth(system, work, control, work.context, work.moved)
    return check_rates_at_state(system, control)


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
    """
    memory = implicit_memory(work.memory)
    if memory.outcome != CONVERGED:
        variable_in(work.variable).steady = 0
        return after_divergence(control, system, work, work.residual)
    after_error(work, control)
    if memory.jacobian_age == OLD:
        memory.jacobian_age = 0
    return STEP_TOO_SMALL if too_short(control) else REACHED_END


@inner
def _derive(system, work, control):
    """Find the derivatives where the march stands (`derive`).

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
    """
    return derive(system, work, control, work.context, (work.residual, work.moved))


@inner
def _start(system, work, control):
    """Forget the past but for a point before the start, on the tangent there.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
    """
    begin_anew(system, work, control)
    begin_table(work, system.n, control.time, control.step, system.state)
    variable = variable_in(work.variable)
    for k in range(system.n):
        work.table[system.n + k] = system.rates_at_state[k] * variable.unit
    work.times[1] = control.time - control.step
    variable.count = 2
    return REACHED_END


family = answering(variable_work_in, _attempt, _accept, _refuse, _start, _describe, derive=_derive)
