"""An explicit partitioned method at fixed steps: drifts and kicks in turns.

E. Hairer, C. Lubich and G. Wanner, *Geometric Numerical Integration*, 2nd ed. (2006), section V.3. A part that depends
on the time is asked for its rates at the time to which the other has come.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import check_rates_at_state, first_not_finite
from unhurried_heron.kernels.march.polynomial import cubic_terms
from unhurried_heron.kernels.march.rates import count_rates
from unhurried_heron.kernels.march.requests import answering, nothing
from unhurried_heron.kernels.memory.call import as_doubles, call_native
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_STAGES,
    NOT_FINITE,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import decoder
from unhurried_heron.kernels.partitioned_work import PartitionedWork

partitioned_work_in = decoder(PartitionedWork)

# A drift, in ``turns``.
_DRIFT = 0


@inner
def _ask(system, work, control, turn, time, purpose):
    """Write the rates of the part that a turn moves to ``rates``; return the code of the function.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL
    turn : int
        Of the first part for a drift, of the second for a kick.
    time : float
    purpose : int
        A `Purpose`.

    Returns
    -------
    int
    """
    count_rates(control, purpose, 1)
    control.bad_time = time
    if turn == _DRIFT:
        return call_native(work.rates_of_first, time, system.trial, work.rates, work.context_of_first)
    return call_native(work.rates_of_second, time, system.trial, work.rates, work.context_of_second)


@inner
def _find_end(system, work, control):
    """Write the rates at the end of the step to ``end``; return the code of the function that stopped, or 1.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL

    Returns
    -------
    int
    """
    last = work.turns[work.n_turns - 1]
    for other in range(2):
        # the rates of the last turn are those of where the other part is now
        turn = last if other == 0 else 1 - last
        if other == 1:
            control.stage = work.n_turns
            code = _ask(system, work, control, turn, control.finish, FOR_STAGES)
            if code != 1:
                return code
        part, count = (work.first, work.n_first) if turn == _DRIFT else (work.second, work.n_second)
        for i in range(count):
            work.end[part[i]] = work.rates[part[i]]
    return 1


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED or RATES_STOPPED.
    """
    n, h = system.n, control.length
    control.error, control.row_iterations = np.nan, 0
    for k in range(n):
        system.trial[k] = system.state[k]
        work.rates[k] = system.rates_at_state[k]
    for i in range(work.n_turns):
        turn, share = work.turns[i], work.shares[i]
        control.stage = i
        # the rates at the start are known
        if i > 0:
            time = control.finish if work.nodes[i] == 1.0 else control.time + work.nodes[i] * h
            code = _ask(system, work, control, turn, time, FOR_STAGES)
            if code != 1:
                return RATES_STOPPED if code < 1 else REFUSED
        part, count = (work.first, work.n_first) if turn == _DRIFT else (work.second, work.n_second)
        for j in range(count):
            k = part[j]
            system.trial[k] += share * h * work.rates[k]
    code = _find_end(system, work, control)
    if code != 1:
        return RATES_STOPPED if code < 1 else REFUSED
    return REFUSED if first_not_finite(system.trial, work.end, n) >= 0 else ACCEPTED


@inner
def _describe(system, work, control):
    """Write the cubic through both ends of the step and the rates there.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END.
    """
    n, h, coefficients = system.n, control.length, as_doubles(control.polynomial_address)
    for k in range(n):
        start, end = h * system.rates_at_state[k], h * work.end[k]
        second, third = cubic_terms(system.trial[k] - system.state[k], start, end)
        coefficients[k], coefficients[n + k] = system.state[k], start
        coefficients[2 * n + k], coefficients[3 * n + k] = second, third
    return REACHED_END


@inner
def _accept(system, work, control):
    """Take the rates at the end of an accepted step as those of the present state.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END or NOT_FINITE.
    """
    for k in range(system.n):
        system.rates_at_state[k] = work.end[k]
    return check_rates_at_state(system, control)


@inner
def _refuse(system, work, control):
    """Give up: a fixed step cannot be shortened.

    Parameters
    ----------
    system : System
    work : PartitionedWork
    control : CONTROL

    Returns
    -------
    int
        NOT_FINITE.
    """
    control.bad_time = control.finish
    control.bad_component = first_not_finite(system.trial, work.end, system.n)
    return NOT_FINITE


family = answering(partitioned_work_in, _attempt, _accept, _refuse, nothing, _describe)
