"""Asking for the rates: every call of a kernel's own is counted, by what it is for."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import call_native
from unhurried_heron.kernels.memory.control import FOR_BETWEEN, FOR_ESTIMATES, FOR_JACOBIAN, FOR_STARTING


@inner
def ask_rates(system, control, purpose, time, state, out):
    """Write the rates at a time and state, and return the code of the function.

    Parameters
    ----------
    system : System
    control : CONTROL
    purpose : int
        A `Purpose`.
    time : float
    state : float pointer, (n,)
    out : float pointer, (n,)
        Filled with the result.

    Returns
    -------
    int
    """
    return ask_part((system.rates, system.context), control, purpose, time, state, out)


@inner
def ask_part(part, control, purpose, time, state, out):
    """Write a part of the rates, or all, and return the code of the function.

    Parameters
    ----------
    part : (int, int)
        The addresses of the function and of its context.
    control : CONTROL
    purpose : int
        A `Purpose`.
    time : float
    state : float pointer, (n,)
    out : float pointer, (n,)
        Filled with the result.

    Returns
    -------
    int
    """
    count_rates(control, purpose, 1)
    control.bad_time = time
    return call_native(part[0], time, state, out, part[1])


@inner
def count_rates(control, purpose, count):
    """Count calls of the rates, and tell what the next ones are for.

    Parameters
    ----------
    control : CONTROL
    purpose : int
        A `Purpose`.
    count : int
        Calls.
    """
    control.rate_evaluations += count
    control.purpose = purpose
    if purpose == FOR_JACOBIAN:
        control.for_jacobians += count
    elif purpose == FOR_STARTING:
        control.for_starting += count
    elif purpose == FOR_ESTIMATES:
        control.for_estimates += count
    elif purpose == FOR_BETWEEN:
        control.for_between += count
