"""Marching with a three-stage collocation method (Radau IIA of order 5) and dense linear algebra.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.8: error estimate, and
reuse of Jacobian and factors. The error between the steps bounds them too (`between`).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.between import foreseen_error, keep_for_guess, measure_error, write_polynomial
from unhurried_heron.kernels.call import as_control, as_longs, call_kernel, call_native
from unhurried_heron.kernels.collocation_constants import BETWEEN, E1, E2, E3
from unhurried_heron.kernels.collocation_control import after_acceptance, after_divergence, after_refusal
from unhurried_heron.kernels.compiling import inner
from unhurried_heron.kernels.control import (
    EVENT,
    EVENT_STOPPED,
    FRESH,
    NOT_FINITE,
    OLD,
    PAUSED,
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
    GROWS,
    STOPPED,
    find_jacobian,
    form_and_factor,
    guess_increments,
    iterate,
    longest_seen,
    stands_still,
    steps_over_growth,
)
from unhurried_heron.kernels.outcome import (
    begin,
    first_not_finite,
    keep_row,
    keep_step,
    next_place,
    next_step,
    pause_reason,
)
from unhurried_heron.kernels.polynomial import evaluate_step

# eigenvalues cost about as much as a step: they are looked at where it grows, and now and then
_LONGER = 1.5
_NOW_AND_THEN = 16
# factors of a step that differs by no more than rounding of the times are as good as its own
_SAME_STEP = 1e-3


@inner
def _set_scale(system, work, step):
    smallest = np.inf
    for k in range(system.n):
        work.scale[k] = system.absolute[k] + system.relative[k] * abs(system.state[k])
        smallest = min(smallest, work.scale[k])
    if smallest == 0.0:
        # zero, and no absolute tolerance: held to the change in a step, of all states where this one rests
        change = 0.0
        for k in range(system.n):
            change = max(change, abs(step * work.rates[k]))
        for k in range(system.n):
            if work.scale[k] == 0.0:
                own = abs(step * work.rates[k])
                size = own if own > 0.0 else (change if change > 0.0 else 1.0)
                work.scale[k] = system.relative[k] * size


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
    """Return the code of the rates and the error estimate in units of the tolerance; g1 keeps it by component."""
    n, size, rates = system.n, 0.0, work.rates
    for turn in range(2):
        for k in range(n):
            increments = method[E1] * work.z1[k] + method[E2] * work.z2[k] + method[E3] * work.z3[k]
            work.g1[k] = increments / h + rates[k]
        size = _filtered_size(system, work)
        control.solves += 1
        # on the first step and after a refusal a very stiff error may be over-estimated: filter it once more
        if turn == 1 or not (size >= 1.0 and (control.previous_step == 0.0 or control.after_refusal == 1)):
            break
        for k in range(n):
            work.g2[k] = system.state[k] + work.g1[k]
        control.rate_evaluations += 1
        control.bad_time = control.time
        code = call_native(system.rates, control.time, work.g2, work.g3, system.context)
        if code != 1:
            return code, size
        rates = work.g3
    return 1, size


@inner
def _judge(system, method, work, control, coefficients, h):
    """Write the step polynomial; return STOPPED or CONVERGED, and the step's error in units of the tolerance."""
    if control.adaptive == 0:
        write_polynomial(system, method, work, coefficients, False)
        return CONVERGED, 0.0
    code, error = _estimate(system, method, work, control, h)
    if code < 1:
        return STOPPED, error
    write_polynomial(system, method, work, coefficients, True)
    if not error < 1.0:
        return CONVERGED, error
    allowed, between = method[BETWEEN], np.inf
    if control.previous_step != 0.0:
        between = foreseen_error(system, method, work, h / control.previous_step)
    if not between <= allowed:
        code, between = measure_error(system, method, work, control, coefficients, h)
        if code < 1:
            return STOPPED, error
    between /= allowed
    # NaN compares false, and must come through
    return CONVERGED, (between if not between <= error else error)


