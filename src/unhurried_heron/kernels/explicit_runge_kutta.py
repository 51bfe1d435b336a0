"""An explicit Runge-Kutta method, at fixed steps or with an embedded error estimate."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.explicit_runge_kutta_work import EXPLICIT_MEMORY, Tableau
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.batched_steps import native_stride
from unhurried_heron.kernels.march.controller import factor_after_acceptance, factor_after_refusal, forget
from unhurried_heron.kernels.march.outcome import first_not_finite, not_finite, tried_again
from unhurried_heron.kernels.march.polynomial import cubic_terms
from unhurried_heron.kernels.march.rates import count_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.batch import BLOCK
from unhurried_heron.kernels.memory.call import (
    address_of,
    as_doubles,
    as_record,
    call_attempt,
    call_error,
    call_polynomial,
    offset_by,
)
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_BETWEEN,
    FOR_STAGES,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import decoder

explicit_memory = as_record(EXPLICIT_MEMORY)
tableau_in = decoder(Tableau)

_STAGES = BLOCK.index("stages")
_HUGE = 1e300  # squared errors above this, and NaN, count as "not finite"


@inner
def _end_rates(system, tableau):
    return offset_by(tableau.stages, (tableau.width - 1) * system.n)


@inner
def _attempt(system, tableau, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    tableau : Tableau
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    n, h, y, stages, trial = system.n, control.length, system.state, tableau.stages, system.trial
    control.row_iterations, control.error, control.purpose = 0, np.nan, FOR_STAGES
    code = call_attempt(
        tableau.attempt, control.time, h, y, stages, trial, n, system.rates, system.context, tableau.where
    )
    count_rates(control, FOR_STAGES, tableau.width - 1 if code == 1 else tableau.where[0])
    if code != 1:
        control.bad_time = control.time + h
    if code < 1:
        return RATES_STOPPED
    squared = 0.0
    if code == 1 and control.adaptive == 1:
        squared = call_error(tableau.error, h, y, stages, trial, system.relative, system.absolute, n)
    # an infinite state makes the error estimate zero
    if code == 1 and squared <= 1.0 and first_not_finite(trial, _end_rates(system, tableau), n) >= 0:
        squared = np.inf
    if control.adaptive == 1:
        control.error = np.sqrt(squared)
    memory = explicit_memory(tableau.memory)
    memory.code, memory.squared = code, squared
    if code == 1 and squared <= 1.0:
        return ACCEPTED
    return REFUSED


@inner
def _refuse(system, tableau, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    tableau : Tableau
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or STEP_TOO_SMALL.
    """
    memory, h = explicit_memory(tableau.memory), control.length
    if memory.code == 1 and memory.squared < _HUGE:
        control.bad_component = -1
        control.step = h * factor_after_refusal(tableau.controller, control.error)
    else:
        not_finite(system, control, _end_rates(system, tableau), memory.squared)
    return tried_again(control)


@inner
def _accept(system, tableau, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    tableau : Tableau
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    end_rates = _end_rates(system, tableau)
    for k in range(system.n):
        system.rates_at_state[k] = end_rates[k]
    if control.adaptive == 1:
        control.step = control.length * factor_after_acceptance(tableau.controller, control.error, control)
    return REACHED_END


@inner
def _describe(system, tableau, control):
    """Write the step polynomial; where its further stages cannot be had, the cubic through both ends.

    Parameters
    ----------
    system : System
    tableau : Tableau
    control : CONTROL

    Returns
    -------
    int
        REACHED_END or RATES_STOPPED.
    """
    n, h, y, stages, coefficients = (
        system.n,
        control.length,
        system.state,
        tableau.stages,
        as_doubles(control.polynomial_address),
    )
    if tableau.total > tableau.width:
        scratch = offset_by(stages, tableau.total * n)
        control.purpose = FOR_BETWEEN
        code = call_attempt(
            tableau.further, control.time, h, y, stages, scratch, n, system.rates, system.context, tableau.where
        )
        made = tableau.total - tableau.width if code == 1 else tableau.where[0] - tableau.width + 1
        count_rates(control, FOR_BETWEEN, made)
        if code < 1:
            control.bad_time = control.time + h
            return RATES_STOPPED
        if code != 1:
            end_rates = _end_rates(system, tableau)
            for k in range(n):
                move, a, b = system.trial[k] - y[k], h * stages[k], h * end_rates[k]
                coefficients[k], coefficients[n + k] = y[k], a
                coefficients[2 * n + k], coefficients[3 * n + k] = cubic_terms(move, a, b)
                for d in range(4, tableau.degree + 1):
                    coefficients[d * n + k] = 0.0
            return REACHED_END
    call_polynomial(tableau.polynomial, h, y, stages, coefficients, n)
    return REACHED_END


@inner
def _stride(system, tableau, control):
    """Take a batch of fixed steps in machine code; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    tableau : Tableau
    control : CONTROL

    Returns
    -------
    int
        REACHED_END or RATES_STOPPED.
    """
    tableau.block[_STAGES] = address_of(tableau.stages)
    return native_stride(system, control, tableau.stride, tableau.block, tableau.width - 1)


@inner
def _start(system, work, control):
    """Forget the errors of earlier steps.

    Parameters
    ----------
    system : System
    work : Tableau
    control : CONTROL

    Returns
    -------
    int
    """
    forget(work.controller)
    return REACHED_END


# the rates at the state are the first row of ``stages``
family = answering(tableau_in, _attempt, _accept, _refuse, _start, _describe, _stride)
