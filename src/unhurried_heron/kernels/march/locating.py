"""Locating a sign change of an event function on the polynomial of a step, to rounding."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_acceptance import FAILED
from unhurried_heron.kernels.march.functions import call_function
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import LEAVES, SCRATCH_ROW

# The spacing of doubles at one.
EPSILON = 2.220446049250313e-16
# what `locate` answers where a function leaps over zero
LEAPT = 3.0
# Points of a step at which a function is evaluated, at least.
MIN_LOOKS = 8
# how often the parabola through a smallest value is followed
_REFINED = 8
# The smallest theta at which a function is evaluated beside the start of a step.
_NEAREST_PROBE = 1e-7
# A value below this share of what the function is later may be rounding.
_TELLING = 1e-12
# A continuous function changes about proportionally to the width of what is looked at: over this many times the last
# bracket, by more than twice what it changes in the bracket itself. A leap is the same over both.
_WIDER = 100.0
# values below this share of what the function was in the step are zero, as far as rounding tells
_ROUNDING = 1e-12
# Where a zero is this near to one end of its bracket, as a share of it,
_NEAR_END = 0.1
# the next look is beyond it by up to this multiple of its distance, so that the other end follows.
_BEYOND = 8.0
# values up to this tell the side of a function that is zero (`actions`, `sides`)
_MARK = 1e-290


@inner
def value_at(watch, event, theta, start, step, coefficients, shape):
    """Return the code of an event function on the step, and its value.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    theta : float
        Position in the step, from 0 to 1.
    start : float
        Time where the step begins.
    step : float
        Length of the step, negative backwards.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.

    Returns
    -------
    (int, float)
    """
    degree, n = shape
    value = offset_by(watch.values, SCRATCH_ROW * watch.m + event)
    evaluate_step(coefficients, degree, n, theta, watch.trial)
    code = call_function(watch.addresses, event, start + theta * step, watch.trial, value)
    return code, value[0]


@inner
def _where_positive(watch, event, start, step, coefficients, shape, right):
    """Return where the formula of a switch is positive, before ``right``, and its value; FAILED if it stopped.

    The march stands at the switch: where it is positive nowhere, the switch is left at once, at 0.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    start : float
        Time where the step begins.
    step : float
        Length of the step, negative backwards.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    right : float
        Theta up to which it is looked for.

    Returns
    -------
    (float, float)
    """
    theta = 0.5 * right
    while theta > _NEAREST_PROBE:
        code, g = value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED), 0.0
        if g > 0.0:
            return theta, g
        theta *= 0.5
    return 0.0, 0.0


@inner
def other_side(watch, event, now, start, step, coefficients, shape):
    """Return where a function that left zero by its event's own jump was on the other side first, and its value there.

    So a float that bounces within the first part of a step is caught. What is no more than rounding does not grow in
    proportion to the time. (0, 0) where it was nowhere, FAILED if it stopped.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    now : float
        The side that the function left.
    start : float
        Time where the step begins.
    step : float
        Length of the step, negative backwards.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.

    Returns
    -------
    (float, float)
    """
    theta, before, twice = 1.0 / MIN_LOOKS, 0.0, 0.0
    while theta > _NEAREST_PROBE:
        theta *= 0.5
        code, g = value_at(watch, event, theta, start, step, coefficients, shape)
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
def dips(watch, event, start, step, coefficients, shape, thetas, values):
    """Return where a function that is smaller at the middle of three positions has the other sign, 0 nowhere.

    Along the parabola through the smallest value and its neighbours; FAILED if it stopped.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    start : float
        Time where the step begins.
    step : float
        Length of the step, negative backwards.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    thetas : (float, float, float)
        Rising positions.
    values : (float, float, float)
        The function there.

    Returns
    -------
    float
    """
    a, b, c = thetas
    g_a, g_b, g_c = abs(values[0]), abs(values[1]), abs(values[2])
    sign = 1.0 if values[1] > 0.0 else -1.0
    for _ in range(_REFINED):
        p, q = (b - a) * (g_b - g_c), (b - c) * (g_b - g_a)
        if p == q:
            return 0.0
        theta = b - 0.5 * ((b - a) * p - (b - c) * q) / (p - q)
        if not (a < theta < c) or theta == b:
            return 0.0
        code, g = value_at(watch, event, theta, start, step, coefficients, shape)
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
def _aim(left, g_left, right, g_right, older, g_older, resolution):
    """Return where to look for the zero next: by inverse quadratic interpolation, the secant at first.

    Where that is near one end of the bracket, it reaches a little beyond the zero, so that the other end follows.

    Parameters
    ----------
    left : float
        Theta on the left of the zero.
    g_left : float
        The function there.
    right : float
        Theta on the right of it.
    g_right : float
    older : float
        Theta that was an end of the bracket before.
    g_older : float
    resolution : float
        How far beyond the zero it reaches, in theta.

    Returns
    -------
    float
    """
    near, g_near, far, g_far = right, g_right, left, g_left
    if abs(g_left) < abs(g_right):
        near, g_near, far, g_far = left, g_left, right, g_right
    theta = left
    if g_older != 0.0 and g_older != g_near and g_older != g_far:
        theta = (
            far * g_near * g_older / ((g_far - g_near) * (g_far - g_older))
            + near * g_far * g_older / ((g_near - g_far) * (g_near - g_older))
            + older * g_near * g_far / ((g_older - g_near) * (g_older - g_far))
        )
    if not (left < theta < right):
        theta = near - g_near * (far - near) / (g_far - g_near)
    share = abs(theta - near) / (right - left)
    if share < _NEAR_END:
        beyond = abs(theta - near) * min(1.0, _BEYOND * share) + 0.75 * resolution
        theta += np.copysign(beyond, far - near)
    return theta


@inner
def locate(watch, event, start, step, coefficients, shape, bounds):
    """Return theta of the sign change, by interpolation safeguarded by bisection; FAILED if the function stopped.

    LEAPT where the function is of those that can jump and is not zero there. G. Dahlquist and A. Bjorck, Numerical
    Methods in Scientific Computing I (2008), section 6.2.

    Parameters
    ----------
    watch : Watch
    event : int
        Index of the event function.
    start : float
        Time where the step begins.
    step : float
        Length of the step, negative backwards.
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    shape : (int, int)
        Degree of the step polynomial, and number of states.
    bounds : (float, float, float, float)
        Theta and value on the left of the change, and on the right.

    Returns
    -------
    float
    """
    left, g_left, right, g_right = bounds
    begun_below = g_left < 0.0
    if watch.going[event] == LEAVES and g_left <= 0.0:
        left, g_left = _where_positive(watch, event, start, step, coefficients, shape, right)
        if left <= 0.0:
            return left
        begun_below = False
    older, g_older, width = left, 0.0, right - left
    size = max(abs(g_left), abs(g_right))
    resolution = max(2.0 * EPSILON * max(abs(start), abs(step)) / abs(step), EPSILON)
    for count in range(100):
        if right - left <= resolution:
            break
        slow = False
        if count % 4 == 3:
            slow, width = right - left > 0.25 * width, right - left
        theta = _aim(left, g_left, right, g_right, older, g_older, resolution)
        # a zero on the right is nothing to aim at: the function may have been zero for a while; nor is one on the left
        # that only tells the side
        if slow or g_right == 0.0 or abs(g_left) <= _MARK or not (left < theta < right):
            theta = 0.5 * (left + right)
        code, g = value_at(watch, event, theta, start, step, coefficients, shape)
        if code != 1:
            return float(FAILED)
        if (g < 0.0) == begun_below and g != 0.0:
            older, g_older = (left, g_left) if abs(g_left) > _MARK else (left, 0.0)
            left, g_left = theta, g
        else:
            older, g_older = right, g_right
            right, g_right = theta, g
    if watch.breaks[event] == 1 and min(abs(g_left), abs(g_right)) > _ROUNDING * size:
        wider = _WIDER * max(right - left, EPSILON)
        code, before = value_at(watch, event, left - wider, start, step, coefficients, shape)
        other, after = value_at(watch, event, right + wider, start, step, coefficients, shape)
        if code == 1 and other == 1 and not abs(after - before) > 2.0 * abs(g_right - g_left):
            return LEAPT
    return right
