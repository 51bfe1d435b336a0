"""Finding events on an accepted step: sign changes, located to rounding on the step polynomial.

One shows at the ends of the step. More are looked for where a function is as near to zero as it moves in some steps,
and as often as its sines and saws turn. A step with more changes than there is room for is searched in parts.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import FAILED, NEVER, keep_events
from unhurried_heron.kernels.march.event_values import in_band
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.locating import EPSILON, MIN_LOOKS
from unhurried_heron.kernels.march.nonnegative import cut_below_zero
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.march.search import (
    MAX_LOOKS,
    TOO_MANY,
    count_looks,
    may_change,
    search_part,
    speed_between,
)
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.control import (
    BEFORE_ROW,
    DESCRIBE,
    END_DERIVATIVE_ROW,
    END_ROW,
    END_SPEED_ROW,
    REACHED_END,
    RIGHT_ROW,
    SPARE,
    START_DERIVATIVE_ROW,
    START_SPEED_ROW,
)
from unhurried_heron.kernels.memory.decoding import output_in, parts_in, system_in, watch_in

# The search found no event that ends the step,
NOTHING = 0
# it found one,
STOPS = 1
# or those found must be taken before it goes on.
FULL = 2
# and in the first part.
_FIRST_LOOKS = 64.0
# Parts of a step that are searched before the march returns for a look at budgets.
_PARTS = 64


@inner
def describe(control, parts, address):
    """Have the family form the polynomial of the present step, once; False if the rates stop the run.

    Parameters
    ----------
    control : CONTROL
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    bool
    """
    if control.described == 1:
        return True
    control.described = 1
    control.ask = DESCRIBE
    return call_kernel(parts.family, address) == REACHED_END


@inner
def _pass_part(watch):
    """Take the right end of a part of the step for the left end of the next."""
    for e in range(watch.m):
        g = watch.values[RIGHT_ROW * watch.m + e]
        if not (watch.band[e] > 0.0 and in_band(watch, e, g)):
            watch.values[e] = g


@inner
def _most_looks(watch, control, system, coefficients, shape, parts, address):
    """Describe the step if anything may change in it, and return at how many points a function is evaluated, at most.

    0 where nothing changes, FAILED if a function stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    float
    """
    most, some = float(MIN_LOOKS), False
    for e in range(watch.m):
        # The rest of a step is searched for changes of all functions.
        changes_sign = may_change(watch, control, system, e) if control.searched == 0.0 else 1
        if changes_sign < 0:
            return float(FAILED)
        if changes_sign == 0:
            continue
        if not some and not describe(control, parts, address):
            return float(FAILED)
        some = True
        if count_looks(watch, e, control.length) > MIN_LOOKS + 1:
            if not speed_between(watch, control, e, coefficients, shape):
                return float(FAILED)
            most = max(most, count_looks(watch, e, control.length))
    return most if some else 0.0


@inner
def _may_change_any(watch, control, system):
    """Evaluate the functions at the end of a step; 1 where any may have its zeros in it, 0, or FAILED if one stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System

    Returns
    -------
    int
    """
    m, some = watch.m, 0
    for e in range(m):
        value = offset_by(watch.values, END_ROW * m + e)
        if call_function(watch.addresses, e, control.finish, system.trial, value) != 1:
            return FAILED
        watch.values[END_DERIVATIVE_ROW * m + e] = np.nan
        speed = offset_by(watch.values, END_SPEED_ROW * m + e)
        if has_function(watch.speeds, e) and call_function(watch.speeds, e, control.finish, system.trial, speed) != 1:
            return FAILED
        changes_sign = may_change(watch, control, system, e)
        if changes_sign < 0:
            return FAILED
        some |= changes_sign
    return some


@inner
def find_events(watch, control, system, shape, parts, address):
    """Append the events of one step in the order they happen; return theta of the first that stops the run.

    The step is described only where the sign of one changes, or may have changed twice. NEVER: none stops it; FAILED:
    an event function did; FULL: those found so far must be taken first (``control.searching``).

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    float
    """
    coefficients = as_doubles(control.polynomial_address)
    looks = _most_looks(watch, control, system, coefficients, shape, parts, address)
    if looks <= 0.0:
        return float(FAILED) if looks < 0.0 else float(NEVER)
    widest = min(1.0, MAX_LOOKS / looks)
    # what comes together within rounding counts as one; events stand before switches, and so go first
    together = 8.0 * EPSILON * max(1.0, abs(control.time / control.length))
    # the first event that acts ends the step, so little of a step with many changes is searched at first
    width, count = min(1.0, _FIRST_LOOKS / looks), 0
    everything = control.searched > 0.0 or width < 1.0
    while control.searched < 1.0:
        count += 1
        if control.n_events + (watch.most_in_step + SPARE) * watch.m > watch.room or count > _PARTS:
            control.searching = 1
            return float(FULL)
        control.first_event = control.n_events
        end = 1.0 if control.searched + width >= 1.0 - 1e-9 * width else control.searched + width
        found = search_part(watch, control, system, coefficients, shape, (control.searched, end), everything)
        if found == FAILED:
            return float(FAILED)
        if found == TOO_MANY:
            control.n_events = control.first_event
            width, everything = 0.5 * min(width, end - control.searched), True
            continue
        theta = keep_events(watch, control, coefficients, shape, together)
        if theta != NEVER:
            return theta
        _pass_part(watch)
        control.searched = end
        width = min(2.0 * width, widest)
    return float(NEVER)


def search(address):
    """Look for events on an accepted step; ``address``: of the table of a march.

    Returns FAILED, NOTHING, STOPS with ``control.theta`` where one stops the run, or FULL.
    """
    table = as_longs(address)
    control, system, watch, output = as_control(table[0]), system_in(table), watch_in(table), output_in(table)
    control.bad_time = control.finish
    control.theta = NEVER
    control.first_event = control.n_events
    some = 1
    if control.searching == 0:
        control.searched = 0.0
        some = _may_change_any(watch, control, system)
    control.searching = 0
    # most steps end here, and are not searched
    if some != 0:
        shape = (output.size // system.n - 1, system.n)
        theta = find_events(watch, control, system, shape, parts_in(table), address) if some > 0 else float(FAILED)
        if control.searching == 1:
            return FULL
        if theta == FAILED:
            return FAILED
        if theta != NEVER:
            control.theta = theta
            return STOPS
    for e in range(watch.m):
        start, end = watch.values[e], watch.values[END_ROW * watch.m + e]
        watch.values[BEFORE_ROW * watch.m + e] = start
        if not (watch.band[e] > 0.0 and in_band(watch, e, end)):
            watch.values[e] = end
        watch.values[START_DERIVATIVE_ROW * watch.m + e] = watch.values[END_DERIVATIVE_ROW * watch.m + e]
        watch.values[START_SPEED_ROW * watch.m + e] = watch.values[END_SPEED_ROW * watch.m + e]
    return NOTHING


@inner
def move_to_event(control, system, output):
    """Move state and time to where an event stopped the step.

    Parameters
    ----------
    control : CONTROL
    system : System
    output : Output
    """
    degree = output.size // system.n - 1
    evaluate_step(as_doubles(control.polynomial_address), degree, system.n, control.theta, system.state)
    cut_below_zero(system, system.state)
    control.time += control.theta * control.length
