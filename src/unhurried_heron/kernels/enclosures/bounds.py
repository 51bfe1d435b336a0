"""Bounds of one formula on one interval.

R. E. Moore, R. B. Kearfott and M. J. Cloud, *Introduction to Interval Analysis* (2009), chapters 2 and 5. Each end has
a little added for rounding; where an end is no number, a part of the interval lies outside the formula's domain, and
nothing is known.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.enclosures.tape import (
    CHOICE,
    CONSTANT,
    FALLING,
    FIRST,
    FLAG,
    FUNCTION,
    KIND,
    LARGEST,
    LEAST,
    LESS,
    NEGATIVE,
    NOT,
    NUMBER,
    POWER,
    PRODUCT,
    QUOTIENT,
    RISING,
    ROW_SIZE,
    SAME,
    SECOND,
    SIGN,
    STEP,
    SUM,
    THIRD,
    TIME,
    UNKNOWN,
    VALUE,
    WAVE,
)
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import call_real, offset_by

# the share of each end that is added for rounding: two roundings, which is as far as functions of the C library err
_ROUNDING = 4e-16
# from one highest point of a wave to the next
_TURN = 2.0 * np.pi


@inner
def _flag(truth):
    return 1.0 if truth else 0.0


@inner
def _product(a, b):
    """Return a product, zero where nothing is multiplied by what has no bound."""
    return 0.0 if a == 0.0 or b == 0.0 else a * b


@inner
def _corners(low, high, other_low, other_high):
    """Return the bounds of a product.

    Parameters
    ----------
    low, high : float
        Of one factor.
    other_low, other_high : float
        Of the other.

    Returns
    -------
    (float, float)
    """
    one, two = _product(low, other_low), _product(low, other_high)
    three, four = _product(high, other_low), _product(high, other_high)
    return min(min(one, two), min(three, four)), max(max(one, two), max(three, four))


@inner
def _quotient(low, high, under_low, under_high):
    """Return the bounds of a quotient; it has none where its denominator may be zero.

    Parameters
    ----------
    low, high : float
        Of the numerator.
    under_low, under_high : float
        Of the denominator.

    Returns
    -------
    (float, float)
    """
    if under_low <= 0.0 <= under_high:
        return -np.inf, np.inf
    return _corners(low, high, 1.0 / under_high, 1.0 / under_low)


@inner
def _power(low, high, exponent):
    """Return the bounds of a power with a constant exponent.

    Parameters
    ----------
    low, high : float
    exponent : float

    Returns
    -------
    (float, float)
    """
    one, other = low**exponent, high**exponent
    if exponent != np.floor(exponent):
        return (one, other) if exponent > 0.0 else (other, one)
    if low <= 0.0 <= high:
        if exponent < 0.0:
            return -np.inf, np.inf
        if 0.5 * exponent == np.floor(0.5 * exponent):
            return 0.0, max(one, other)
    return min(one, other), max(one, other)


@inner
def _wave(function, low, high, highest):
    """Return the bounds of a wave.

    Parameters
    ----------
    function : int
        Its address.
    low, high : float
    highest : float
        Where it is highest, and every turn from there.

    Returns
    -------
    (float, float)
    """
    one, other = call_real(function, low), call_real(function, high)
    if one != one or other != other:
        return -1.0, 1.0
    # how often it is highest, and lowest, up to each end
    first, last = (low - highest) / _TURN, (high - highest) / _TURN
    lowest = np.floor(last - 0.5) + np.floor(0.5 - first) >= 0.0
    return -1.0 if lowest else min(one, other), 1.0 if np.floor(last) + np.floor(-first) >= 0.0 else max(one, other)


@inner
def _of_function(row, low, high, constants):
    """Return the bounds of a function of one argument.

    Parameters
    ----------
    row : int64 pointer, (ROW_SIZE,)
    low, high : float
        Of its argument.
    constants : float pointer

    Returns
    -------
    (float, float)
    """
    kind, function = row[KIND], row[FUNCTION]
    if kind == SAME:
        return low, high
    if kind == SIGN:
        return np.sign(low), np.sign(high)
    if kind == STEP:
        return _flag(low >= 0.0), _flag(high >= 0.0)
    if kind == WAVE:
        return _wave(function, low, high, constants[row[NUMBER]])
    one, other = call_real(function, low), call_real(function, high)
    if kind == RISING:
        return one, other
    if kind == FALLING:
        return other, one
    return constants[row[NUMBER]] if low <= 0.0 <= high else min(one, other), max(one, other)


@inner
def _is_true(low, high):
    return low > 0.0 or high < 0.0


@inner
def _is_false(low, high):
    return low == 0.0 and high == 0.0


@inner
def _chosen(row, ends):
    """Return the bounds of what a condition chooses: of either where it is decided, of both where it is not.

    Parameters
    ----------
    row : int64 pointer, (ROW_SIZE,)
    ends : float pointer, (rows, 2)

    Returns
    -------
    (float, float)
    """
    condition, one, other = 2 * row[FIRST], 2 * row[SECOND], 2 * row[THIRD]
    if _is_true(ends[condition], ends[condition + 1]):
        return ends[one], ends[one + 1]
    if _is_false(ends[condition], ends[condition + 1]):
        return ends[other], ends[other + 1]
    return min(ends[one], ends[other]), max(ends[one + 1], ends[other + 1])


@inner
def _of_two(kind, low, high, other):
    """Return the bounds of an operation of two operands, of the second those that a pointer holds.

    Parameters
    ----------
    kind : int
    low, high : float
        Of the first.
    other : float pointer, (2,)

    Returns
    -------
    (float, float)
    """
    if kind == SUM:
        return low + other[0], high + other[1]
    if kind == PRODUCT:
        return _corners(low, high, other[0], other[1])
    if kind == QUOTIENT:
        return _quotient(low, high, other[0], other[1])
    if kind == LEAST:
        return min(low, other[0]), min(high, other[1])
    if kind == LARGEST:
        return max(low, other[0]), max(high, other[1])
    if kind == LESS:
        return _flag(high < other[0]), _flag(low <= other[1])
    sure = _is_true(low, high) and _is_true(other[0], other[1])
    return _flag(sure), _flag(not _is_false(low, high) and not _is_false(other[0], other[1]))


@inner
def _of_row(row, ends, constants):
    """Return the bounds of what a row makes of its operands.

    Parameters
    ----------
    row : int64 pointer, (ROW_SIZE,)
    ends : float pointer, (rows, 2)
        Those of the rows before.
    constants : float pointer

    Returns
    -------
    (float, float)
    """
    kind, first = row[KIND], 2 * row[FIRST]
    if kind == UNKNOWN:
        return -np.inf, np.inf
    if kind == FLAG:
        return 0.0, 1.0
    if kind == CHOICE:
        return _chosen(row, ends)
    low, high = ends[first], ends[first + 1]
    if kind == NEGATIVE:
        return -high, -low
    if kind == NOT:
        return _flag(_is_false(low, high)), _flag(not _is_true(low, high))
    if kind == POWER:
        return _power(low, high, constants[row[NUMBER]])
    if kind >= RISING and kind <= STEP:
        return _of_function(row, low, high, constants)
    return _of_two(kind, low, high, offset_by(ends, 2 * row[SECOND]))


@inner
def enclose(enclosing, formula, row, interval, bounds):
    """Work out the bounds of a formula on an interval of time.

    Parameters
    ----------
    enclosing : Enclosing
    formula : int
    row : int
        Of the values.
    interval : float pointer, (2,)
    bounds : float pointer, (2,)
        Filled.
    """
    begin, end = enclosing.begins[formula], enclosing.begins[formula + 1]
    values = offset_by(enclosing.values, 2 * enclosing.columns * row)
    constants, ends = enclosing.constants, enclosing.ends
    for k in range(end - begin):
        own = offset_by(enclosing.tape, ROW_SIZE * (begin + k))
        kind, number = own[KIND], own[NUMBER]
        if kind == CONSTANT:
            low, high = constants[number], constants[number]
        elif kind == VALUE:
            low, high = values[2 * number], values[2 * number + 1]
        elif kind == TIME:
            low, high = interval[0], interval[1]
        else:
            low, high = _of_row(own, ends, constants)
            # infinite ends stay what they are
            low -= _ROUNDING * abs(low) if abs(low) < np.inf else 0.0
            high += _ROUNDING * abs(high) if abs(high) < np.inf else 0.0
        known = low == low and high == high
        ends[2 * k], ends[2 * k + 1] = (low, high) if known else (-np.inf, np.inf)
    bounds[0], bounds[1] = ends[2 * (end - begin) - 2], ends[2 * (end - begin) - 1]
