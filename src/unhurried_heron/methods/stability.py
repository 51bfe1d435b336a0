"""The stability function of a Runge-Kutta method, as two polynomials."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from unhurried_heron.methods.rooted_trees import Scalar


def stability_function(
    a: Sequence[Sequence[Scalar]], b: Sequence[Scalar]
) -> tuple[tuple[Scalar, ...], tuple[Scalar, ...]]:
    """Return numerator and denominator of R(z), lowest power first.

    R(z) = det(I - z A + z 1 b^T) / det(I - z A): E. Hairer and G. Wanner, *Solving Ordinary Differential
    Equations II*, 2nd ed. (1996), proposition IV.3.2.
    """
    shifted = [[x - w for x, w in zip(row, b, strict=True)] for row in a]
    return _reversed_characteristic(shifted), _reversed_characteristic(a)


def _reversed_characteristic(m: Sequence[Sequence[Scalar]]) -> tuple[Scalar, ...]:
    """Coefficients of det(I - z M) by the Faddeev-LeVerrier recursion, trailing zeros dropped."""
    n = len(m)
    coefficients: list[Scalar] = [Fraction(1)]
    power: list[list[Scalar]] = [[Fraction(0)] * n for _ in range(n)]
    for k in range(1, n + 1):
        for i in range(n):
            power[i][i] += coefficients[-1]
        power = [[sum((row[j] * power[j][col] for j in range(n)), Fraction(0)) for col in range(n)] for row in m]
        coefficients.append(-sum((power[i][i] for i in range(n)), Fraction(0)) / k)
    while abs(float(coefficients[-1])) < 1e-14:
        coefficients.pop()
    return tuple(coefficients)
