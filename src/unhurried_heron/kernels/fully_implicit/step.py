"""A fully implicit Runge-Kutta method.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.8: error estimate, and
reuse of Jacobian and factors. The error between the steps bounds them too (`between`).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.fully_implicit.interpolation_error import (
    foreseen_error,
    keep_for_guess,
    measure_error,
    write_polynomial,
)
from unhurried_heron.kernels.fully_implicit.newton import block_work_in, form_and_factor, guess_increments, iterate
from unhurried_heron.kernels.implicit.control import (
    after_failure,
    begin_anew,
    finish_step,
    note_solution,
)
from unhurried_heron.kernels.implicit.derivatives import derive, find_rates_at_end
from unhurried_heron.kernels.implicit.growth import damps_growth
from unhurried_heron.kernels.implicit.mass_matrix import multiply_by_mass
from unhurried_heron.kernels.implicit.newton import begin_iterations
from unhurried_heron.kernels.implicit.prediction import came_true, start_from
from unhurried_heron.kernels.implicit.scale import filtered_size
from unhurried_heron.kernels.linear_algebra.jacobian import find_jacobian, jacobian_of_rates
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_doubles, call_kernel, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_ESTIMATES,
    RATES_STOPPED,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import BETWEEN, CONVERGED, DIVERGED, FRESH, GROWS, OLD, STOPPED

# factors of a step that differs by no more than rounding of the times are as good as its own
_SAME_STEP = 1e-3


@inner
def _estimate(system, work, control, h):
    """Return the code of the rates and the error estimate in units of the tolerance; kept by component.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, float)
    """
    memory = implicit_memory(work.memory)
    n, size, rates, out = system.n, 0.0, system.rates_at_state, work.estimate
    if system.n_mass > 0 and work.uses_start_rates == 1:
        rates = work.d2
        code = ask_rates(system, control, FOR_ESTIMATES, control.time, system.state, rates)
        if code != 1:
            return code, size
    for turn in range(2):
        for k in range(n):
            out[k] = work.e[0] * work.z[k]
        for i in range(1, work.stages):
            weight, z = work.e[i], offset_by(work.z, i * n)
            for k in range(n):
                out[k] += weight * z[k]
        multiply_by_mass(system, out, work.d1)
        for k in range(n):
            out[k] = out[k] / h + (rates[k] if work.uses_start_rates == 1 else 0.0)
        size = filtered_size(work, work.filter, out, n)
        control.solves += 1
        # on the first step and after a refusal a very stiff error may be over-estimated: filter it once more
        again = size >= 1.0 and (memory.previous_step == 0.0 or control.after_refusal == 1)
        if turn == 1 or not again or work.uses_start_rates == 0:
            break
        for k in range(n):
            work.d1[k] = system.state[k] + out[k]
        code = ask_rates(system, control, FOR_ESTIMATES, control.time, work.d1, work.d2)
        if code != 1:
            return code, size
        rates = work.d2
    return 1, size


@inner
def _move(system, work):
    """Write how far the states move in the step, and where to."""
    n, s = system.n, work.stages
    if work.ends == 1:
        last = offset_by(work.z, (s - 1) * n)
        for k in range(n):
            work.moved[k] = last[k]
    else:
        for k in range(n):
            work.moved[k] = work.end[0] * work.z[k]
        for i in range(1, s):
            weight, z = work.end[i], offset_by(work.z, i * n)
            for k in range(n):
                work.moved[k] += weight * z[k]


@inner
def _judge(system, work, control, coefficients, h):
    """Write the step polynomial; return STOPPED or CONVERGED, and the step's error in units of the tolerance.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, float)
    """
    memory = implicit_memory(work.memory)
    if control.adaptive == 0:
        write_polynomial(system, work, coefficients, False)
        return CONVERGED, 0.0
    code, error = _estimate(system, work, control, h)
    if code < 1:
        return STOPPED, error
    write_polynomial(system, work, coefficients, True)
    if not error < 1.0:
        return CONVERGED, error
    allowed, between = work.limits[BETWEEN], np.inf
    if memory.previous_step != 0.0:
        between = foreseen_error(system, work, h / memory.previous_step)
    if not between <= allowed:
        code, between = measure_error(system, work, control, coefficients)
        if code < 1:
            return STOPPED, error
    between /= allowed
    # NaN compares false, and must come through
    return CONVERGED, (between if not between <= error else error)


@inner
def _prepare(system, work, control, h):
    """Bring Jacobian and factors up to date for a step of length h.

    Returns CONVERGED if all is ready, DIVERGED if a matrix is singular, STOPPED if the Jacobian function stopped, GROWS
    if the step would damp what grows.

    Parameters
    ----------
    system : System
    work : BlockWork
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
            else jacobian_of_rates(system, work, control, work.d2)
        )
        if code != 1:
            return STOPPED
        memory.jacobian_age = FRESH
        memory.factored_step = 0.0
    if not abs(memory.factored_step - h) <= _SAME_STEP * abs(h):
        memory.factored_step = 0.0
        if not form_and_factor(work, control, h):
            return DIVERGED
        if damps_growth(system, work, control, work.filter, h):
            return GROWS
        memory.factored_step = h
    return CONVERGED


