"""Beyond a crossing algebraic states may leap: constraints are met again, and switches look at what came of it.

Where such a state comes to zero and stays there, as a flow behind a shut gate, its sign is rounding. A switch that
follows it keeps its side then until the value has been away from zero by more than the errors of the states.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.actions import refresh_events
from unhurried_heron.kernels.march.event_values import watch_values
from unhurried_heron.kernels.march.manifold import stay_on_manifold
from unhurried_heron.kernels.march.outcome import find_rates_at_state
from unhurried_heron.kernels.march.sides import TINY, band_of
from unhurried_heron.kernels.march.switches import look_again
from unhurried_heron.kernels.memory.control import BEFORE_ROW, EVENT_STOPPED, FOR_STARTING, REACHED_END

# Switches follow states and states follow switches this many times, at most.
_TURNS = 4


@inner
def _leapt(system, before):
    """Whether an algebraic state has moved by more than its tolerance.

    Parameters
    ----------
    system : System
    before : float pointer, (n,)
        What the states were.

    Returns
    -------
    bool
    """
    for k in range(system.n):
        allowed = system.relative[k] * abs(before[k]) + system.absolute[k]
        if abs(system.state[k] - before[k]) > allowed:
            return True
    return False


@inner
def meet_beyond(system, watch, control, crossing):
    """Meet the constraints where the march has crossed something; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing

    Returns
    -------
    int
    """
    for turn in range(_TURNS):
        for k in range(system.n):
            watch.trial[k] = system.state[k]
        control.moved = 1
        reason = stay_on_manifold(system, control, control.time, system.state)
        if reason != REACHED_END:
            return reason
        if system.n_constraints > 0:
            reason = find_rates_at_state(system, control, FOR_STARTING)
            if reason != REACHED_END:
                return reason
        # what only follows its switch has leapt nowhere
        if turn == 0 and not _leapt(system, watch.trial):
            return REACHED_END
        changes = control.n_crossed
        look_again(crossing, system, watch, control, 1)
        if control.n_crossed == changes:
            break
    if not watch_values(watch, control.time, system.state, BEFORE_ROW):
        return EVENT_STOPPED
    refresh_events(watch, control, crossing.n_events)
    return REACHED_END


@inner
def hold_at_zero(system, watch, control, crossing):
    """Let switches of what is zero within the errors of the states keep their sides until it is more than that.

    Parameters
    ----------
    system : System
    watch : Watch
    control : CONTROL
    crossing : Crossing
    """
    for e in range(crossing.n_events, watch.m):
        follows = crossing.follows[crossing.located[e - crossing.n_events]] == 1
        if follows and watch.band[e] == 0.0:
            band = band_of(watch, control, system, e)
            if abs(watch.values[e]) <= band:
                watch.band[e], watch.values[e] = band, TINY
