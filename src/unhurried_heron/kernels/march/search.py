"""The changes of one function after another in a part of a step."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import FAILED
from unhurried_heron.kernels.march.event_values import (
    changes,
    in_band,
    is_calm,
    turns_back,
)
from unhurried_heron.kernels.march.functions import call_function, has_function
from unhurried_heron.kernels.march.locating import LEAPT, MIN_LOOKS, dips, locate, other_side, value_at
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import (
    ACTS,
    BEFORE_ROW,
    END_ROW,
    END_SPEED_ROW,
    LEAVES,
    RIGHT_ROW,
    SCRATCH_ROW,
    START_SPEED_ROW,
)

# Looks for each radian that sines turn.
_PER_RADIAN = 2.0
# A part of a step was searched for one function,
SEARCHED = 1
# or holds more changes than it may.
TOO_MANY = 2
# no part of a step is shorter than this share of it: what changes more often is noise
_SHORTEST_PART = 1e-9
# Looks in one part of a step at most,
MAX_LOOKS = 4096.0
# A function that is further from zero than it moves in this many steps is taken not to reach zero within one; where it
# moves calmly, further than it moves in one.
_MOVES = 6.0


@inner
def count_looks(watch, event, step):
    """Return at how many points of a step a function is looked at: some for each of its swings.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    step : float
        Length of the step, negative backwards.

    Returns
    -------
    float
    """
    if not has_function(watch.speeds, event):
        return float(MIN_LOOKS)
    m = watch.m
    speed = max(watch.values[START_SPEED_ROW * m + event], watch.values[END_SPEED_ROW * m + event])
    return MIN_LOOKS + _PER_RADIAN * speed * abs(step)


@inner
def speed_between(watch, control, event, coefficients, shape):
    """Heed how fast a function swings between the ends of the step, too; False if it stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.

    Returns
    -------
    bool
    """
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
def _append(watch, control, event, theta, side):
    """Put an event among those of the step, in the order in which they happen.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.
    theta : float
        Position in the step, from 0 to 1.
    side : float
        The side of zero to which it changes, 1 or -1.
    """
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
    """Locate a change in the wanted direction between two points, and append it; False if a function stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    bounds : (float, float, float, float)
        Theta and value on the left of the change, and on the right.

    Returns
    -------
    bool
    """
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
    """Return a value, or the side on which a function is that has acted and not yet been away from zero.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    value : float
    left : float

    Returns
    -------
    float
    """
    if watch.band[event] == 0.0:
        return value
    if in_band(watch, event, value):
        return left
    watch.band[event] = 0.0
    return value


@inner
def _find_all(watch, control, event, coefficients, shape, part):
    """Append the changes of one function in a part of the step, in the order of time.

    Returns SEARCHED, TOO_MANY where there are more than one part may hold, or FAILED if the function stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    event : int
        Index of the event function.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    part : (float, float)
        Where it begins and ends, as theta.

    Returns
    -------
    int
    """
    start, step, going, (begin, end) = control.time, control.length, watch.going[event], part
    width = end - begin
    left, last = watch.values[event], watch.values[RIGHT_ROW * watch.m + event]
    limit = control.n_events + watch.most_in_step - 2
    looks = int(max(min(count_looks(watch, event, step) * width, 2.0 * MAX_LOOKS), float(MIN_LOOKS)))
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
        # Next to an end of the part nothing tells on which side the smallest value lies.
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
                    return SEARCHED
                if not _find_between(watch, control, event, coefficients, shape, (theta, g, far, g_far)):
                    return FAILED
        seems_to_change = going == LEAVES or not old * now > 0.0
        if seems_to_change and not _find_between(watch, control, event, coefficients, shape, (b, old, c, now)):
            return FAILED
        if going == LEAVES and now < 0.0:
            return SEARCHED
        if control.n_events > limit:
            return TOO_MANY if width > _SHORTEST_PART else SEARCHED
    return SEARCHED


@inner
def _values_right(watch, control, coefficients, shape, theta):
    """Set what the functions are at the right end of a part of the step; False if one stopped.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    theta : float
        The right end.

    Returns
    -------
    bool
    """
    for e in range(watch.m):
        g = watch.values[END_ROW * watch.m + e]
        if theta < 1.0:
            code, g = value_at(watch, e, theta, control.time, control.length, coefficients, shape)
            if code != 1:
                return False
        watch.values[RIGHT_ROW * watch.m + e] = g
    return True


@inner
def search_part(watch, control, system, coefficients, shape, part, everything):
    """Append what changes in a part of the step, as `_find_all` does.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    part : (float, float)
        Where it begins and ends, as theta.
    everything : bool
        Whether functions that do not seem to change are searched, too.

    Returns
    -------
    int
        SEARCHED, TOO_MANY or FAILED.
    """
    _, end = part
    if not _values_right(watch, control, coefficients, shape, end):
        return FAILED
    for e in range(watch.m):
        changes_sign = 1 if everything else may_change(watch, control, system, e)
        if changes_sign < 0:
            return FAILED
        if changes_sign == 0:
            continue
        single = 0 if everything else _changes_once(watch, control, system, e, part)
        if single < 0:
            return FAILED
        if single == 0:
            found = _find_all(watch, control, e, coefficients, shape, part)
            if found != SEARCHED:
                return found
            continue
        bounds = 0.0, watch.values[e], 1.0, watch.values[END_ROW * watch.m + e]
        if not _find_between(watch, control, e, coefficients, shape, bounds):
            return FAILED
    return SEARCHED


@inner
def _changes_once(watch, control, system, event, part):
    """Whether a function has one change in a whole step, since it has two signs and moves calmly; or FAILED.

    Parameters
    ----------
    watch : Watch
    control : CONTROL
    system : System
    event : int
        Index of the event function.
    part : (float, float)
        Where the part of the step begins and ends.

    Returns
    -------
    int
        1, 0, or FAILED if what is called stopped.
    """
    left, right = watch.values[event], watch.values[END_ROW * watch.m + event]
    if part[0] != 0.0 or part[1] != 1.0 or not left * right < 0.0 or watch.going[event] == LEAVES:
        return 0
    if watch.band[event] != 0.0 or watch.breaks[event] == 1 or not has_function(watch.derivatives, event):
        return 0
    if count_looks(watch, event, control.length) > MIN_LOOKS + 1:
        return 0
    return is_calm(watch, control, system, event)


@inner
def may_change(watch, control, system, event):
    """Whether a function may have its zeros in the step: it has two signs, turns, or is near zero for how it moves.

    1, 0, or FAILED if what is called stopped.

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
    m = watch.m
    before, left, right = watch.values[BEFORE_ROW * m + event], watch.values[event], watch.values[END_ROW * m + event]
    if left * right <= 0.0 or not has_function(watch.derivatives, event) or watch.band[event] > 0.0:
        return 1
    if count_looks(watch, event, control.length) > MIN_LOOKS + 1:
        return 1
    # where there is no step before, NaN compares false
    nearest, moves = min(abs(left), abs(right)), max(abs(right - left), abs(left - before))
    if nearest <= moves:
        return 1
    if nearest <= _MOVES * moves:
        calm = is_calm(watch, control, system, event)
        return calm if calm < 0 else 1 - calm
    return turns_back(watch, control, system, event)
