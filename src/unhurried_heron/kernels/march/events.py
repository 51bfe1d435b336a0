"""Finding events on an accepted step: sign changes, located to rounding on the step polynomial.

One shows at the ends of the step. More are looked for where a function is as near to zero as it moves in some steps,
and as often as its sines and saws turn. A step with more changes than there is room for is searched in parts.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import FAILED, NEVER, settle
from unhurried_heron.kernels.march.event_values import (
    changes,
    in_band,
    turns_back,
    watch_speeds,
    watch_values,
)
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.locating import EPSILON, LEAPT, MIN_LOOKS, dips, locate, other_side, value_at
from unhurried_heron.kernels.march.nonnegative import cut_below_zero
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.control import (
    ACTS,
    BEFORE_ROW,
    DESCRIBE,
    END_DERIVATIVE_ROW,
    END_ROW,
    END_SPEED_ROW,
    LEAVES,
    REACHED_END,
    RIGHT_ROW,
    SCRATCH_ROW,
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
# A function that is further from zero than it moves in this many steps is taken not to reach zero within one.
_MOVES = 6.0
# Looks for each radian that sines turn.
_PER_RADIAN = 2.0
# Looks in one part of a step at most,
_MAX_LOOKS = 4096.0
# and in the first part.
_FIRST_LOOKS = 64.0
# A part of a step was searched for one function,
_SEARCHED = 1
# or holds more changes than it may.
_TOO_MANY = 2
# no part of a step is shorter than this share of it: what changes more often is noise
_SHORTEST_PART = 1e-9
# Parts of a step that are searched before the march returns for a look at budgets.
_PARTS = 64


@inner
def _looks(watch, event, step):
    """Return at how many points of a step a function is looked at: some for each of its swings."""
    if not has_function(watch.speeds, event):
        return float(MIN_LOOKS)
    m = watch.m
    speed = max(watch.values[START_SPEED_ROW * m + event], watch.values[END_SPEED_ROW * m + event])
    return MIN_LOOKS + _PER_RADIAN * speed * abs(step)


@inner
def _speed_between(watch, control, event, coefficients, shape):
    """Heed how fast a function swings between the ends of the step, too; False if it stopped."""
    degree, n = shape
    speed = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
    for k in range(1, 4):
        evaluate_step(coefficients, degree, n, 0.25 * k, watch.trial)
        if call_function(watch.speeds, event, control.time + 0.25 * k * control.length, watch.trial, speed) != 1:
            return False
        index = START_SPEED_ROW * watch.m + event
        if speed[0] > watch.values[index]:
            watch.values[index] = speed[0]
    return True


@inner
def _may_change(watch, control, system, event):
    """Whether a function may have its zeros in the step: it has two signs, turns, or is near zero for how it moves.

    1, 0, or FAILED if what is called stopped.
    """
    m = watch.m
    before, left, right = watch.values[BEFORE_ROW * m + event], watch.values[event], watch.values[END_ROW * m + event]
    if left * right <= 0.0 or not has_function(watch.derivatives, event) or watch.band[event] > 0.0:
        return 1
    if _looks(watch, event, control.length) > MIN_LOOKS + 1:
        return 1
    # where there is no step before, NaN compares false
    if min(abs(left), abs(right)) <= _MOVES * max(abs(right - left), abs(left - before)):
        return 1
    return turns_back(watch, control, system, event)


@inner
def describe(control, parts, address):
    """Have the family form the polynomial of the present step, once; False if the rates stop the run."""
    if control.described == 1:
        return True
    control.described = 1
    control.ask = DESCRIBE
    return call_kernel(parts.family, address) == REACHED_END


@inner
def _append(watch, control, event, theta, side):
    """Put an event among those of the step, in the order in which they happen; ``side``: to which side it changes."""
    times, which, step = watch.times, watch.which, control.length
    index, first = control.n_events, control.first_event
    if index >= watch.room:
        control.no_room = 1
        return
    known = False
    for k in range(first, index):
        known = known or which[k] == event
    if not known:
        # the first of them is what may act
        watch.side[event] = side
    time = control.time + theta * step
    while index > first and (times[index - 1] - time) * step > 0.0:
        times[index] = times[index - 1]
        which[index] = which[index - 1]
        index -= 1
    times[index] = time
    which[index] = event
    control.n_events += 1


@inner
def _find_between(watch, control, event, coefficients, shape, bounds):
    """Locate a change in the wanted direction between two points, and append it; False if a function stopped."""
    _, g_left, _, g_right = bounds
    if not changes(g_left, g_right, watch.going[event]):
        return True
    theta = locate(watch, event, control.time, control.length, coefficients, shape, bounds)
    if theta == FAILED:
        return False
    if theta != LEAPT:
        _append(watch, control, event, theta, 1.0 if g_left < 0.0 else -1.0)
    return True


@inner
def _out_of_band(watch, event, value, left):
    """Return a value, or the side on which a function is that has acted and not yet been away from zero."""
    if watch.band[event] == 0.0:
        return value
    if in_band(watch, event, value):
        return left
    watch.band[event] = 0.0
    return value


@inner
def _find_all(watch, control, event, coefficients, shape, part):
    """Append the changes of one function in a part of the step, in the order of time.

    Returns _SEARCHED, _TOO_MANY where there are more than one part may hold, or FAILED if the function stopped.
    """
    start, step, going, (begin, end) = control.time, control.length, watch.going[event], part
    width = end - begin
    left, last = watch.values[event], watch.values[RIGHT_ROW * watch.m + event]
    limit = control.n_events + watch.most_in_step - 2
    looks = int(max(min(_looks(watch, event, step) * width, 2.0 * _MAX_LOOKS), float(MIN_LOOKS)))
    older, old, now, searched, apart = np.inf, np.inf, left, begin, width / looks
    for k in range(1, looks + 1):
        older, old, now = old, now, last
        a, b, c = begin + apart * (k - 2.0), begin + apart * (k - 1.0), begin + apart * k if k < looks else end
        if k < looks:
            code, now = value_at(watch, event, c, start, step, coefficients, shape)
            if code != 1:
                return FAILED
        if watch.band[event] != 0.0:
            now = _out_of_band(watch, event, now, left)
        if k == 1 and old == 0.0 and begin == 0.0 and watch.stop[event] & ACTS != 0 and changes(-now, now, going):
            b, old = other_side(watch, event, now, start, step, coefficients, shape)
            if b == FAILED:
                return FAILED
        # beside the ends of the part nothing tells on which side the smallest value lies
        smallest = k == 2 or k == looks or abs(old) <= min(abs(older), abs(now))
        if k > 1 and older * old > 0.0 and old * now > 0.0 and smallest and watch.band[event] == 0.0:
            theta = dips(watch, event, start, step, coefficients, shape, (a, b, c), (older, old, now))
            if theta == FAILED:
                return FAILED
            # the same dip is met in two triples
            if theta > searched:
                searched = c if theta > b else b
                code, g = value_at(watch, event, theta, start, step, coefficients, shape)
                near, g_near = (b, old) if theta > b else (a, older)
                far, g_far = (c, now) if theta > b else (b, old)
                if not _find_between(watch, control, event, coefficients, shape, (near, g_near, theta, g)):
                    return FAILED
                if going == LEAVES:
                    return _SEARCHED
                if not _find_between(watch, control, event, coefficients, shape, (theta, g, far, g_far)):
                    return FAILED
        seems_to_change = going == LEAVES or not old * now > 0.0
        if seems_to_change and not _find_between(watch, control, event, coefficients, shape, (b, old, c, now)):
            return FAILED
        if going == LEAVES and now < 0.0:
            return _SEARCHED
        if control.n_events > limit:
            return _TOO_MANY if width > _SHORTEST_PART else _SEARCHED
    return _SEARCHED


@inner
def _values_right(watch, control, coefficients, shape, theta):
    """Set what the functions are at the right end of a part of the step; False if one stopped."""
    for e in range(watch.m):
        g = watch.values[END_ROW * watch.m + e]
        if theta < 1.0:
            code, g = value_at(watch, e, theta, control.time, control.length, coefficients, shape)
            if code != 1:
                return False
        watch.values[RIGHT_ROW * watch.m + e] = g
    return True


@inner
def _search_part(watch, control, system, coefficients, shape, part, everything):
    """Append what changes in a part of the step; ``everything``: also what does not seem to. As `_find_all`."""
    _, end = part
    if not _values_right(watch, control, coefficients, shape, end):
        return FAILED
    for e in range(watch.m):
        changes_sign = 1 if everything else _may_change(watch, control, system, e)
        if changes_sign < 0:
            return FAILED
        if changes_sign == 1:
            found = _find_all(watch, control, e, coefficients, shape, part)
            if found != _SEARCHED:
                return found
    return _SEARCHED


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
    """
    most, some = float(MIN_LOOKS), False
    for e in range(watch.m):
        # the rest of a step is searched for everything
        changes_sign = _may_change(watch, control, system, e) if control.searched == 0.0 else 1
        if changes_sign < 0:
            return float(FAILED)
        if changes_sign == 0:
            continue
        if not some and not describe(control, parts, address):
            return float(FAILED)
        some = True
        if _looks(watch, e, control.length) > MIN_LOOKS + 1:
            if not _speed_between(watch, control, e, coefficients, shape):
                return float(FAILED)
            most = max(most, _looks(watch, e, control.length))
    return most if some else 0.0


