"""Where the argument of a root comes to zero: the state is put there, and events that wait there happen.

A root counts as zero below a width smaller than the tolerance (`model.switch_types.RootSwitch`); the march stands where
its argument has fallen to that width. The state is moved by less than the width, so that the argument is zero.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.actions import happen_here
from unhurried_heron.kernels.march.event_acceptance import happens_at
from unhurried_heron.kernels.march.event_values import changes, watch_values
from unhurried_heron.kernels.march.functions import call_function
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import BEFORE_ROW, END_ROW, SCRATCH_ROW

# With more states than this, none is moved.
_MAX_STATES = 1000
# The share of the width that remains in a state that was itself the argument.
_ROUNDING = 1e-3


@inner
def _left(watch, control, event):
    """Return how far the argument is below twice the width at ``watch.trial``; NaN if the function stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.

    Returns
    -------
    float
    """
    value = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
    code = call_function(watch.addresses, event, control.time, watch.trial, value)
    return value[0] if code == 1 else float("nan")


@inner
def _move_to_zero(system, watch, control):
    """Move the state along the gradient of the argument to where that is zero.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    """
    n, event, square = system.n, control.stopped_by, 0.0
    for k in range(n):
        watch.trial[k] = system.state[k]
    # twice the width less the argument, which has just come to the width
    width = _left(watch, control, event)
    if not 0.0 < width < 1e300:
        return
    for k in range(n):
        watch.trial[k] = system.state[k] + width
        system.trial[k] = width - _left(watch, control, event)
        watch.trial[k] = system.state[k]
        square += system.trial[k] * system.trial[k]
    if not 0.0 < square < 1e300:
        return
    for k in range(n):
        moved = width * width * system.trial[k] / square
        system.state[k] -= moved
        # the state alone is the argument
        if moved != 0.0 and abs(system.state[k]) < _ROUNDING * width:
            system.state[k] = 0.0


@inner
def come_to_rest(system, watch, control, count):
    """Put the state where the argument is zero, and let events happen that this takes along; False if one stopped.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    count : int
        Number of events.

    Returns
    -------
    bool
    """
    if system.n > _MAX_STATES:
        return True
    _move_to_zero(system, watch, control)
    if count == 0:
        return True
    if not watch_values(watch, control.time, system.state, END_ROW):
        return False
    for e in range(count):
        before, now = watch.values[e], watch.values[END_ROW * watch.m + e]
        if before != 0.0 and changes(before, now, watch.going[e]):
            happens = happens_at(watch, e, control.time, system.state)
            if happens < 0:
                return False
            if happens == 1:
                happen_here(watch, control, system, e)
        watch.values[e] = watch.values[BEFORE_ROW * watch.m + e] = now
    return True
