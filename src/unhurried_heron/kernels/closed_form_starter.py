"""Closed forms as a one-step method: what a multistep method may take its first values from."""

from __future__ import annotations

from unhurried_heron.kernels.closed_form_starter_work import ClosedFormWork
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering, nothing
from unhurried_heron.kernels.memory.call import as_doubles, call_native, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_END,
    RATES_STOPPED,
    REACHED_END,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import decoder

exact_work_in = decoder(ClosedFormWork)


@inner
def _exact_at(system, work, control, time, out):
    """Write the closed forms at a time; return the code of their function.

    Parameters
    ----------
    system : System
    work : ClosedFormWork
    control : CONTROL
    time : float
    out : float pointer, (n,)
        Filled with the result.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    control.bad_time = time
    code = call_native(work.function, time, system.state, work.values, work.context)
    for k in range(system.n):
        out[k] = work.values[work.order[k]]
    return code


@inner
def _describe(system, work, control):
    """Write the polynomial through the closed forms at its points.

    Parameters
    ----------
    system : System
    work : ClosedFormWork
    control : CONTROL

    Returns
    -------
    int
        RATES_STOPPED or REACHED_END.
    """
    n, width, coefficients = system.n, work.degree + 1, as_doubles(control.polynomial_address)
    for i in range(width * n):
        coefficients[i] = 0.0
    for j in range(width):
        if _exact_at(system, work, control, control.time + work.theta[j] * control.length, system.trial) != 1:
            return RATES_STOPPED
        for d in range(width):
            out, weight = offset_by(coefficients, d * n), work.inverse[d * width + j]
            for k in range(n):
                out[k] += weight * system.trial[k]
    # The last point is the end of the step, so ``trial`` holds the state there.
    return REACHED_END


@inner
def _attempt(system, work, control):
    """Take the closed forms at the end of the step.

    Parameters
    ----------
    system : System
    work : ClosedFormWork
    control : CONTROL

    Returns
    -------
    int
    """
    return ACCEPTED if _exact_at(system, work, control, control.finish, system.trial) == 1 else RATES_STOPPED


@inner
def _accept(system, work, control):
    """Find the rates at the end of the step.

    Parameters
    ----------
    system : System
    work : ClosedFormWork
    control : CONTROL

    Returns
    -------
    int
    """
    code = ask_rates(system, control, FOR_END, control.time, system.state, system.rates_at_state)
    return REACHED_END if code == 1 else RATES_STOPPED


@inner
def _refuse(system, work, control):
    """Give up: closed forms are as good as they can be.

    Parameters
    ----------
    system : System
    work : ClosedFormWork
    control : CONTROL

    Returns
    -------
    int
    """
    return STEP_TOO_SMALL


family = answering(exact_work_in, _attempt, _accept, _refuse, nothing, _describe)