@inner
def _prepare(system, method, work, control, h):
    """Bring Jacobian and factors up to date for a step of length h.

    Returns CONVERGED if all is ready, DIVERGED if a matrix is singular, STOPPED if the Jacobian function stopped, GROWS
    if the step would damp what grows.
    """
    if control.jacobian_age == 0:
        if find_jacobian(system, work, control) != 1:
            return STOPPED
        control.jacobian_age = FRESH
        control.factored_step = 0.0
    if not abs(control.factored_step - h) <= _SAME_STEP * abs(h):
        control.factored_step = 0.0
        if not form_and_factor(method, work, control, system.n, h):
            return DIVERGED
        if control.adaptive == 1 and steps_over_growth(work, system.n, h):
            return GROWS
        # nothing has been seen yet of what may grow from nothing
        if control.adaptive == 1 and control.previous_step == 0.0 and longest_seen(control, work, system.n, h) < abs(h):
            return GROWS
        control.factored_step = h
    return CONVERGED


@inner
def _solve_step(system, method, work, control, h):
    """Find the stage increments; return the outcome, the iterations, the contraction and how to shrink the step."""
    total = 0
    while True:
        outcome = _prepare(system, method, work, control, h)
        if outcome != CONVERGED:
            return outcome, 0, 0.0, 0.5
        guess_increments(method, work, system.n, 0.0 if control.previous_step == 0.0 else h / control.previous_step)
        outcome, count, theta, shrink = iterate(system, method, work, control, h)
        total += count
        if outcome != DIVERGED or control.adaptive == 1 or control.jacobian_age != OLD:
            break
        # a fixed step cannot be shortened: it gets a Jacobian of its own
        control.jacobian_age = 0
    if outcome == DIVERGED and work.insist != 0 and control.jacobian_age == FRESH:
        answer = call_kernel(work.insist, control.table)
        outcome, total = answer % 4 - 1, total + answer // 4
        control.jacobian_age = 0
    return outcome, total, theta, shrink


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
    control.n_steps = control.n_rows = control.n_events = 0
    if control.started != 1:
        reason = begin(system, control, watch, work.rates)
        if reason != REACHED_END:
            return reason
        control.contraction = control.correction = 1.0
        _set_scale(system, work, control.step)
    while control.time != control.end:
        reason = pause_reason(control, output, watch)
        if reason != REACHED_END:
            return reason
        h, finish = next_step(control)
        if h == 0.0:
            return STEP_TOO_SMALL
        outcome, count, theta, shrink = _solve_step(system, method, work, control, h)
        if control.stop != 0:
            # what was under way is not to be used, should the march go on
            control.jacobian_age, control.factored_step = 0, 0.0
            return PAUSED
        if outcome in (DIVERGED, GROWS):
            keep_row(control, output, h, np.nan, False, count)
            reason = after_divergence(control, work, n, shrink, h, outcome == GROWS)
            if reason != REACHED_END:
                return reason
            continue
        coefficients = next_place(control, output)
        error = 0.0
        if outcome == CONVERGED:
            outcome, error = _judge(system, method, work, control, coefficients, h)
        if outcome == STOPPED:
            return RATES_STOPPED
        # NaN compares false, so a step without an error estimate is refused
        good = error < 1.0
        keep_row(control, output, h, error if adaptive else np.nan, good, count)
        if not good:
            reason = after_refusal(control, error, h)
            if reason != REACHED_END:
                return reason
            continue
        keep_for_guess(system, method, work)
        start = control.time
        keep_step(control, output, h)
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
        _set_scale(system, work, control.step)
        after_acceptance(control, error, theta, h)
        # an error estimate is blind to what grows from below the tolerance
        longer = abs(control.step) > _LONGER * abs(h) or control.accepted % _NOW_AND_THEN == 0
        if adaptive and longer and stands_still(system, work):
            control.step = np.copysign(min(abs(control.step), longest_seen(control, work, n, h)), h)
        control.rate_evaluations += 1
        control.bad_time = finish
        if call_native(system.rates, finish, y, work.rates, system.context) != 1:
            return RATES_STOPPED
        control.bad_component = first_not_finite(y, work.rates, n)
        if control.bad_component >= 0:
            return NOT_FINITE
    return REACHED_END
