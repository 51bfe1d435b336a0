"""What event functions and their derivatives along the solution are at the ends of a step."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import FAILED
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import (
    END_DERIVATIVE_ROW,
    END_ROW,
    LEAVES,
    SCRATCH_ROW,
    START_DERIVATIVE_ROW,
)


@inner
def watch_values(watch, time, state, row):
    """Evaluate every event function into a row of ``values``; True if all of them answered.

    Parameters
    ----------
    watch : Watch
    time : float
    state : float pointer, (n,)
    row : int
        Row of ``watch.values``.

    Returns
    -------
    bool
    """
    for e in range(watch.m):
        value = offset_by(watch.values, row * watch.m + e)
        if call_function(watch.addresses, e, time, state, value) != 1:
            return False
    return True


@inner
def _derivative(watch, time, state, row, event):
    """Evaluate the derivative of a function along the solution into a row of ``values``; False if it stopped.

    Parameters
    ----------
    watch : Watch
    time : float
    state : float pointer, (n,)
    row : int
        Row of ``watch.values``.
    event : int
        Index of the event function.

    Returns
    -------
    bool
    """
    value = offset_by(watch.values, row * watch.m + event)
    answered = not has_function(watch.derivatives, event)
    return answered or call_function(watch.derivatives, event, time, state, value) == 1


@inner
def watch_derivatives(watch, time, state, row):
    """Evaluate the derivatives along the solution into a row of ``values``; True if all of them answered.

    Parameters
    ----------
    watch : Watch
    time : float
    state : float pointer, (n,)
    row : int
        Row of ``watch.values``.

    Returns
    -------
    bool
    """
    for e in range(watch.m):
        answered = _derivative(watch, time, state, row, e)
        if not answered:
            return False
    return True


@inner
def watch_speeds(watch, time, state, row):
    """Evaluate how fast the functions turn into a row of ``values``; True if all of them answered.

    Parameters
    ----------
    watch : Watch
    time : float
    state : float pointer, (n,)
    row : int
        Row of ``watch.values``.

    Returns
    -------
    bool
    """
    for e in range(watch.m):
        value = offset_by(watch.values, row * watch.m + e)
        if has_function(watch.speeds, e) and call_function(watch.speeds, e, time, state, value) != 1:
            return False
    return True


@inner
def turns_back(watch, control, system, event):
    """Whether a function comes nearer to zero at first, and goes away at last: 1, 0, or FAILED if it stopped.

    A derivative is evaluated only where it decides; NaN in its row means that it was not evaluated yet. Derivatives are
    with respect to time, and so change their meaning on an interval that runs backwards.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.

    Returns
    -------
    int
    """
    way = np.copysign(1.0, control.length)
    start = offset_by(watch.values, START_DERIVATIVE_ROW * watch.m + event)
    if start[0] != start[0] and not _derivative(watch, control.time, system.state, START_DERIVATIVE_ROW, event):
        return FAILED
    if not way * start[0] * watch.values[event] < 0.0:
        return 0
    end = offset_by(watch.values, END_DERIVATIVE_ROW * watch.m + event)
    if end[0] != end[0] and not _derivative(watch, control.finish, system.trial, END_DERIVATIVE_ROW, event):
        return FAILED
    return 1 if way * end[0] * watch.values[END_ROW * watch.m + event] > 0.0 else 0


@inner
def is_calm(watch, control, system, event):
    """Whether the cubic with a function's values and derivatives at the ends of the step is monotone: 1, 0 or FAILED.

    F. N. Fritsch and R. E. Carlson, SIAM Journal on Numerical Analysis 17 (1980) 238-246: neither derivative is against
    the change over the step, nor more than three times as fast.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.

    Returns
    -------
    int
    """
    start = offset_by(watch.values, START_DERIVATIVE_ROW * watch.m + event)
    if start[0] != start[0] and not _derivative(watch, control.time, system.state, START_DERIVATIVE_ROW, event):
        return FAILED
    end = offset_by(watch.values, END_DERIVATIVE_ROW * watch.m + event)
    if end[0] != end[0] and not _derivative(watch, control.finish, system.trial, END_DERIVATIVE_ROW, event):
        return FAILED
    change = watch.values[END_ROW * watch.m + event] - watch.values[event]
    first, last, fastest = start[0] * control.length, end[0] * control.length, 3.0 * abs(change)
    return 1 if 0.0 <= first * change <= fastest * abs(change) and 0.0 <= last * change <= fastest * abs(change) else 0


@inner
def leads_back(watch, control, system, event):
    """Whether the solution would turn back across a switch that was just flipped.

    What is watched of a switch is positive on the side that it has now.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.

    Returns
    -------
    bool
    """
    value = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
    if not has_function(watch.derivatives, event):
        return False
    if call_function(watch.derivatives, event, control.time, system.state, value) != 1:
        return False
    return value[0] * control.length < 0.0


@inner
def changes(before, after, going):
    """Whether a sign change in the wanted direction lies between two values; a zero counts where it is reached.

    A zero at the start of a step was counted at the end of the one before, or is the start of the run.

    Parameters
    ----------
    before : float
    after : float
    going : int
        1 up, -1 down, 0 either.

    Returns
    -------
    bool
    """
    if going == LEAVES:
        return after < 0.0
    up = before < 0.0 and after >= 0.0
    down = before > 0.0 and after <= 0.0
    return (up and going >= 0) or (down and going <= 0)


@inner
def in_band(watch, event, value):
    """Whether a function that has acted is still as near to zero as the error of the state may put it.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    value : float

    Returns
    -------
    bool
    """
    return abs(value) <= watch.band[event]
