"""An implicit linear multistep method at fixed steps, solved by Newton's iteration with factors that are kept."""

from __future__ import annotations

from unhurried_heron.kernels.history import (
    accept_of_starter,
    attempt_of_starter,
    combine_past,
    describe,
    history_in,
    lacks_past,
    remember,
    start,
)
from unhurried_heron.kernels.history_work import ImplicitHistoryWork
from unhurried_heron.kernels.implicit.control import (
    after_acceptance,
    after_divergence,
    begin_anew,
    note_solution,
    refuse_not_finite,
)
from unhurried_heron.kernels.implicit.damped_newton import solve_stage_damped
from unhurried_heron.kernels.implicit.derivatives import derive
from unhurried_heron.kernels.implicit.newton import begin_iterations, factor_for, solve_stage
from unhurried_heron.kernels.implicit.prediction import came_true, start_from
from unhurried_heron.kernels.implicit.scale import set_scale
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import renew_jacobian
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.members import ask_member
from unhurried_heron.kernels.march.outcome import check_rates_at_state
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.decoding import decoder, implicit_memory
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, FRESH, NEWTON_LIMIT, OLD, STOPPED

implicit_history_in = decoder(ImplicitHistoryWork)

# Factors are used again for a step that is the same but for rounding.
_SAME_STEP = 1e-9


@inner
def _prepare(system, work, control, shift):
    """Bring Jacobian and factors up to date; return CONVERGED, DIVERGED or STOPPED.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL
    shift : float
        The shift in shift*M - J, one over a time.

    Returns
    -------
    int
        STOPPED, DIVERGED or CONVERGED.
    """
    memory = implicit_memory(work.memory)
    if not renew_jacobian(system, work, control):
        return STOPPED
    if not abs(memory.factored_step - control.length) <= _SAME_STEP * abs(control.length):
        memory.factored_step = 0.0
        if factor_for(work, control, work.context, shift) != DONE:
            return DIVERGED
        memory.factored_step = control.length
    return CONVERGED


@inner
def _solve(system, work, control):
    """Solve for the new state; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    memory, h, total = implicit_memory(work.memory), control.length, 0
    shift = 1.0 / (h * work.newest[0])
    combine_past(system, work, work.weights, h, work.base)
    while True:
        outcome = _prepare(system, work, control, shift)
        if outcome != CONVERGED:
            begin_iterations(work)
            return outcome, total
        combine_past(system, work, work.predicts, h, work.z)
        for k in range(system.n):
            work.z[k] -= work.base[k]
        limit, n = work.limits[NEWTON_LIMIT], system.n
        memory.foreseen, trusted = 1, start_from(work, control, n)
        outcome, count = solve_stage(system, work, control, work.context, control.finish, shift, limit)
        total += count
        if outcome == CONVERGED and not came_true(work, n, n) and trusted:
            for k in range(n):
                work.z[k] = 0.0
            outcome, count = solve_stage(system, work, control, work.context, control.finish, shift, limit)
            total += count
        if outcome == DIVERGED and memory.jacobian_age == FRESH:
            rates, stage = (system.rates, system.context), (work.context, control.finish, shift)
            outcome, count = solve_stage_damped(system, work, control, rates, stage, limit)
            total += count
            memory.jacobian_age = memory.foreseen = 0
        if outcome == CONVERGED:
            memory.trusted = memory.foreseen
        if memory.jacobian_age == 0:
            return outcome, total
        if outcome != DIVERGED or memory.jacobian_age != OLD:
            return outcome, total
        # a fixed step cannot be shortened: it gets a Jacobian of its own
        memory.jacobian_age = 0


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    control.row_iterations, control.error = 0, 0.0
    if lacks_past(work, control):
        return attempt_of_starter(system, work, control)
    outcome, count = _solve(system, work, control)
    implicit_memory(work.memory).error = 0.0
    return refuse_not_finite(system, work, note_solution(system, work, control, outcome, count))


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    n, memory = system.n, implicit_memory(work.memory)
    if history_in(work.history).delegated == 1:
        memory.jacobian_age = 0
        set_scale(system, work, control.step)
        return accept_of_starter(system, work, control)
    set_scale(system, work, control.step)
    after_acceptance(control, work)
    shift = 1.0 / (control.length * work.newest[0])
    for k in range(n):
        # The solved values are kept: a fresh evaluation would amplify the error that the iteration left.
        system.rates_at_state[k] = work.z[k] * shift
    remember(system, work, control, system.rates_at_state)
    return check_rates_at_state(system, control)


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
    """
    if history_in(work.history).delegated == 1:
        return ask_member(control, work.links, 0)
    return after_divergence(control, system, work, work.residual)


@inner
def _derive(system, work, control):
    """Find the derivatives where the march stands (`derive`).

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
    """
    return derive(system, work, control, work.context, (work.residual, work.defect))


@inner
def _start(system, work, control):
    """Forget the past, and have the starter start.

    Parameters
    ----------
    system : System
    work : ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
    """
    begin_anew(system, work, control)
    return start(system, work, control)


family = answering(implicit_history_in, _attempt, _accept, _refuse, _start, describe, derive=_derive)