@inner
def _no_change(work, count):
    """Start the iteration from where the step begins."""
    for k in range(count):
        work.z[k] = work.w[k] = 0.0


@inner
def _solve_step(system, work, control, h):
    """Find the stage increments; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    memory = implicit_memory(work.memory)
    total = 0
    while True:
        outcome = _prepare(system, work, control, h)
        if outcome != CONVERGED:
            begin_iterations(work)
            return outcome, 0
        guess_increments(work, system.n, 0.0 if memory.previous_step == 0.0 else h / memory.previous_step)
        count = system.n * work.stages
        memory.foreseen, trusted = 1, start_from(work, control, count)
        if not trusted:
            _no_change(work, count)
        outcome, more = iterate(system, work, control, h)
        total += more
        if outcome == CONVERGED and control.adaptive == 0:
            if not came_true(work, system.n, count) and trusted:
                _no_change(work, count)
                outcome, more = iterate(system, work, control, h)
                total += more
            memory.trusted = memory.foreseen
        if outcome != DIVERGED or control.adaptive == 1 or memory.jacobian_age != OLD:
            break
        # a fixed step cannot be shortened: it gets a Jacobian of its own
        memory.jacobian_age = 0
    if outcome == DIVERGED and work.insist != 0 and memory.jacobian_age == FRESH:
        outcome = call_kernel(work.insist, control.table)
        total += control.row_iterations
        memory.jacobian_age = memory.trusted = 0
    return outcome, total


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    memory, h = implicit_memory(work.memory), control.length
    control.error = np.nan
    outcome, count = _solve_step(system, work, control, h)
    answer = note_solution(system, work, control, outcome, count)
    if answer != ACCEPTED:
        return answer
    _move(system, work)
    outcome, error = _judge(system, work, control, as_doubles(control.polynomial_address), h)
    if outcome == STOPPED:
        return RATES_STOPPED
    memory.error = error
    if control.adaptive == 1:
        control.error = error
    # NaN compares false, so a step without an error estimate is refused
    if not error < 1.0:
        return REFUSED
    keep_for_guess(system, work)
    for k in range(system.n):
        system.trial[k] = system.state[k] + work.moved[k]
    return ACCEPTED


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    finish_step(system, work, control, work.filter, work.moved)
    return find_rates_at_end(system, control, as_doubles(control.polynomial_address), work.stages + 1)


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : BlockWork
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
    work : BlockWork
    control : CONTROL

    Returns
    -------
    int
    """
    return derive(system, work, control, work.filter, (work.d1, work.d2))


# the error between the ends was judged, so a step polynomial is written before it is asked for
family = answering(block_work_in, _attempt, _accept, _refuse, begin_anew, derive=_derive)
