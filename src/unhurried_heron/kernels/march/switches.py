"""The values of switches: flipped where they are crossed, followed where they depend on others, and watched again."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_values import in_band, watch_values
from unhurried_heron.kernels.march.functions import call_function
from unhurried_heron.kernels.memory.control import (
    CEIL,
    END_ROW,
    FLOOR,
    PASSED,
    ROOT,
    TRUTH,
)

_NAN = np.nan


@inner
def set_switch(crossing, control, switch, value):
    """Give a switch its value, and tell the crossing if that is another.

    Parameters
    ----------
    crossing : Crossing
    control : CONTROL
    switch : int
        Index of the switch.
    value : float
    """
    slot = crossing.slots[switch]
    if slot >= 0:
        if crossing.context[slot] == value:
            return
        crossing.context[slot] = value
    index = control.n_crossed
    if index >= crossing.room:
        control.no_room = 1
        return
    crossing.crossed[index], crossing.crossed_which[index] = control.time, switch
    crossing.crossed_values[index], crossing.crossed_row[index] = value, control.n_rows - 1
    control.n_crossed += 1


@inner
def _following(crossing, system, control, switch):
    """Return the value of a switch where those that it depends on are held; NaN if its formula stopped.

    Parameters
    ----------
    crossing : Crossing
    system : System
    control : CONTROL
    switch : int
        Index of the switch.

    Returns
    -------
    float
    """
    if call_function(crossing.gaps, switch, control.time, system.state, crossing.fresh) != 1:
        return _NAN
    gap, kind = crossing.fresh[0], crossing.kinds[switch]
    if kind == FLOOR:
        return np.floor(gap)
    if kind == CEIL:
        return np.ceil(gap)
    return 1.0 if gap >= 0.0 else 0.0


@inner
def _keep_or_flip(watch, crossing, system, control, located):
    """Flip a truth that is between two levels only where what is watched says so.

    Parameters
    ----------
    watch : Watch
    crossing : Crossing
    system : System
    control : CONTROL
    located : int
        Index of the switch among those that the watch looks for.
    """
    event, slot = crossing.n_events + located, crossing.slots[crossing.located[located]]
    code = call_function(watch.addresses, event, control.time, system.state, crossing.fresh)
    if code == 1 and crossing.fresh[0] < 0.0:
        crossing.context[slot] = 1.0 - crossing.context[slot]
        # The function is no longer on the side that it kept within the errors of the steps.
        watch.band[event] = 0.0


@inner
def follow_nested(crossing, system, watch, control, flipped):
    """Give switches that depend on others the values of their present side.

    Parameters
    ----------
    crossing : Crossing
    system : System
    watch : Watch
    control : CONTROL
    flipped : int
        The switch that was just flipped; -1 for none.
    """
    for k in range(watch.m - crossing.n_events):
        switch = crossing.located[k]
        if crossing.nested[switch] == 1 and switch != flipped and crossing.kinds[switch] == ROOT:
            _keep_or_flip(watch, crossing, system, control, k)
        elif crossing.nested[switch] == 1 and switch != flipped:
            crossing.context[crossing.slots[switch]] = _following(crossing, system, control, switch)


@inner
def look_again(crossing, system, watch, control, following):
    """After a jump switches take the value of the side where they are now.

    Parameters
    ----------
    crossing : Crossing
    system : System
    watch : Watch
    control : CONTROL
    following : int
        1 where only states that constraints tell have jumped: then the others are where they were, at zero perhaps.
    """
    for k in range(watch.m - crossing.n_events):
        switch = crossing.located[k]
        if crossing.slots[switch] < 0 or (following == 1 and crossing.follows[switch] == 0):
            continue
        if call_function(crossing.lives, switch, control.time, system.state, crossing.fresh) == 1:
            set_switch(crossing, control, switch, crossing.fresh[0])


@inner
def flip(crossing, system, watch, control, switch):
    """Take a switch to its other side.

    Parameters
    ----------
    crossing : Crossing
    system : System
    watch : Watch
    control : CONTROL
    switch : int
        Index of the switch.
    """
    kind = crossing.kinds[switch]
    if kind == PASSED:
        set_switch(crossing, control, switch, _NAN)
        return
    held = crossing.context[crossing.slots[switch]]
    if kind in (TRUTH, ROOT):
        set_switch(crossing, control, switch, 1.0 - held)
    else:
        call_function(crossing.gaps, switch, control.time, system.state, crossing.fresh)
        rises = crossing.fresh[0] - held > (0.5 if kind == FLOOR else -0.5)
        set_switch(crossing, control, switch, held + (1.0 if rises else -1.0))
    follow_nested(crossing, system, watch, control, switch)


@inner
def watch_switches(system, watch, control, crossing, flipped):
    """Set what the functions of the switches are where the next step begins; False if one stopped.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing
    flipped : int
        The switch that was just flipped; -1 for none.

    Returns
    -------
    bool
    """
    if watch.m == crossing.n_events:
        return True
    if not watch_values(watch, control.time, system.state, END_ROW):
        return False
    for e in range(crossing.n_events, watch.m):
        value = watch.values[END_ROW * watch.m + e]
        if not (watch.band[e] > 0.0 and in_band(watch, e, value)):
            watch.values[e] = value
        switch = crossing.located[e - crossing.n_events]
        if switch == flipped and crossing.kinds[switch] == PASSED:
            # it was just passed: its zero must not be found again
            watch.values[e] = 0.0
    return True


@inner
def keeps_side(crossing, switch):
    """Whether a switch that was just flipped is on its new side however the errors of the steps move it at first.

    A root that rests is not: what flows little comes back within its width.
    """
    return crossing.kinds[switch] == ROOT and crossing.context[crossing.slots[switch]] == 1.0
