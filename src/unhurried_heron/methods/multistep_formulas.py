"""The classical multistep formulas, whose coefficients follow from their order."""

from __future__ import annotations

import math
from fractions import Fraction

from unhurried_heron.methods.coefficients import Row
from unhurried_heron.methods.rooted_trees import Scalar


def adams_bashforth(order: int) -> Row:
    """Return b_0 = 0, b_1, … of the explicit Adams method: the polynomial through the last rates, integrated."""
    return (Fraction(0), *_integrated([-j for j in range(order)]))


def adams_moulton(order: int) -> Row:
    """Return b_0, b_1, … of the implicit Adams method of an order."""
    return tuple(_integrated([1 - j for j in range(order)]))


def _integrated(points: list[int]) -> list[Scalar]:
    """Return the integrals from 0 to 1 of the Lagrange polynomials of points."""
    found: list[Scalar] = []
    for j in points:
        coefficients = [Fraction(1)]
        for m in points:
            if m != j:
                # times (x - m) / (j - m)
                longer = [Fraction(0), *coefficients]
                for i, value in enumerate(coefficients):
                    longer[i] -= m * value
                coefficients = [value / (j - m) for value in longer]
        found.append(sum((value / (i + 1) for i, value in enumerate(coefficients)), Fraction(0)))
    return found


def backward_differentiation(order: int) -> tuple[Row, Row]:
    """Return a and b of the method whose polynomial through the last values has the new rates."""
    total = sum((Fraction(1, j) for j in range(1, order + 1)), Fraction(0))
    a = [Fraction((-1) ** (j + 1) * math.comb(order, j), j) / total for j in range(1, order + 1)]
    return tuple(a), (1 / total,)
