"""Nodes of quadrature on [0, 1], and the tableaux that collocation makes of nodes.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.5.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, Final

import numpy as np

from unhurried_heron.methods.coefficients import Row
from unhurried_heron.methods.rooted_trees import extended

# Iterations of Newton's method, which needs fewer.
_TURNS: Final = 60


def exactly(values: Any) -> Any:
    """Return the fractions that numbers of any length are, in nested tuples of the same shape."""
    if np.ndim(values):
        return tuple(exactly(each) for each in values)
    near = float(values)
    return Fraction(near) + Fraction(float(values - np.longdouble(near)))


def _legendre(degree: int, x: Any) -> tuple[Any, Any]:
    """Return the Legendre polynomials of a degree and of the one below at x in [-1, 1]."""
    before, now = np.zeros_like(x), np.ones_like(x)
    for k in range(1, degree + 1):
        before, now = now, ((2 * k - 1) * x * now - (k - 1) * before) / k
    return now, before


def _roots(degree: int, guesses: Any, plus: int) -> Any:
    """Return the roots of P_s + plus * P_(s-1) near guesses, by Newton's iteration.

    Parameters
    ----------
    degree : int
    guesses : ndarray, shape (n,)
    plus : int

    Returns
    -------
    ndarray of longdouble
    """
    x = guesses.astype(np.longdouble)
    for _ in range(_TURNS):
        now, before = _legendre(degree, x)
        third = _legendre(degree - 1, x)[1]
        derivative = degree * (before - x * now) / (1 - x * x)
        below = (degree - 1) * (third - x * before) / (1 - x * x) if degree > 1 else np.zeros_like(x)
        change = (now + plus * before) / (derivative + plus * below)
        x = x - change
        if np.abs(change).max(initial=0.0) < 4 * np.finfo(np.longdouble).eps:
            break
    return x


def gauss(stages: int) -> Any:
    """Return the nodes of Gauss, in rising order."""
    guesses = np.sort(np.polynomial.legendre.legroots([0.0] * stages + [1.0]))
    return (1 + _roots(stages, guesses, 0)) / 2


def radau_right(stages: int) -> Any:
    """Return the nodes of Radau with 1 among them."""
    inner = np.sort(np.polynomial.legendre.legroots([0.0] * (stages - 1) + [-1.0, 1.0]))[:-1]
    return np.append((1 + _roots(stages, inner, -1)) / 2, np.longdouble(1))


def lobatto(stages: int) -> Any:
    """Return the nodes of Lobatto, with 0 and 1."""
    # the roots of P_s - P_(s-2) beside -1 and 1
    series = [0.0] * (stages - 2) + [-1.0, 0.0, 1.0]
    inner = np.sort(np.polynomial.legendre.legroots(series[: stages + 1]))[1:-1].astype(np.longdouble)
    for _ in range(_TURNS):
        now, before = _legendre(stages - 1, inner)
        # P_(s-1)' vanishes there, and the equation of Legendre gives its derivative
        derivative = (stages - 1) * (before - inner * now) / (1 - inner * inner)
        bend = (2 * inner * derivative - (stages - 1) * stages * now) / (1 - inner * inner)
        inner = inner - derivative / bend
    return np.concatenate([[np.longdouble(0)], (1 + inner) / 2, [np.longdouble(1)]])


def integrals(nodes: Any, ends: Any) -> Any:
    """Return the integrals of the nodes' Lagrange polynomials from 0 to each end, shape (ends, nodes)."""
    s = len(nodes)
    indices = gauss(s)
    lengths, upwards = np.asarray(ends), indices
    weights = _gauss_weights(s)
    x = lengths[:, None] * upwards
    values = np.ones((len(lengths), s, s), dtype=np.longdouble)
    for j in range(s):
        for m in range(s):
            if m != j:
                values[:, :, j] = values[:, :, j] * (x - nodes[m]) / (nodes[j] - nodes[m])
    return lengths[:, None] * (weights[None, :, None] * values).sum(axis=1)


def _gauss_weights(stages: int) -> Any:
    x = 2 * gauss(stages) - 1
    _, before = _legendre(stages, x)
    return (1 - x * x) / (stages * before) ** 2


def collocation(nodes: Any) -> tuple[tuple[Row, ...], Row]:
    """Return the tableau of collocation at nodes: a and b."""
    c = extended(nodes)
    return exactly(integrals(c, c)), exactly(integrals(c, [np.longdouble(1)])[0])


def lobatto_iiic(stages: int) -> tuple[tuple[Row, ...], Row]:
    """Return the tableau of Lobatto IIIC: its first column is b_1, and its stages are of order s - 1."""
    c = lobatto(stages)
    b = integrals(c, [np.longdouble(1)])[0]
    # what the first column takes leaves the polynomials through the other nodes
    others = integrals(c[1:], c)
    at_start = np.ones(stages - 1, dtype=np.longdouble)
    for j in range(1, stages):
        for m in range(1, stages):
            if m != j:
                at_start[j - 1] = at_start[j - 1] * (c[0] - c[m]) / (c[j] - c[m])
    a = np.empty((stages, stages), dtype=np.longdouble)
    a[:, 0] = b[0]
    a[:, 1:] = others - b[0] * at_start
    return exactly(a), exactly(b)