@inner
def find_events(watch, control, system, shape, parts, address):
    """Append the events of one step in the order they happen; return theta of the first that stops the run.

    The step is described only where the sign of one changes, or may have changed twice. NEVER: none stops it; FAILED:
    an event function did; FULL: those found so far must be taken first (``control.searching``).
    """
    coefficients = as_doubles(control.polynomial_address)
    control.theta = NEVER
    control.first_event = control.n_events
    looks = _most_looks(watch, control, system, coefficients, shape, parts, address)
    if looks <= 0.0:
        return float(FAILED) if looks < 0.0 else float(NEVER)
    widest = min(1.0, _MAX_LOOKS / looks)
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
        found = _search_part(watch, control, system, coefficients, shape, (control.searched, end), everything)
        if found == FAILED:
            return float(FAILED)
        if found == _TOO_MANY:
            control.n_events = control.first_event
            width, everything = 0.5 * min(width, end - control.searched), True
            continue
        theta = settle(watch, control, coefficients, shape, together)
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
    if control.searching == 0:
        control.searched = 0.0
        if not watch_values(watch, control.finish, system.trial, END_ROW):
            return FAILED
        for e in range(watch.m):
            watch.values[END_DERIVATIVE_ROW * watch.m + e] = np.nan
        if not watch_speeds(watch, control.finish, system.trial, END_SPEED_ROW):
            return FAILED
    control.searching = 0
    shape = (output.size // system.n - 1, system.n)
    theta = find_events(watch, control, system, shape, parts_in(table), address)
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
    """Move state and time to where an event stopped the step."""
    degree = output.size // system.n - 1
    evaluate_step(as_doubles(control.polynomial_address), degree, system.n, control.theta, system.state)
    cut_below_zero(system, system.state)
    control.time += control.theta * control.length
