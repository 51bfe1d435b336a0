"""Which of the events found on a step happen, in their order, up to the first that ends the step."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import PASSES, SCRATCH_ROW

# Theta where no event ends the step.
NEVER = 2.0
# The answer where a function stopped.
FAILED = -1


@inner
def keep_events(watch, control, coefficients, shape, together):
    """Keep the events that do happen, in their order, up to the first that ends the step; return its theta, or FAILED.

    What lies beyond that never happened.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    together : float
        Differences in theta within which events happen together.

    Returns
    -------
    float
    """
    degree, n = shape
    start, step, times, which = control.time, control.length, watch.times, watch.which
    kept, ends = control.first_event, NEVER
    for index in range(control.first_event, control.n_events):
        time, event = times[index], which[index]
        theta = (time - start) / step
        if theta > ends + together:
            break
        # The time is computed as the march computes it, to the last bit.
        time = start + theta * step
        state = offset_by(watch.states, kept * n)
        evaluate_step(coefficients, degree, n, theta, state)
        happens = happens_at(watch, event, time, state)
        if happens < 0:
            return float(FAILED)
        if happens == 0:
            continue
        times[kept], which[kept] = time, event
        keep_after(watch, kept, n, state)
        kept += 1
        if watch.stop[event] == PASSES and watch.counts[event] != watch.last[event]:
            continue
        if ends == NEVER or event < control.stopped_by:
            ends = control.theta = theta
            control.stopped_by = event
    control.n_events = kept
    return control.theta


@inner
def happens_at(watch, event, time, state):
    """Whether an event happens where its function changes sign, and count it: 1, 0, or FAILED if its condition did.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    time : float
    state : float pointer, (n,)

    Returns
    -------
    int
    """
    if watch.counts[event] == watch.most[event] and watch.most[event] > 0:
        return 0
    if has_function(watch.conditions, event):
        value = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
        if call_function(watch.conditions, event, time, state, value) != 1:
            return FAILED
        if value[0] == 0.0:
            return 0
    watch.counts[event] += 1
    return 1


@inner
def keep_after(watch, index, n, state):
    """Keep state and modes after an event, where events act.

    Parameters
    ----------
    watch : Watch
    index : int
        Row of the event among those that were found.
    n : int
        Number of states.
    state : float pointer, (n,)
    """
    if watch.acting == 0:
        return
    for k in range(n):
        watch.after[index * n + k] = state[k]
    for k in range(watch.n_modes):
        watch.modes[index * watch.n_modes + k] = watch.context[watch.mode_slots[k]]
