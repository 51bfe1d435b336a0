"""A three-stage collocation method (Radau IIA of order 5).

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.8: error estimate, and
reuse of Jacobian and factors. The error between the steps bounds them too (`between`).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.collocation.between import foreseen_error, keep_for_guess, measure_error, write_polynomial
from unhurried_heron.kernels.collocation.constants import BETWEEN, E1, E2, E3
from unhurried_heron.kernels.collocation.newton import (
    form_and_factor,
    guess_increments,
    iterate,
)
from unhurried_heron.kernels.implicit.control import after_acceptance, after_divergence, after_refusal
from unhurried_heron.kernels.implicit.growth import heed_growth, longest_seen, steps_over_growth
from unhurried_heron.kernels.implicit.newton import begin_iterations, forget_iterations
from unhurried_heron.kernels.implicit.scale import filtered_size, set_scale
from unhurried_heron.kernels.linear_algebra.jacobian import find_jacobian
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.controller import forget
from unhurried_heron.kernels.march.outcome import first_not_finite
from unhurried_heron.kernels.memory.bundles import CONVERGED, DIVERGED, FRESH, GROWS, OLD, STOPPED
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, call_kernel, call_native
from unhurried_heron.kernels.memory.control import (
    ACCEPT,
    ACCEPTED,
    ATTEMPT,
    DESCRIBE,
    NOT_FINITE,
    PAUSED,
    RATES_STOPPED,
    REACHED_END,
    REFUSE,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import dense_work_in, implicit_memory, system_in

# factors of a step that differs by no more than rounding of the times are as good as its own
_SAME_STEP = 1e-3


@inner
def _estimate(system, method, work, control, h):
    """Return the code of the rates and the error estimate in units of the tolerance; g1 keeps it by component."""
    memory = implicit_memory(work.memory)
    n, size, rates = system.n, 0.0, system.slope
    for turn in range(2):
        for k in range(n):
            increments = method[E1] * work.z1[k] + method[E2] * work.z2[k] + method[E3] * work.z3[k]
            work.g1[k] = increments / h + rates[k]
        size = filtered_size(work, work.real, work.g1, system.n)
        control.solves += 1
        # on the first step and after a refusal a very stiff error may be over-estimated: filter it once more
        if turn == 1 or not (size >= 1.0 and (memory.previous_step == 0.0 or control.after_refusal == 1)):
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
    memory = implicit_memory(work.memory)
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
    if memory.previous_step != 0.0:
        between = foreseen_error(system, method, work, h / memory.previous_step)
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
    memory = implicit_memory(work.memory)
    if memory.jacobian_age == 0:
        if find_jacobian(system, work, control) != 1:
            return STOPPED
        memory.jacobian_age = FRESH
        memory.factored_step = 0.0
    if not abs(memory.factored_step - h) <= _SAME_STEP * abs(h):
        memory.factored_step = 0.0
        if not form_and_factor(method, work, control, h):
            return DIVERGED
        if control.adaptive == 1 and steps_over_growth(work, system.n, h):
            return GROWS
        # nothing has been seen yet of what may grow from nothing
        if control.adaptive == 1 and memory.previous_step == 0.0 and longest_seen(control, work, system.n, h) < abs(h):
            return GROWS
        memory.factored_step = h
    return CONVERGED


@inner
def _solve_step(system, method, work, control, h):
    """Find the stage increments; return the outcome and the number of iterations."""
    memory = implicit_memory(work.memory)
    total = 0
    while True:
        outcome = _prepare(system, method, work, control, h)
        if outcome != CONVERGED:
            begin_iterations(work)
            return outcome, 0
        guess_increments(method, work, system.n, 0.0 if memory.previous_step == 0.0 else h / memory.previous_step)
        outcome, count = iterate(system, method, work, control, h)
        total += count
        if outcome != DIVERGED or control.adaptive == 1 or memory.jacobian_age != OLD:
            break
        # a fixed step cannot be shortened: it gets a Jacobian of its own
        memory.jacobian_age = 0
    if outcome == DIVERGED and work.insist != 0 and memory.jacobian_age == FRESH:
        answer = call_kernel(work.insist, control.table)
        outcome, total = answer % 4 - 1, total + answer // 4
        memory.jacobian_age = 0
    return outcome, total


@inner
def _attempt(system, method, work, control):
    memory, h = implicit_memory(work.memory), control.length
    control.error = np.nan
    outcome, count = _solve_step(system, method, work, control, h)
    control.row_iterations, memory.outcome = count, outcome
    if control.stop != 0:
        # what was under way is not to be used, should the march go on
        memory.jacobian_age, memory.factored_step = 0, 0.0
        return PAUSED
    if outcome == STOPPED:
        return RATES_STOPPED
    if outcome != CONVERGED:
        return REFUSED
    outcome, error = _judge(system, method, work, control, as_doubles(control.place), h)
    if outcome == STOPPED:
        return RATES_STOPPED
    memory.error = error
    if control.adaptive == 1:
        control.error = error
    # NaN compares false, so a step without an error estimate is refused
    if not error < 1.0:
        return REFUSED
    keep_for_guess(system, method, work)
    return ACCEPTED


@inner
def _accept(system, work, control):
    set_scale(system, work, control.step)
    after_acceptance(control, work)
    # an error estimate is blind to what grows from below the tolerance
    if control.adaptive == 1:
        heed_growth(control, work, system.n, work.z3)
    control.rate_evaluations += 1
    control.bad_time = control.time
    if call_native(system.rates, control.time, system.state, system.slope, system.context) != 1:
        return RATES_STOPPED
    control.bad_component = first_not_finite(system.state, system.slope, system.n)
    return NOT_FINITE if control.bad_component >= 0 else REACHED_END


def family(address):
    """Do what `march` asks for."""
    table = as_longs(address)
    control, system, work = as_control(table[0]), system_in(table), dense_work_in(table)
    memory = implicit_memory(work.memory)
    if control.ask == ATTEMPT:
        return _attempt(system, work.constants, work, control)
    if control.ask == ACCEPT:
        return _accept(system, work, control)
    if control.ask == REFUSE:
        if memory.outcome == CONVERGED:
            return after_refusal(control, work)
        return after_divergence(control, system, work, work.g1)
    if control.ask == DESCRIBE:
        # its error between the ends was judged, so it is there
        return REACHED_END
    memory.previous_step = memory.factored_step = 0.0
    memory.jacobian_age = 0
    forget(work.controller)
    forget_iterations(work)
    set_scale(system, work, control.step)
    return REACHED_END
