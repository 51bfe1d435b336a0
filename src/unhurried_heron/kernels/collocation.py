"""Marching with a three-stage collocation method (Radau IIA of order 5) and dense linear algebra.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.8: error estimate,
reuse of Jacobian and factors, and predictive step control after K. Gustafsson (1994).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.call import as_control, as_longs, call_native
from unhurried_heron.kernels.collocation_constants import (
    E1,
    E2,
    E3,
    V00,
    V01,
    V02,
    V10,
    V11,
    V12,
    V20,
    V21,
    V22,
)
from unhurried_heron.kernels.compiling import inner
from unhurried_heron.kernels.control import (
    EVENT,
    EVENT_STOPPED,
    NEWTON_FAILED,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.decoding import dense_work_in, output_in, system_in, watch_in
from unhurried_heron.kernels.dense_lu import solve_real
from unhurried_heron.kernels.events import FAILED, NEVER, step_events
from unhurried_heron.kernels.newton import (
    CONVERGED,
    DIVERGED,
    MOST_ITERATIONS,
    STOPPED,
    find_jacobian,
    form_and_factor,
    guess_increments,
    iterate,
)
from unhurried_heron.kernels.outcome import (
    begin,
    finish_time,
    first_not_finite,
    keep_row,
    keep_step,
    next_step,
    pause_reason,
    too_short,
)
from unhurried_heron.kernels.polynomial import evaluate_step

_EPSILON = 2.220446049250313e-16
_SAFETY, _SHRINK, _GROW = 0.9, 0.1, 8.0
# below this rate of contraction the Jacobian is good for another step
_GOOD_CONTRACTION = 1e-3
# a step is not lengthened by less than this: new factors would cost more than it gains
_WORTH_GROWING = 1.2
_FRESH, _OLD = 2, 1


@inner
def _set_scale(system, work):
    for k in range(system.n):
        work.scale[k] = system.absolute[k] + system.relative[k] * abs(system.state[k])


@inner
def _filtered_size(system, work):
    """Solve (gamma/h - J) g1 = g1 and return the size of the result in units of the tolerance."""
    solve_real(work.real, work.pivots, system.n, work.g1)
    total = 0.0
    for k in range(system.n):
        ratio = work.g1[k] / work.scale[k]
        total += ratio * ratio
    return np.sqrt(total / system.n)


@inner
def _estimate(system, method, work, control, h):
    """Error estimate in units of the tolerance; NaN if the rates answered none."""
    n = system.n
    for k in range(n):
        work.trial[k] = (method[E1] * work.z1[k] + method[E2] * work.z2[k] + method[E3] * work.z3[k]) / h
        work.g1[k] = work.trial[k] + work.rates[k]
    size = _filtered_size(system, work)
    control.solves += 1
    # on the first step and after a refusal a very stiff error may be over-estimated: filter it once more
    if size >= 1.0 and (control.previous_step == 0.0 or control.after_refusal == 1):
        for k in range(n):
            work.g2[k] = system.state[k] + work.g1[k]
        control.rate_evaluations += 1
        if call_native(system.rates, control.time, work.g2, work.g3, system.context) != 1:
            return size
        for k in range(n):
            work.g1[k] = work.trial[k] + work.g3[k]
        size = _filtered_size(system, work)
        control.solves += 1
    return size


@inner
def _write_polynomial(system, method, work, coefficients):
    """Write the step polynomial, and keep it shifted to the end of the step for the next guess."""
    n = system.n
    for k in range(n):
        z1, z2, z3 = work.z1[k], work.z2[k], work.z3[k]
        a1 = method[V00] * z1 + method[V01] * z2 + method[V02] * z3
        a2 = method[V10] * z1 + method[V11] * z2 + method[V12] * z3
        a3 = method[V20] * z1 + method[V21] * z2 + method[V22] * z3
        coefficients[k] = system.state[k]
        coefficients[n + k], coefficients[2 * n + k], coefficients[3 * n + k] = a1, a2, a3
        work.p1[k], work.p2[k], work.p3[k] = a1 + 2.0 * a2 + 3.0 * a3, a2 + 3.0 * a3, a3
        work.trial[k] = system.state[k] + z3


@inner
def _prepare(system, method, work, control, h):
    """Bring Jacobian and factors up to date for a step of length h.

    Returns CONVERGED if all is ready, DIVERGED if a matrix is singular, STOPPED if the Jacobian function stopped.
    """
    if control.jacobian_age == 0:
        if find_jacobian(system, work, control) != 1:
            return STOPPED
        control.jacobian_age = _FRESH
        control.factored_step = 0.0
    if control.factored_step != h:
        control.factored_step = 0.0
        if not form_and_factor(method, work, control, system.n, h):
            return DIVERGED
        control.factored_step = h
    return CONVERGED


@inner
def _after_divergence(control, work, n, shrink, h):
    """Shorten the step, or try a fixed one with a fresh Jacobian; return a reason to give up, or REACHED_END."""
    control.refused += 1
    control.after_refusal = 1
    control.bad_component = first_not_finite(work.trial, work.g1, n)
    if control.bad_component >= 0:
        control.bad_time = control.time + h
    stale = control.jacobian_age == _OLD
    if stale:
        control.jacobian_age = 0
    if control.adaptive == 0:
        if stale:
            return REACHED_END
    else:
        control.step = h * shrink
        if not too_short(control):
            return REACHED_END
    return NOT_FINITE if control.bad_component >= 0 else NEWTON_FAILED


@inner
def _after_refusal(control, error, safety, h):
    """Shorten the step after too large an error; return a reason to give up, or REACHED_END."""
    control.refused += 1
    control.step = h * (0.1 if control.previous_step == 0.0 else max(_SHRINK, safety * error**-0.25))
    control.after_refusal = 1
    if control.jacobian_age == _OLD:
        control.jacobian_age = 0
    if too_short(control):
        return STEP_TOO_SMALL
    return REACHED_END


@inner
def _after_acceptance(control, error, safety, theta, h):
    """Choose the next step and decide whether Jacobian and factors are kept."""
    factor = safety * error**-0.25
    if control.previous_step != 0.0:
        # predictive: the trend of the error is carried on
        trend = 0.9 * (h / control.previous_step) * (control.error_memory / (error * error)) ** 0.25
        factor = min(factor, trend)
    factor = min(_GROW, max(0.2, factor))
    if control.after_refusal == 1:
        factor = min(factor, 1.0)
    control.error_memory = max(error, 1e-2)
    control.previous_step = h
    control.after_refusal = 0
    control.jacobian_age = _OLD if theta <= _GOOD_CONTRACTION else 0
    if control.adaptive == 1 and not (control.jacobian_age == _OLD and 1.0 <= factor <= _WORTH_GROWING):
        control.step = h * factor


def march(address):
    """March until the end, an event, a full buffer or a failure; returns a reason (`control.Reason`).

    ``address``: of the table of control record, `System`, `Watch`, `Output` and `DenseWork`.
    """
    table = as_longs(address)
    control = as_control(table[0])
    system, watch, output, work = system_in(table), watch_in(table), output_in(table), dense_work_in(table)
    method = work.constants
    n, y, adaptive = system.n, system.state, control.adaptive == 1
    degree = output.size // n - 1
    tightest = 1.0
    for k in range(n):
        if 0.0 < system.relative[k] < tightest:
            tightest = system.relative[k]
    threshold = max(10.0 * _EPSILON / tightest, min(0.03, np.sqrt(tightest)))
    control.n_steps = control.n_rows = control.n_events = 0
    if control.started != 1:
        reason = begin(system, control, watch, work.rates)
        if reason != REACHED_END:
            return reason
        control.contraction = 1.0
        _set_scale(system, work)
    while control.time != control.end:
        reason = pause_reason(control, output, watch)
        if reason != REACHED_END:
            return reason
        h, last = next_step(control)
        count, theta, shrink = 0, 0.0, 0.5
        outcome = _prepare(system, method, work, control, h)
        if outcome == CONVERGED:
            ratio = 0.0 if control.previous_step == 0.0 else h / control.previous_step
            guess_increments(method, work, n, ratio)
            outcome, count, theta, shrink = iterate(system, method, work, control, h, threshold)
        if outcome == STOPPED:
            return RATES_STOPPED
        if outcome == DIVERGED:
            keep_row(control, output, h, np.nan, False, count)
            reason = _after_divergence(control, work, n, shrink, h)
            if reason != REACHED_END:
                return reason
            continue
        error = _estimate(system, method, work, control, h) if adaptive else 0.0
        # NaN compares false, so a step without an error estimate is refused
        good = error < 1.0
        keep_row(control, output, h, error if adaptive else np.nan, good, count)
        safety = _SAFETY * (1.0 + 2.0 * MOST_ITERATIONS) / (count + 2.0 * MOST_ITERATIONS)
        if not good:
            reason = _after_refusal(control, error if error < 1e300 else 1e4, safety, h)
            if reason != REACHED_END:
                return reason
            continue
        coefficients = keep_step(control, output, h)
        _write_polynomial(system, method, work, coefficients)
        start, finish = control.time, finish_time(control, h, last)
        where = step_events(watch, control, start, h, finish, work.trial, coefficients, (degree, n))
        if where == FAILED:
            return EVENT_STOPPED
        if where != NEVER:
            evaluate_step(coefficients, degree, n, where, y)
            control.time = start + where * h
            return EVENT
        control.time = finish
        for k in range(n):
            y[k] = work.trial[k]
        _set_scale(system, work)
        _after_acceptance(control, max(error, 1e-10), safety, theta, h)
        control.rate_evaluations += 1
        control.bad_time = finish
        if call_native(system.rates, finish, y, work.rates, system.context) != 1:
            return RATES_STOPPED
        control.bad_component = first_not_finite(y, work.rates, n)
        if control.bad_component >= 0:
            return NOT_FINITE
    return REACHED_END
