"""An explicit linear multistep method at fixed steps, or a predictor with a corrector that is evaluated once."""

from __future__ import annotations

from unhurried_heron.kernels.history import (
    accept_of_starter,
    attempt_of_starter,
    combine_past,
    describe,
    history_in,
    is_same,
    lacks_past,
    remember,
    row,
    start,
)
from unhurried_heron.kernels.history_work import ExplicitHistoryWork
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.batched_steps import native_stride
from unhurried_heron.kernels.march.members import ask_member
from unhurried_heron.kernels.march.outcome import first_not_finite
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.batch import BLOCK
from unhurried_heron.kernels.memory.call import address_of
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_END,
    FOR_STAGES,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import decoder

explicit_history_in = decoder(ExplicitHistoryWork)

_PAST, _PAST_RATES, _PREDICTED, _HEAD = (BLOCK.index(name) for name in ("past", "past_rates", "predicted", "head"))


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    n, h = system.n, control.length
    control.row_iterations, control.error = 0, 0.0
    if lacks_past(work, control):
        return attempt_of_starter(system, work, control)
    combine_past(system, work, work.predicts, h, system.trial)
    if work.corrects == 1:
        code = ask_rates(system, control, FOR_STAGES, control.finish, system.trial, work.predicted)
        if code < 1:
            return RATES_STOPPED
        if code != 1:
            return REFUSED
        combine_past(system, work, work.weights, h, system.trial)
        weight = work.newest[0] * h
        for k in range(n):
            system.trial[k] += weight * work.predicted[k]
    return ACCEPTED if first_not_finite(system.trial, system.trial, n) < 0 else REFUSED


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    if history_in(work.history).delegated == 1:
        return accept_of_starter(system, work, control)
    if ask_rates(system, control, FOR_END, control.time, system.state, system.rates_at_state) != 1:
        return RATES_STOPPED
    control.bad_component = first_not_finite(system.state, system.rates_at_state, system.n)
    if control.bad_component >= 0:
        return NOT_FINITE
    remember(system, work, control, system.rates_at_state)
    return REACHED_END


@inner
def _stride(system, work, control):
    """Take a batch of fixed steps in machine code; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END or RATES_STOPPED.
    """
    history, block, n, rows = history_in(work.history), work.block, system.n, work.steps + 1
    if history.count < work.steps or not (work.steps == 1 or is_same(control, control.step, history.length)):
        control.stride = 0
        return REACHED_END
    block[_PAST], block[_PAST_RATES] = address_of(work.past), address_of(work.past_rates)
    block[_PREDICTED], block[_HEAD] = address_of(work.predicted), history.head
    reason = native_stride(system, control, work.stride, block, 1 + work.corrects)
    history.head = (history.head + rows - control.stride % rows) % rows
    history.length = control.step
    history.delegated = history.handed = 0
    newest = row(work, work.past_rates, 0, n)
    for k in range(n):
        system.rates_at_state[k] = newest[k]
    return reason


@inner
def _refuse(system, work, control):
    """Have the starter try again; a fixed step cannot be shortened.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
    """
    if history_in(work.history).delegated == 1:
        return ask_member(control, work.links, 0)
    control.bad_time = control.finish
    control.bad_component = first_not_finite(system.trial, system.trial, system.n)
    return NOT_FINITE


family = answering(explicit_history_in, _attempt, _accept, _refuse, start, describe, _stride)
