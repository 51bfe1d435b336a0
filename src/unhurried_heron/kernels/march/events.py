"""Finding events on an accepted step: a sign change at its ends, located to rounding on the step polynomial."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, call_kernel, call_native, offset_by
from unhurried_heron.kernels.memory.control import DESCRIBE, REACHED_END
from unhurried_heron.kernels.memory.decoding import output_in, parts_in, system_in, watch_in

_EPSILON = 2.220446049250313e-16
NEVER = 2.0
# answers of the search
FAILED, NOTHING, STOPS = -1, 0, 1
# the direction of a switch: it is watched for falling below zero, wherever it was before
_LEAVES = 2
_NEAREST_PROBE = 1e-7


@inner
def watch_values(watch, time, state, row):
    """Evaluate every event function into a row of ``values``; True if all of them answered."""
    for e in range(watch.m):
        value = offset_by(watch.values, row * watch.m + e)
        if call_native(watch.addresses[2 * e], time, state, value, watch.addresses[2 * e + 1]) != 1:
            return False
    return True


@inner
def _changes(before, after, going):
    """Whether a sign change in the wanted direction lies between two values; a zero counts where it is reached.

    A zero at the start of a step was counted at the end of the one before, or is the start of the run.
    """
    if going == _LEAVES:
        return after < 0.0
    up = before < 0.0 and after >= 0.0
    down = before > 0.0 and after <= 0.0
    return (up and going >= 0) or (down and going <= 0)


@inner
def _where_positive(watch, event, start, step, coefficients, shape):
    """Return where the formula of a switch is positive before it falls, and its value; FAILED if it stopped.

    The march stands at the switch: where it is positive nowhere, the switch is left at once, at 0.
    """
    degree, n = shape
    value = offset_by(watch.values, 2 * watch.m + event)
    theta = 0.5
    while theta > _NEAREST_PROBE:
        evaluate_step(coefficients, degree, n, theta, watch.trial)
        code = call_native(
            watch.addresses[2 * event], start + theta * step, watch.trial, value, watch.addresses[2 * event + 1]
        )
        if code != 1:
            return float(FAILED), 0.0
        if value[0] > 0.0:
            return theta, value[0]
        theta *= 0.5
    return 0.0, 0.0


@inner
def _locate(watch, event, start, step, coefficients, shape):
    """Return theta of the sign change: false position (Illinois) safeguarded by bisection; FAILED if it stopped.

    G. Dahlquist and A. Bjorck, Numerical Methods in Scientific Computing I (2008), section 6.2.
    """
    degree, n = shape
    value = offset_by(watch.values, 2 * watch.m + event)
    address, context = watch.addresses[2 * event], watch.addresses[2 * event + 1]
    left, right = 0.0, 1.0
    g_left, g_right = watch.values[event], watch.values[watch.m + event]
    begun_below = g_left < 0.0
    if watch.going[event] == _LEAVES and g_left <= 0.0:
        left, g_left = _where_positive(watch, event, start, step, coefficients, shape)
        if left <= 0.0:
            return left
        begun_below = False
    side = 0
    resolution = max(2.0 * _EPSILON * max(abs(start), abs(step)) / abs(step), _EPSILON)
    for count in range(100):
        if right - left <= resolution:
            break
        # a zero on the right is no place to aim at: the function may have been zero for a while
        theta = (left * g_right - right * g_left) / (g_right - g_left)
        if count % 4 == 3 or g_right == 0.0 or not (left < theta < right):
            theta = 0.5 * (left + right)
        evaluate_step(coefficients, degree, n, theta, watch.trial)
        if call_native(address, start + theta * step, watch.trial, value, context) != 1:
            return FAILED
        g = value[0]
        if (g < 0.0) == begun_below and g != 0.0:
            left, g_left = theta, g
            if side == -1:
                g_right *= 0.5
            side = -1
        else:
            right, g_right = theta, g
            if side == 1:
                g_left *= 0.5
            side = 1
    return right


@inner
def describe(control, parts, address):
    """Have the family form the polynomial of the present step, once; False if the rates stop the run."""
    if control.described == 1:
        return True
    control.described = 1
    control.ask = DESCRIBE
    return call_kernel(parts.family, address) == REACHED_END


@inner
def find_events(watch, control, shape, parts, address):
    """Append the events of one step in the order they happen; return theta of the first that stops the run.

    The step is described only where the sign of one changes.

    ``values`` rows 0 and 1 hold the event functions at both ends. NEVER: none stops it; FAILED: an event function
    did.
    """
    _, n = shape
    start, step, coefficients = control.time, control.length, as_doubles(control.place)
    times, which = watch.times, watch.which
    first_stop = NEVER
    first = control.n_events
    # what comes together within rounding counts as one; events stand before switches, and so go first
    together = 8.0 * _EPSILON * max(1.0, abs(start / step))
    for e in range(watch.m):
        if not _changes(watch.values[e], watch.values[watch.m + e], watch.going[e]):
            continue
        if not describe(control, parts, address):
            return FAILED
        theta = _locate(watch, e, start, step, coefficients, shape)
        if theta == FAILED:
            return FAILED
        if watch.stop[e] == 1 and theta < first_stop - together:
            first_stop = theta
            control.stopped_by = e
        place = control.n_events
        time = start + theta * step
        while place > first and (times[place - 1] - time) * step > 0.0:
            times[place] = times[place - 1]
            which[place] = which[place - 1]
            place -= 1
        times[place] = time
        which[place] = e
        control.n_events += 1
    # what lies beyond the stopping event never happened
    beyond = first_stop + (together if first_stop != NEVER else 0.0)
    while control.n_events > first and (times[control.n_events - 1] - (start + beyond * step)) * step > 0.0:
        control.n_events -= 1
    for place in range(first, control.n_events):
        theta = (times[place] - start) / step
        evaluate_step(coefficients, shape[0], n, theta, offset_by(watch.states, place * n))
    return first_stop


def search(address):
    """Look for events on an accepted step; ``address``: of the table of a march.

    Returns FAILED, NOTHING, or STOPS with ``control.theta`` where one stops the run.
    """
    table = as_longs(address)
    control, system, watch, output = as_control(table[0]), system_in(table), watch_in(table), output_in(table)
    control.bad_time = control.finish
    if not watch_values(watch, control.finish, system.trial, 1):
        return FAILED
    shape = (output.size // system.n - 1, system.n)
    theta = find_events(watch, control, shape, parts_in(table), address)
    if theta == FAILED:
        return FAILED
    if theta != NEVER:
        control.theta = theta
        return STOPS
    for e in range(watch.m):
        watch.values[e] = watch.values[watch.m + e]
    return NOTHING


@inner
def move_to_event(control, system, output):
    """Move state and time to where an event stopped the step."""
    degree = output.size // system.n - 1
    evaluate_step(as_doubles(control.place), degree, system.n, control.theta, system.state)
    control.time += control.theta * control.length
