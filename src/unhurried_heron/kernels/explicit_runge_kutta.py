"""Marching with an explicit Runge-Kutta method, at fixed steps or with an embedded error estimate.

Step control: a proportional-integral controller, K. Gustafsson, ACM Trans. Math. Softw. 17 (1991) 533-554; see
E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, section IV.2.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.call import (
    as_control,
    as_longs,
    call_attempt,
    call_error,
    call_polynomial,
    offset_by,
)
from unhurried_heron.kernels.compiling import inner
from unhurried_heron.kernels.control import (
    EVENT,
    EVENT_STOPPED,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.decoding import output_in, system_in, tableau_in, watch_in
from unhurried_heron.kernels.events import FAILED, NEVER, step_events
from unhurried_heron.kernels.outcome import (
    begin,
    first_not_finite,
    keep_row,
    keep_step,
    next_place,
    next_step,
    pause_reason,
    too_short,
)
from unhurried_heron.kernels.polynomial import evaluate_step

_SAFETY = 0.9
_SHRINK, _GROW = 0.2, 5.0
_LEAST_MEMORY = -9.2  # logarithm of the smallest error the controller remembers
_HUGE = 1e300  # squared errors above this, and NaN, count as "not finite"


@inner
def _try_step(system, tableau, control, h):
    """Fill the stages of one step and the state at its end; return the code of the rates."""
    code = call_attempt(
        tableau.attempt,
        control.time,
        h,
        system.state,
        tableau.stages,
        tableau.trial,
        system.n,
        system.rates,
        system.context,
        tableau.where,
    )
    if code == 1:
        control.rate_evaluations += tableau.width - 1
    else:
        control.rate_evaluations += tableau.where[0]
        control.bad_time = control.time + h
    return code


@inner
def _longer_or_shorter(control, squared, order, h):
    """Set the next step after an accepted one."""
    # logarithms, so that the two powers of the controller cost one exponential
    size = 0.5 * np.log(max(squared, 1e-20))
    factor = _SAFETY * np.exp((0.4 * control.error_memory - 0.7 * size) / order)
    factor = min(_GROW, max(_SHRINK, factor))
    if control.after_refusal == 1:
        factor = min(factor, 1.0)
    control.error_memory = max(size, _LEAST_MEMORY)
    control.after_refusal = 0
    control.step = h * factor


@inner
def _refuse(control, tableau, n, code, squared, h):
    """Set a shorter step after a refused one; return a reason to give up, or REACHED_END."""
    control.refused += 1
    control.after_refusal = 1
    end_rates = offset_by(tableau.stages, (tableau.width - 1) * n)
    if code == 1 and squared < _HUGE:
        control.bad_component = -1
        control.step = h * max(_SHRINK, _SAFETY * squared ** (-0.5 / tableau.order))
    else:
        control.bad_component = first_not_finite(tableau.trial, end_rates, n)
        control.bad_time = control.time + h
        control.step = 0.1 * h
    if control.adaptive == 0:
        return NOT_FINITE
    if too_short(control):
        return NOT_FINITE if control.bad_component >= 0 else STEP_TOO_SMALL
    return REACHED_END


def march(address):
    """March until the end, an event, a full buffer or a failure; returns a reason (`control.Reason`).

    ``address``: of the table of control record, `System`, `Watch`, `Output` and `Tableau`.
    """
    table = as_longs(address)
    control = as_control(table[0])
    system, watch, output, tableau = system_in(table), watch_in(table), output_in(table), tableau_in(table)
    n, y, trial, stages = system.n, system.state, tableau.trial, tableau.stages
    end_rates = offset_by(stages, (tableau.width - 1) * n)
    end, adaptive = control.end, control.adaptive == 1
    control.n_steps = control.n_rows = control.n_events = 0
    if control.started != 1:
        reason = begin(system, control, watch, stages)
        if reason != REACHED_END:
            return reason
    while control.time != end:
        reason = pause_reason(control, output, watch)
        if reason != REACHED_END:
            return reason
        h, finish = next_step(control)
        if h == 0.0:
            return STEP_TOO_SMALL
        code = _try_step(system, tableau, control, h)
        if code < 1:
            return RATES_STOPPED
        squared = 0.0
        if code == 1 and adaptive:
            squared = call_error(tableau.error, h, y, stages, trial, system.relative, system.absolute, n)
        # an infinite state makes the error estimate zero
        if code == 1 and squared <= 1.0 and first_not_finite(trial, end_rates, n) >= 0:
            squared = np.inf
        good = code == 1 and squared <= 1.0
        keep_row(control, output, h, np.sqrt(squared) if adaptive else np.nan, good, 0)
        if not good:
            reason = _refuse(control, tableau, n, code, squared, h)
            if reason != REACHED_END:
                return reason
            continue
        coefficients, start = next_place(control, output), control.time
        call_polynomial(tableau.polynomial, h, y, stages, coefficients, n)
        keep_step(control, output, h)
        theta = step_events(watch, control, start, h, finish, trial, coefficients, (tableau.degree, n))
        if theta == FAILED:
            return EVENT_STOPPED
        if theta != NEVER:
            evaluate_step(coefficients, tableau.degree, n, theta, y)
            control.time = start + theta * h
            return EVENT
        control.time = finish
        for k in range(n):
            y[k] = trial[k]
            stages[k] = end_rates[k]
        if adaptive:
            _longer_or_shorter(control, squared, tableau.order, h)
    return REACHED_END
