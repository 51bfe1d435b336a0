"""The methods of Adams at variable step and order: predict, evaluate, correct, evaluate.

In divided differences of the rates at the times as they are: F. T. Krogh, SIAM J. Numer. Anal. 10 (1973) 949-965;
E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section III.5. The
corrector is of an order more than the predictor; what the last term adds estimates the error.
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
from unhurried_heron.kernels.implicit.scale import set_scale
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import NOT_FINITE_SHRINK, find_rates_at_state, first_not_finite, tried_again
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_END,
    FOR_STAGES,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory


@inner
def _integrate_terms(work, control, upto):
    """Write to ``weights`` the integrals over the step of the products of (t - point), in the table's unit.

    Row q stands for the product of the first q points of the table; ``sums`` holds its coefficients in t - t_n.

    Parameters
    ----------
    work : VariableWork
    control : CONTROL
    upto : int
        Rows that are wanted.
    """
    variable = variable_in(work.variable)
    h = control.length / variable.unit
    work.sums[0] = 1.0
    for q in range(upto):
        power, total = h, 0.0
        for d in range(q + 1):
            total += work.sums[d] * power / (d + 1.0)
            power *= h
        work.weights[q] = total * variable.unit
        # times (t - point q), t_n being the first
        back = (control.time - work.times[q]) / variable.unit if q < variable.count else 0.0
        work.sums[q + 1] = work.sums[q]
        for d in range(q, 0, -1):
            work.sums[d] = back * work.sums[d] + work.sums[d - 1]
        work.sums[0] *= back


@inner
def _errors(work, n, rows):
    """Find the errors of this order and of its neighbours, in units of the tolerance.

    Parameters
    ----------
    work : VariableWork
    n : int
        Number of states.
    rows : int
        Of the fresh differences.
    """
    variable = variable_in(work.variable)
    k = variable.order
    variable.below = variable.above = variable.further = np.inf
    for q in range(max(k - 2, 1), min(k + 1, rows - 1) + 1):
        # the corrector with q rates against the one with q + 1
        error = size_of_row(work, n, q, work.weights[q] - work.spans[q - 1] * work.weights[q - 1])
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
    memory, variable, n, h = implicit_memory(work.memory), variable_in(work.variable), system.n, control.length
    k = variable.order
    control.error, control.order, control.row_iterations = np.nan, k + 1, 0
    memory.outcome = 0
    follow_unit(work, n, h)
    set_spans(work, control.finish)
    _integrate_terms(work, control, min(k + 2, variable.count + 1))
    for i in range(n):
        system.trial[i] = system.state[i]
    for q in range(k):
        row, weight = offset_by(work.table, q * n), work.weights[q]
        for i in range(n):
            system.trial[i] += weight * row[i]
    code = ask_rates(system, control, FOR_STAGES, control.finish, system.trial, work.residual)
    if code < 1:
        return RATES_STOPPED
    if code != 1 or first_not_finite(system.trial, work.residual, n) >= 0:
        return REFUSED
    rows = extend(work, n, work.residual, k + 2)
    _errors(work, n, rows)
    row, weight = offset_by(work.fresh, k * n), work.weights[k]
    for i in range(n):
        system.trial[i] += weight * row[i]
    memory.outcome = 1
    control.error = variable.here
    return ACCEPTED if variable.here < 1.0 else REFUSED


@inner
def _describe(system, work, control):
    """Write the integral of the polynomial through the rates, the predicted ones at the end among them.

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
    k, rows, h = variable.order, work.most + 2, control.length / variable.unit
    for i in range(rows * n):
        coefficients[i] = 0.0
    for i in range(n):
        coefficients[i] = system.state[i]
    # rates as a polynomial in t - t_n, term by term, integrated: theta^(d+1) h^(d+1) / (d+1)
    work.sums[0] = 1.0
    for q in range(k + 1):
        row = offset_by(work.table, q * n) if q < k else offset_by(work.fresh, k * n)
        power = h * variable.unit
        for d in range(q + 1):
            out, weight = offset_by(coefficients, (d + 1) * n), work.sums[d] * power / (d + 1.0)
            for i in range(n):
                out[i] += weight * row[i]
            power *= h
        if q < k:
            back = (control.time - work.times[q]) / variable.unit
            work.sums[q + 1] = work.sums[q]
            for d in range(q, 0, -1):
                work.sums[d] = back * work.sums[d] + work.sums[d - 1]
            work.sums[0] *= back
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
    n, variable = system.n, variable_in(work.variable)
    if work.evaluations > 1:
        reason = find_rates_at_state(system, control, FOR_END)
        if reason != REACHED_END:
            return reason
    else:
        for k in range(n):
            system.rates_at_state[k] = work.residual[k]
        control.bad_component = first_not_finite(system.state, system.rates_at_state, n)
        if control.bad_component >= 0:
            return NOT_FINITE
    rows = extend(work, n, system.rates_at_state, variable.order + 2)
    keep(work, n, control.time, rows)
    set_scale(system, work, control.step)
    choose_next(work, control)
    return REACHED_END


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
        REACHED_END, or STEP_TOO_SMALL.
    """
    if implicit_memory(work.memory).outcome == 1:
        control.bad_component = -1
        after_error(work, control)
    else:
        control.bad_component = first_not_finite(system.trial, work.residual, system.n)
        control.bad_time = control.finish
        variable_in(work.variable).steady = 0
        control.step = NOT_FINITE_SHRINK * control.length
    return tried_again(control)


@inner
def _start(system, work, control):
    """Forget the past: the rates at the start alone.

    Parameters
    ----------
    system : System
    work : VariableWork
    control : CONTROL

    Returns
    -------
    int
    """
    set_scale(system, work, control.step)
    begin_table(work, system.n, control.time, control.step, system.rates_at_state)
    return REACHED_END


family = answering(variable_work_in, _attempt, _accept, _refuse, _start, _describe)
