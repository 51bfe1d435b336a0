"""On which side of zero the function of an event is that has just acted.

There its value is zero within the error of the state, so its sign is noise. The side is the one to which it was going,
or, where what it changed turns it round, the one to which its derivative points; and it counts until the function has
been further from zero than that error.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.polynomial import derive_step
from unhurried_heron.kernels.memory.call import as_doubles, offset_by
from unhurried_heron.kernels.memory.control import (
    ACTS,
    CROSSES,
    END_DERIVATIVE_ROW,
    SCRATCH_ROW,
    START_DERIVATIVE_ROW,
)

# A value that tells only the side of a function at zero.
TINY = 1e-300
# The value of `Watch.side` for a switch until the march starts again behind it.
JUST_FLIPPED = 2.0
# The error of a state between the steps, in its tolerances, where methods of order 2 follow a stiff state.
_TOLERANCES = 30.0
# A derivative counts as the same if an action changes it by no more than this share.
_SAME = 1e-9
# The share of the step over which a derivative is taken.
_SHORT = 1e-6
# Two derivatives agree that differ by this share.
_AGREES = 0.1
# With more states than this, every second one is moved up and the others down, all at once.
_MAX_ALONE = 16


@inner
def _allowed(watch, system, k):
    """Return the allowed error of a state.

    Parameters
    ----------
    watch : Watch
    system : System
    k : int
        Index of the state.

    Returns
    -------
    float
    """
    return _TOLERANCES * (watch.relative[k] * abs(system.state[k]) + watch.absolute[k])


@inner
def _value_near(watch, control, event, later):
    """Return the code of an event function at ``watch.trial``, somewhat later, and its value.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.
    later : float
        How much, in the direction of the march.

    Returns
    -------
    (int, float)
    """
    value = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
    code = call_function(watch.addresses, event, control.time + later, watch.trial, value)
    return code, value[0]


@inner
def band_of(watch, control, system, event):
    """Return how much the errors of the states come to in the function of an event; below 0 if it stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.

    Returns
    -------
    float
    """
    n = system.n
    for k in range(n):
        watch.trial[k] = system.state[k]
    code, here = _value_near(watch, control, event, 0.0)
    if code != 1:
        return -1.0
    band = 0.0
    if n <= _MAX_ALONE:
        for k in range(n):
            watch.trial[k] = system.state[k] + _allowed(watch, system, k)
            code, near = _value_near(watch, control, event, 0.0)
            watch.trial[k] = system.state[k]
            if code != 1:
                return -1.0
            if abs(near - here) < np.inf:
                band += abs(near - here)
        return band
    for pattern in range(2):
        for k in range(n):
            up = pattern == 0 or k % 2 == 0
            watch.trial[k] = system.state[k] + (_allowed(watch, system, k) if up else -_allowed(watch, system, k))
        code, near = _value_near(watch, control, event, 0.0)
        if code != 1:
            return -1.0
        if abs(near - here) < np.inf:
            band = max(band, abs(near - here))
    return band


@inner
def _along(watch, control, system, event, direction):
    """Return the derivative of an event function at the present state in a direction of states; NaN if it stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.
    direction : float pointer, (n,)

    Returns
    -------
    float
    """
    span = _SHORT * control.length
    for k in range(system.n):
        watch.trial[k] = system.state[k]
    code, here = _value_near(watch, control, event, 0.0)
    for k in range(system.n):
        watch.trial[k] = system.state[k] + span * direction[k]
    again, near = _value_near(watch, control, event, span)
    return (near - here) / span if code == 1 and again == 1 else np.nan


@inner
def note_acted(watch, control, count):
    """Note which events have just acted and stand at zero, whose side is chosen where the march starts again.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    count : int
        Number of events.
    """
    for event in range(count):
        acted = False
        for index in range(control.first_event, control.n_events):
            acted = acted or (watch.which[index] == event and watch.stop[event] & ACTS != 0)
        if acted and watch.values[event] == 0.0 and control.crossing == CROSSES:
            watch.band[event] = TINY


@inner
def _goes_as_it_came(watch, control, system, event):
    """Whether the rates take a function where the step that led here did.

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
    n = system.n
    derive_step(as_doubles(control.polynomial_address), control.degree, n, control.theta, system.trial)
    for k in range(n):
        system.trial[k] /= control.length
    came = _along(watch, control, system, event, system.trial)
    goes = _along(watch, control, system, event, system.rates_at_state)
    return abs(goes - came) <= _AGREES * abs(goes)


@inner
def _pass_switch(watch, control, system, event):
    """Let a switch that was just flipped keep its new side within the errors of the steps.

    Steps are far longer than what they err by, so their polynomials may begin on the wrong side.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.
    """
    watch.side[event] = 0.0
    watch.band[event] = max(band_of(watch, control, system, event), 0.0)
    watch.values[event] = max(watch.values[event], TINY)


@inner
def choose_sides(watch, control, system):
    """Put every function that has acted and stands at zero on the side where it is when the march starts again.

    END_DERIVATIVE_ROW holds the derivatives along the solution before the actions, START_DERIVATIVE_ROW those after
    them. Where an action turned the solution round, the derivative tells. Where it did not, the solution goes on as it
    came; but if the rates do not agree with the step that led here, the state first falls back to where it belongs, and
    its sign is noise until then.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    """
    for event in range(watch.m):
        if watch.side[event] == JUST_FLIPPED:
            _pass_switch(watch, control, system, event)
            continue
        if watch.band[event] == 0.0 or watch.values[event] != 0.0:
            continue
        side, band = watch.side[event], 0.0
        before = watch.values[END_DERIVATIVE_ROW * watch.m + event]
        after = watch.values[START_DERIVATIVE_ROW * watch.m + event]
        if has_function(watch.derivatives, event) and abs(after - before) > _SAME * abs(before):
            side = np.copysign(1.0, after * control.length) if after != 0.0 else 0.0
        elif control.moved == 1 and not has_function(watch.derivatives, event):
            # Where nothing tells how the function moves, it is evaluated close by.
            side = 0.0
        elif not _goes_as_it_came(watch, control, system, event):
            if has_function(watch.derivatives, event):
                band = max(band_of(watch, control, system, event), 0.0)
            else:
                side = 0.0
        watch.band[event] = band
        watch.values[event] = np.copysign(TINY, side) if side != 0.0 else 0.0
