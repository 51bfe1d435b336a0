"""An explicit linear multistep method at fixed steps, or a predictor with a corrector that is evaluated once."""

from __future__ import annotations

from unhurried_heron.kernels.history import (
    accept_of_starter,
    attempt_of_starter,
    combine_past,
    describe,
    lacks_past,
    remember,
    start,
)
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.members import ask_member
from unhurried_heron.kernels.march.outcome import first_not_finite
from unhurried_heron.kernels.memory.call import as_control, as_longs, call_native
from unhurried_heron.kernels.memory.control import (
    ACCEPT,
    ACCEPTED,
    ATTEMPT,
    DESCRIBE,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    REFUSE,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import explicit_history_in, history_in, system_in


@inner
def _attempt(system, work, control):
    n, h = system.n, control.length
    control.row_iterations, control.error = 0, 0.0
    if lacks_past(work, control):
        return attempt_of_starter(system, work, control)
    combine_past(system, work, work.predicts, h, system.trial)
    if work.corrects == 1:
        control.rate_evaluations += 1
        control.bad_time = control.finish
        code = call_native(system.rates, control.finish, system.trial, work.predicted, system.context)
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
    if history_in(work.history).delegated == 1:
        return accept_of_starter(system, work, control)
    control.rate_evaluations += 1
    control.bad_time = control.time
    if call_native(system.rates, control.time, system.state, system.slope, system.context) != 1:
        return RATES_STOPPED
    control.bad_component = first_not_finite(system.state, system.slope, system.n)
    if control.bad_component >= 0:
        return NOT_FINITE
    remember(system, work, control, system.slope)
    return REACHED_END


def family(address):
    """Do what `march` asks for."""
    table = as_longs(address)
    control, system, work = as_control(table[0]), system_in(table), explicit_history_in(table)
    if control.ask == ATTEMPT:
        return _attempt(system, work, control)
    if control.ask == ACCEPT:
        return _accept(system, work, control)
    if control.ask == DESCRIBE:
        return describe(system, work, control)
    if control.ask == REFUSE:
        if history_in(work.history).delegated == 1:
            return ask_member(control, work.links, 0)
        # a fixed step cannot be shortened
        control.bad_time = control.finish
        control.bad_component = first_not_finite(system.trial, system.trial, system.n)
        return NOT_FINITE
    return start(system, work, control)
