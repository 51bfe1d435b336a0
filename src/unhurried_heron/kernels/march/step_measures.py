"""The extremes and the integral of quantities over the steps of a march, without keeping these.

On each step a quantity is interpolated at Chebyshev points; where that is not exact to rounding, as at a kink or for a
steep formula, parts of the step are halved. The points lie within a part, so that each side of a jump is taken for
itself.
L. N. Trefethen, *Approximation Theory and Approximation Practice* (2013), chapters 3 and 19.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import as_longs, call_native, offset_by
from unhurried_heron.kernels.memory.decoding import step_measures_in
from unhurried_heron.kernels.memory.sweep import LARGEST, N_POINTS, N_RESULTS

# The last coefficients, as a share of the largest, below which a part is resolved.
EXACT = 1e-13
# Rounding of a value, in sizes of the coefficients.
ROUNDING = 64 * float(np.finfo(float).eps)
# Halvings of a step,
MAX_HALVINGS = 26
# and parts that it may become.
MAX_PARTS = 400
# Steps towards a turning point.
TURNING_STEPS = 40
# A turning point is looked for if it may be beyond what is known by this many times the difference to its neighbour.
OVERSHOOT = 2.0


@inner
def begin_measures(given, results):
    """Write what quantities come to before the first step.

    Parameters
    ----------
    given : StepMeasures
    results : float pointer, (n_functions, 3)
    """
    for q in range(given.n_functions):
        results[N_RESULTS * q], results[N_RESULTS * q + 1], results[N_RESULTS * q + 2] = np.inf, -np.inf, 0.0


@inner
def measure_steps(given, results, count, end):
    """Take steps into the extremes and integrals of all quantities.

    Parameters
    ----------
    given : StepMeasures
    results : float pointer, (n_functions, 3)
    count : int
        Steps.
    end : float
        Where the last of them ends.
    """
    for j in range(count):
        start, length = given.starts[j], given.steps[j]
        stop = given.starts[j + 1] if j + 1 < count else end
        # a step that was cut where it began has no length
        if stop != start:
            for q in range(given.n_functions):
                _measure(given, offset_by(results, N_RESULTS * q), q, j, (stop - start) / length)


@inner
def _measure(given, result, q, j, share):
    """Take one step into one quantity, part by part.

    Parameters
    ----------
    given : StepMeasures
    result : float pointer, (3,)
    q : int
        The quantity.
    j : int
        The step.
    share : float
        How much of the step was gone.
    """
    series = offset_by(given.scratch, N_POINTS)
    level, index, parts = 0, 0, 0
    while True:
        width = share / (1 << level)
        least, most = _values(given, q, j, index * width, width)
        resolved = _interpolate(given, series, least, most, given.starts[j] / (width * given.steps[j]))
        if not (resolved or level == MAX_HALVINGS or parts + level >= MAX_PARTS):
            level, index = level + 1, 2 * index
            continue
        if not resolved and level == MAX_HALVINGS:
            # a jump or a kink, in an interval as short as rounding: a straight line, which does not swing
            first, last = given.scratch[0], given.scratch[N_POINTS - 1]
            for k in range(N_POINTS):
                series[k] = 0.0
            series[0], series[1] = 0.5 * (first + last), 0.5 * (first - last)
        _add_part(given, result, series, abs(0.5 * width * given.steps[j]))
        parts += 1
        index += 1
        while level > 0 and index % 2 == 0:
            level, index = level - 1, index // 2
        if level == 0:
            return


@inner
def _values(given, q, j, begin, width):
    """Write the values of a quantity at the points of a part of a step; return the smallest and the largest.

    Parameters
    ----------
    given : StepMeasures
    q, j : int
        Quantity and step.
    begin, width : float
        The part, in shares of the step.

    Returns
    -------
    (float, float)
    """
    values, n = given.scratch, given.n
    state = offset_by(given.scratch, 2 * N_POINTS)
    out = offset_by(state, n)
    coefficients = offset_by(given.coefficients, j * given.size)
    least, most = np.inf, -np.inf
    for i in range(N_POINTS):
        theta = begin + 0.5 * (given.nodes[i] + 1.0) * width
        evaluate_step(coefficients, given.size // n - 1, n, theta, state)
        for k in range(given.n_nonnegative):
            state[given.nonnegative[k]] = max(state[given.nonnegative[k]], 0.0)
        time = given.starts[j] + theta * given.steps[j]
        call_native(given.functions[2 * q], time, state, out, given.functions[2 * q + 1])
        value = out[0]
        if abs(value) > LARGEST:
            value = np.copysign(LARGEST, value)
        values[i] = value
        least, most = min(least, value), max(most, value)
    return least, most


@inner
def _interpolate(given, series, least, most, far):
    """Write the Chebyshev coefficients of the values; return whether they are exact to rounding.

    Parameters
    ----------
    given : StepMeasures
    series : float pointer, (N_POINTS,)
    least, most : float
        The smallest and the largest value.
    far : float
        How many lengths of the part its time is away from zero, for times are rounded, too.

    Returns
    -------
    bool
    """
    for k in range(N_POINTS):
        total = 0.0
        for i in range(N_POINTS):
            total += given.transform[N_POINTS * k + i] * given.scratch[i]
        series[k] = total
    tail = max(abs(series[N_POINTS - 1]), abs(series[N_POINTS - 2]))
    allowed = EXACT * max(abs(least), abs(most)) + ROUNDING * abs(far) * (most - least)
    # what is no number does not become one by halving
    return not tail > allowed


@inner
def _add_part(given, result, series, half):
    """Take a part into the extremes and the integral.

    Parameters
    ----------
    given : StepMeasures
    result : float pointer, (3,)
    series : float pointer, (N_POINTS,)
    half : float
        Half its length of time.
    """
    first, last, area = 0.0, 0.0, 0.0
    for k in range(N_POINTS):
        last += series[k]
        first += series[k] if k % 2 == 0 else -series[k]
        if k % 2 == 0:
            area += 2.0 * series[k] / (1.0 - k * k)
    result[2] += half * area
    _add_value(result, first)
    _add_value(result, last)
    for i in range(N_POINTS):
        value = given.scratch[i]
        _add_value(result, value)
        # points go from the end of the part to its start
        after = given.scratch[i - 1] if i > 0 else last
        before = given.scratch[i + 1] if i < N_POINTS - 1 else first
        right = given.nodes[i - 1] if i > 0 else 1.0
        left = given.nodes[i + 1] if i < N_POINTS - 1 else -1.0
        if value >= after and value >= before and value + OVERSHOOT * (value - min(after, before)) > result[1]:
            _add_value(result, _turning(series, left, right))
        if value <= after and value <= before and value - OVERSHOOT * (max(after, before) - value) < result[0]:
            _add_value(result, _turning(series, left, right))


@inner
def _add_value(result, value):
    """Take a value into the extremes."""
    if value < result[0]:
        result[0] = value
    if value > result[1]:
        result[1] = value


@inner
def _at(series, x):
    """Return value and derivative of a Chebyshev series."""
    value, before, rate, rate_before = 0.0, 0.0, 0.0, 0.0
    for k in range(N_POINTS - 1, 0, -1):
        rate, rate_before = 2.0 * value + 2.0 * x * rate - rate_before, rate
        value, before = series[k] + 2.0 * x * value - before, value
    return series[0] + x * value - before, value + x * rate - rate_before


@inner
def _turning(series, left, right):
    """Return the value where a series turns between two points: where its derivative has a zero, by regula falsi.

    Parameters
    ----------
    series : float pointer, (N_POINTS,)
    left, right : float

    Returns
    -------
    float
    """
    low, high = _at(series, left)[1], _at(series, right)[1]
    if not low * high < 0.0:
        return _at(series, 0.5 * (left + right))[0]
    side = 0
    for _ in range(TURNING_STEPS):
        x = (left * high - right * low) / (high - low)
        rate = _at(series, x)[1]
        if rate == 0.0 or not left < x < right or right - left < EXACT:
            return _at(series, x)[0]
        if rate * low > 0.0:
            left, low = x, rate
            high = 0.5 * high if side == 1 else high
            side = 1
        else:
            right, high = x, rate
            low = 0.5 * low if side == -1 else low
            side = -1
    return _at(series, 0.5 * (left + right))[0]


def measure_run(address):
    """Take all steps of a run into the extremes and integrals of quantities; ``address``: of a `StepMeasures`."""
    given = step_measures_in(as_longs(address))
    begin_measures(given, given.results)
    measure_steps(given, given.results, given.n_steps, given.end[0])
    return 0
