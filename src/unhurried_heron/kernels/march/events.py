"""Finding events on an accepted step: sign changes, located to rounding on the step polynomial.

One shows at the ends of the step. More are looked for where a function is as near to zero as it moves in some steps.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.happening import FAILED, NEVER, settle
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, call_kernel, call_native, offset_by
from unhurried_heron.kernels.memory.control import ACTS, DESCRIBE, REACHED_END
from unhurried_heron.kernels.memory.decoding import output_in, parts_in, system_in, watch_in

_EPSILON = 2.220446049250313e-16
# answers of the search
NOTHING, STOPS = 0, 1
# the direction of a switch: it is watched for falling below zero, wherever it was before
_LEAVES = 2
_NEAREST_PROBE = 1e-7
# so small a part of what a function is later may be rounding
_TELLING = 1e-12
# a function that is further from zero than it moves in so many steps is taken not to come back from there in one
_MOVES = 6.0
# in so many parts of a step it is looked at, and so often the parabola is followed
_PLACES, _REFINED = 8, 8
# of what swings more often by its sines, for each radian
_PER_RADIAN, _MOST_PLACES = 2.0, 4096


@inner
def watch_values(watch, time, state, row):
    """Evaluate every event function into a row of ``values``; True if all of them answered."""
    for e in range(watch.m):
        value = offset_by(watch.values, row * watch.m + e)
        if call_native(watch.addresses[2 * e], time, state, value, watch.addresses[2 * e + 1]) != 1:
            return False
    return True


@inner
def watch_drifts(watch, time, state, row):
    """Evaluate the derivatives along the solution into a row of ``values``, and the speeds into the row after the next.

    True if all of them answered.
    """
    for e in range(watch.m):
        function, context = watch.drifts[2 * e], watch.drifts[2 * e + 1]
        value = offset_by(watch.values, row * watch.m + e)
        if function != 0 and call_native(function, time, state, value, context) != 1:
            return False
        function, context = watch.speeds[2 * e], watch.speeds[2 * e + 1]
        value = offset_by(watch.values, (row + 2) * watch.m + e)
        if function != 0 and call_native(function, time, state, value, context) != 1:
            return False
    return True


@inner
def changes(before, after, going):
    """Whether a sign change in the wanted direction lies between two values; a zero counts where it is reached.

    A zero at the start of a step was counted at the end of the one before, or is the start of the run.
    """
    if going == _LEAVES:
        return after < 0.0
    up = before < 0.0 and after >= 0.0
    down = before > 0.0 and after <= 0.0
    return (up and going >= 0) or (down and going <= 0)


@inner
def _value_at(watch, event, theta, start, step, coefficients, shape):
    """Return the code of an event function on the step, and its value."""
    degree, n = shape
    value = offset_by(watch.values, 2 * watch.m + event)
    evaluate_step(coefficients, degree, n, theta, watch.trial)
    code = call_native(
        watch.addresses[2 * event], start + theta * step, watch.trial, value, watch.addresses[2 * event + 1]
    )
    return code, value[0]


@inner
def _where_positive(watch, event, start, step, coefficients, shape):
    """Return where the formula of a switch is positive before it falls, and its value; FAILED if it stopped.

    The march stands at the switch: where it is positive nowhere, the switch is left at once, at 0.
    """
    theta = 0.5
    while theta > _NEAREST_PROBE:
        code, g = _value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED), 0.0
        if g > 0.0:
            return theta, g
        theta *= 0.5
    return 0.0, 0.0


@inner
def _other_side(watch, event, now, start, step, coefficients, shape):
    """Return where a function that left zero by its event's own jump was on the other side first, and its value there.

    So a float that bounces within the first part of a step is caught. What is no more than rounding does not grow in
    proportion to the time. (0, 0) where it was nowhere, FAILED if it stopped.
    """
    theta, before, twice = 1.0 / _PLACES, 0.0, 0.0
    while theta > _NEAREST_PROBE:
        theta *= 0.5
        code, g = _value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED), 0.0
        if g * now < 0.0 and abs(g) > _TELLING * abs(now):
            grows = 0.2 * abs(before) < abs(g) < abs(before)
            if grows and 0.2 * abs(twice) < abs(before) < 4.0 * abs(twice) and before * twice > 0.0:
                return 4.0 * theta, twice
            twice, before = before, g
        else:
            twice = before = 0.0
    return 0.0, 0.0


@inner
def _places(watch, event, step):
    """Return at how many places a function is looked at in a step: some for each of its swings."""
    if watch.speeds[2 * event] == 0:
        return _PLACES
    speed = max(watch.values[6 * watch.m + event], watch.values[7 * watch.m + event])
    return int(min(_PLACES + _PER_RADIAN * speed * abs(step), float(_MOST_PLACES)))


@inner
def _may_change(watch, event, step):
    """Whether a function may have its zeros in the step: it has two signs, turns, or is near zero for how it moves."""
    m = watch.m
    before, left, right = watch.values[3 * m + event], watch.values[event], watch.values[m + event]
    if left * right <= 0.0 or watch.drifts[2 * event] == 0 or _places(watch, event, step) > _PLACES + 1:
        return True
    # it comes nearer at first, and goes away at last
    if watch.values[4 * m + event] * left < 0.0 and watch.values[5 * m + event] * right > 0.0:
        return True
    # where there is no step before, NaN compares false
    return min(abs(left), abs(right)) <= _MOVES * max(abs(right - left), abs(left - before))


@inner
def _dips(watch, event, start, step, coefficients, shape, places, values):
    """Return where a function that is smaller at the middle of three places has the other sign, 0 nowhere.

    Along the parabola through the smallest value and its neighbours; FAILED if it stopped.
    """
    a, b, c = places
    g_a, g_b, g_c = abs(values[0]), abs(values[1]), abs(values[2])
    sign = 1.0 if values[1] > 0.0 else -1.0
    for _ in range(_REFINED):
        p, q = (b - a) * (g_b - g_c), (b - c) * (g_b - g_a)
        if p == q:
            return 0.0
        theta = b - 0.5 * ((b - a) * p - (b - c) * q) / (p - q)
        if not (a < theta < c) or theta == b:
            return 0.0
        code, g = _value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED)
        g *= sign
        if g < 0.0:
            return theta
        if g < g_b:
            if theta < b:
                c, g_c = b, g_b
            else:
                a, g_a = b, g_b
            b, g_b = theta, g
        elif theta < b:
            a, g_a = theta, g
        else:
            c, g_c = theta, g
    return 0.0


@inner
def _locate(watch, event, start, step, coefficients, shape, bounds):
    """Return theta of the sign change: false position (Illinois) safeguarded by bisection; FAILED if it stopped.

    ``bounds``: theta and value on the left and on the right of it. G. Dahlquist and A. Bjorck, Numerical Methods in
    Scientific Computing I (2008), section 6.2.
    """
    left, g_left, right, g_right = bounds
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
        code, g = _value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED)
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
def _append(watch, control, event, theta, first):
    """Put an event among those of the step, in the order in which they happen."""
    times, which, step = watch.times, watch.which, control.length
    place = control.n_events
    time = control.time + theta * step
    while place > first and (times[place - 1] - time) * step > 0.0:
        times[place] = times[place - 1]
        which[place] = which[place - 1]
        place -= 1
    times[place] = time
    which[place] = event
    control.n_events += 1


@inner
def _find_between(watch, control, event, coefficients, shape, bounds):
    """Locate a change in the wanted direction between two places, and append it; False if a function stopped."""
    if not changes(bounds[1], bounds[3], watch.going[event]):
        return True
    theta = _locate(watch, event, control.time, control.length, coefficients, shape, bounds)
    if theta == FAILED:
        return False
    _append(watch, control, event, theta, control.first_event)
    return True


@inner
def _find_all(watch, control, event, coefficients, shape):
    """Append the changes of one function in the order of time, as many as are kept; False if it stopped."""
    start, step, going = control.time, control.length, watch.going[event]
    left, last = watch.values[event], watch.values[watch.m + event]
    limit = control.n_events + watch.most_in_step
    places = _places(watch, event, step)
    if going == _LEAVES and left <= 0.0:
        return _find_between(watch, control, event, coefficients, shape, (0.0, left, 1.0, last))
    older, old, now, searched = np.inf, np.inf, left, 0.0
    for k in range(1, places + 1):
        older, old, now = old, now, last
        if k < places:
            code, now = _value_at(watch, event, k / places, start, step, coefficients, shape)
            if code != 1:
                return False
        a, b, c = (k - 2.0) / places, (k - 1.0) / places, k / places
        if k == 1 and old == 0.0 and watch.stop[event] & ACTS != 0 and changes(-now, now, going):
            b, old = _other_side(watch, event, now, start, step, coefficients, shape)
            if b == FAILED:
                return False
        # beside the ends of the step nothing tells on which side the smallest value lies
        smallest = k == 2 or k == places or abs(old) <= min(abs(older), abs(now))
        if k > 1 and older * old > 0.0 and old * now > 0.0 and smallest:
            theta = _dips(watch, event, start, step, coefficients, shape, (a, b, c), (older, old, now))
            if theta == FAILED:
                return False
            # the same dip is met in two triples
            if theta > searched:
                searched = c if theta > b else b
                code, g = _value_at(watch, event, theta, start, step, coefficients, shape)
                near, g_near = (b, old) if theta > b else (a, older)
                far, g_far = (c, now) if theta > b else (b, old)
                if not _find_between(watch, control, event, coefficients, shape, (near, g_near, theta, g)):
                    return False
                if going == _LEAVES:
                    return True
                if not _find_between(watch, control, event, coefficients, shape, (theta, g, far, g_far)):
                    return False
        if not _find_between(watch, control, event, coefficients, shape, (b, old, c, now)):
            return False
        if control.n_events > limit - 2 or (going == _LEAVES and now < 0.0):
            return True
    return True


@inner
def find_events(watch, control, shape, parts, address):
    """Append the events of one step in the order they happen; return theta of the first that stops the run.

    The step is described only where the sign of one changes, or may have changed twice.

    ``values`` rows 0 and 1 hold the event functions at both ends, row 3 those one step before, rows 4 and 5 their
    drifts at both ends, 6 and 7 their speeds. NEVER: none stops it; FAILED: an event function did.
    """
    start, step = control.time, control.length
    coefficients = as_doubles(control.place)
    control.theta = NEVER
    control.first_event = control.n_events
    for e in range(watch.m):
        if not _may_change(watch, e, step):
            continue
        if not describe(control, parts, address):
            return float(FAILED)
        if not _find_all(watch, control, e, coefficients, shape):
            return float(FAILED)
    # what comes together within rounding counts as one; events stand before switches, and so go first
    together = 8.0 * _EPSILON * max(1.0, abs(start / step))
    return settle(watch, control, coefficients, shape, together)


def search(address):
    """Look for events on an accepted step; ``address``: of the table of a march.

    Returns FAILED, NOTHING, or STOPS with ``control.theta`` where one stops the run.
    """
    table = as_longs(address)
    control, system, watch, output = as_control(table[0]), system_in(table), watch_in(table), output_in(table)
    control.bad_time = control.finish
    if not watch_values(watch, control.finish, system.trial, 1):
        return FAILED
    if not watch_drifts(watch, control.finish, system.trial, 5):
        return FAILED
    shape = (output.size // system.n - 1, system.n)
    theta = find_events(watch, control, shape, parts_in(table), address)
    if theta == FAILED:
        return FAILED
    if theta != NEVER:
        control.theta = theta
        return STOPS
    for e in range(watch.m):
        watch.values[3 * watch.m + e] = watch.values[e]
        watch.values[e] = watch.values[watch.m + e]
        watch.values[4 * watch.m + e] = watch.values[5 * watch.m + e]
        watch.values[6 * watch.m + e] = watch.values[7 * watch.m + e]
    return NOTHING


@inner
def move_to_event(control, system, output):
    """Move state and time to where an event stopped the step."""
    degree = output.size // system.n - 1
    evaluate_step(as_doubles(control.place), degree, system.n, control.theta, system.state)
    control.time += control.theta * control.length
