"""The stability function of a one-step method, as two polynomials, and the region it spans.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), sections IV.2 and IV.3.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from fractions import Fraction
from functools import cached_property
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.methods.coefficients import Matrix
from unhurried_heron.methods.pickling import Kept
from unhurried_heron.methods.rooted_trees import Scalar, extended

Polynomials = tuple[tuple[Scalar, ...], tuple[Scalar, ...]]
# Values below this are zero.
_ZERO: Final = 1e-13
# Bisections of a limit.
_BISECTIONS: Final = 60


class Region(NamedTuple):
    """What a stability region is like.

    ``real``, ``imaginary``: the largest x for which |R| <= 1 up to h lambda = -x, or up to i x; infinite where there is
    none. ``angle``: in degrees, of the largest wedge around the negative real axis in which |R| <= 1 everywhere; 0
    without. ``at_infinity``: |R| there, infinite where it grows.
    """

    real: float
    imaginary: float
    angle: float
    at_infinity: float

    @property
    def a_stable(self) -> bool:
        """Whether the region holds the whole left half-plane."""
        return self.angle >= 90.0

    @property
    def l_stable(self) -> bool:
        """Whether very fast decays die at once, too."""
        return self.a_stable and self.at_infinity < _ZERO


class OneStep(Kept):
    """What follows from the stability function of a one-step method."""

    @property
    def stability(self) -> Polynomials:
        """Numerator and denominator of the stability function R(z), lowest power first."""
        raise NotImplementedError

    @cached_property
    def characteristic(self) -> Matrix:
        """Q(z) x - P(z), by rising powers of x (rows) and z."""
        return characteristic_of(self.stability)

    @cached_property
    def region(self) -> Region:
        """What its region of stability is like."""
        return region(self.stability)

    @property
    def real_stability_limit(self) -> float:
        """The largest x for which steps of a decay are stable up to h lambda = -x; infinite where there is none."""
        return self.region.real


def stability_function(a: Any, b: Sequence[Scalar]) -> Polynomials:
    """Return numerator and denominator of R(z), lowest power first.

    R(z) = 1 + sum of z^k b A^(k-1) 1 where A is strictly lower triangular, and det(I - z A + z 1 b^T) / det(I - z A)
    else (Hairer and Wanner, proposition IV.3.2).
    """
    n = len(a)
    if not any(any(row[i:]) for i, row in enumerate(a)):
        terms: list[Scalar] = [Fraction(1)]
        power: list[Scalar] = [Fraction(1)] * n
        for _ in range(n):
            terms.append(sum((x * y for x, y in zip(b, power, strict=True) if x), Fraction(0)))
            power = [sum((x * y for x, y in zip(row, power, strict=True) if x), Fraction(0)) for row in a]
        while abs(float(terms[-1])) < _ZERO * 1e-3:
            terms.pop()
        return tuple(terms), (Fraction(1),)
    matrix, weights = extended(a), extended(b)
    top, bottom = _reversed_characteristic(matrix - weights), _reversed_characteristic(matrix)
    return top, bottom


def _reversed_characteristic(m: Any) -> tuple[float, ...]:
    """Coefficients of det(I - z M) by the Faddeev-LeVerrier recursion, trailing zeros dropped."""
    n = len(m)
    coefficients = [np.longdouble(1)]
    power = np.zeros((n, n), dtype=np.longdouble)
    for k in range(1, n + 1):
        power = m @ (power + coefficients[-1] * np.eye(n, dtype=np.longdouble))
        coefficients.append(-power.trace() / k)
    while abs(coefficients[-1]) < _ZERO:
        coefficients.pop()
    return tuple(map(float, coefficients))


def characteristic_of(function: Polynomials) -> Matrix:
    """Return Q(z) x - P(z) of a one-step method, shape (2, powers): a row for each power of x, the lowest first."""
    top, bottom = function
    powers = max(len(top), len(bottom))
    rows = [[*map(float, part), *[0.0] * (powers - len(part))] for part in (top, bottom)]
    found: Matrix = np.array([[-x for x in rows[0]], rows[1]]) + 0.0
    return found


def value_at(function: Polynomials, z: Any) -> ComplexArray:
    """Return R(z)."""
    top, bottom = (np.polyval([float(x) for x in part][::-1], z) for part in function)
    with np.errstate(divide="ignore", invalid="ignore"):
        value: ComplexArray = np.asarray(top) / np.asarray(bottom)
    return value


def value_at_infinity(function: Polynomials) -> float:
    """Return R at infinity, infinite where it grows without bound."""
    top, bottom = function
    if len(top) > len(bottom):
        return math.inf
    return float(top[-1] / bottom[-1]) if len(top) == len(bottom) else 0.0


def follows_growth(function: Polynomials) -> float:
    """Return up to which h lambda > 0, at most 1, a method lets grow what grows: R is at least half as far above 1."""
    x = np.linspace(0.0, 1.0, 101)[1:]
    fails = ~(value_at(function, x) >= 1.0 + 0.5 * x)
    return float(x[max(int(np.argmax(fails)) - 1, 0)]) if fails.any() else 1.0


def region(function: Polynomials) -> Region:
    """Return what the region of a stability function is like."""
    at_infinity = abs(value_at_infinity(function))
    real, imaginary = limit_along(function, -1.0), limit_along(function, 1j)
    return Region(real, imaginary, _angle(function, real), at_infinity)


def _distances(function: Polynomials) -> Array:
    """Return the distances from 0 at which a ray is looked at: to where an explicit method ends, or far out."""
    stages = max(len(part) for part in function) - 1
    if len(function[1]) == 1:
        return np.linspace(0.0, 4.0 * stages**2 + 1.0, 20_001)[1:]
    return np.geomspace(1e-3, 1e6, 6001)


def limit_along(function: Polynomials, direction: complex) -> float:
    """Return how far |R| <= 1 holds from 0 in a direction (of modulus 1); infinite where it always does."""
    if _grows_at_once(function, direction):
        return 0.0
    r = _distances(function)
    outside = np.abs(value_at(function, r * direction)) > 1.0 + 1e-12
    if not outside.any():
        return math.inf
    index = int(np.argmax(outside))
    # close to 0, where |R| is 1, rounding cannot tell
    within, beyond = float(r[index - 1]) if index else 0.0, float(r[index])
    for _ in range(_BISECTIONS):
        middle = 0.5 * (within + beyond)
        if abs(value_at(function, middle * direction)) > 1.0:
            beyond = middle
        else:
            within = middle
    return within


def _grows_at_once(function: Polynomials, direction: complex) -> bool:
    """Whether |R| exceeds 1 from 0 on: by the first power of r at which |Q|^2 - |P|^2 is not zero."""
    if direction.real != 0.0 if isinstance(direction, complex) else True:
        return False
    top, bottom = (_squared_on_axis(part) for part in function)
    length = max(len(top), len(bottom))
    for k in range(1, length):
        first, second = (part[k] if k < len(part) else 0 for part in (top, bottom))
        if abs(float(second - first)) > _ZERO:
            return bool(second < first)
    return False


def _squared_on_axis(part: tuple[Scalar, ...]) -> list[Scalar]:
    """Return |P(i y)|^2 as a polynomial in y^2."""
    signed = [x * (-1) ** (k // 2) for k, x in enumerate(part)]
    result: list[Scalar] = [Fraction(0)] * len(part)
    for j, x in enumerate(signed):
        for k, y in enumerate(signed):
            if (j - k) % 2 == 0:
                result[(j + k) // 2] += x * y
    return result


def _angle(function: Polynomials, real: float) -> float:
    """Return the angle of the largest stable wedge in degrees."""
    poles = np.roots([float(x) for x in function[1]][::-1]) if len(function[1]) > 1 else np.empty(0)
    if math.isfinite(real) or (poles.real < 0.0).any():
        return 0.0
    if limit_along(function, 1j) == math.inf:
        return 90.0
    narrow, wide = 0.0, 90.0
    for _ in range(30):
        middle = 0.5 * (narrow + wide)
        direction = -complex(math.cos(math.radians(middle)), math.sin(math.radians(middle)))
        if limit_along(function, direction) == math.inf:
            narrow = middle
        else:
            wide = middle
    return narrow
