"""All solutions of a system of polynomials, complex ones too, by following them from those of a simple system.

A. J. Sommese and C. W. Wampler, *The Numerical Solution of Systems of Polynomials Arising in Engineering and Science*
(2005), chapters 2, 3 and 8: as many paths as the product of the degrees, in projective coordinates, with a random
complex constant, so that paths meet with probability zero.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, ComplexArray, IntArray
from unhurried_heron.formulas.rational import Polynomial, degree

# Paths that are followed.
MAX_PATHS: Final = 256
# Corrections of a step along a path,
_CORRECTIONS: Final = 3
# and what is left after them.
_NEAR: Final = 1e-8
# The first step of a path,
_STARTING_LENGTH: Final = 0.02
# the longest,
_LONGEST_STEP: Final = 0.1
# and the shortest.
_SHORTEST_STEP: Final = 1e-11
# Steps of all paths.
_MAX_STEPS: Final = 4000
# Before the end by this much it is looked at where paths are,
_LATE: Final = 1e-5
# and by this much once more.
_LATER: Final = 1e-8
# Where a path goes to infinity, its first coordinate falls by this factor in between.
_FALLS: Final = 0.6
# Steps of Newton's method at the end: where a solution is not single, it only halves errors, and these do not become
_LAST_STEPS: Final = 12
# as small as this.
_EXACT: Final = 1e-9
# What is smaller than this is zero.
_ROUNDING: Final = 1e-12
# Solutions are one if they differ by no more than this share.
_ONE: Final = 1e-6


@dataclass(frozen=True)
class Solutions:
    """Solutions of a system of polynomials.

    Attributes
    ----------
    found : ndarray of complex, shape (n_found, n)
        Where paths came to, finite ones.
    exact : ndarray of bool, shape (n_found,)
        Whether Newton's method converged there, as it does at single solutions.
    paths, infinite : int
        How many there were, and how many went to infinity.
    """

    found: ComplexArray
    exact: BoolArray
    paths: int
    infinite: int

    @property
    def complete(self) -> bool:
        """Whether all paths came to single solutions, all different, or went to infinity."""
        if not self.exact.all() or len(self.found) + self.infinite != self.paths:
            return False
        for k, each in enumerate(self.found):
            apart = np.abs(self.found[k + 1 :] - each).max(axis=1, initial=0.0)
            if (apart <= _ONE * max(float(np.abs(each).max()), _ONE)).any():
                return False
        return True


def solutions_of(system: Sequence[Polynomial], seed: int = 0) -> Solutions | None:
    """Return all isolated solutions of as many polynomials as unknowns; None where there are too many paths.

    Parameters
    ----------
    system : sequence of Polynomial
    seed : int
        Of the complex constant.

    Returns
    -------
    Solutions or None
    """
    degrees = [degree(each) for each in system]
    paths = int(np.prod(degrees, dtype=float)) if min(degrees, default=0) > 0 else 0
    if not 0 < paths <= MAX_PATHS:
        return None
    rng = np.random.default_rng(seed)
    followed = _Paths(system, degrees, rng)
    first = followed.to(1.0 - _LATE)
    later = followed.to(1.0 - _LATER)
    late = np.abs(first[:, 0]) / np.abs(first).max(axis=1)
    lost = np.abs(later[:, 0]) / np.abs(later).max(axis=1)
    infinite = (lost < _FALLS * late) & (lost < 0.1)
    with np.errstate(all="ignore"):
        points = later[~infinite, 1:] / later[~infinite, :1]
    found, exact = _polished(system, points)
    return Solutions(found, exact, paths, int(infinite.sum()))


class _Terms:
    """Homogeneous polynomials as arrays: coefficients and exponents, evaluated with all derivatives at many points."""

    def __init__(self, system: Sequence[Polynomial], degrees: Sequence[int]) -> None:
        self.parts: list[tuple[Array, IntArray]] = []
        for each, whole in zip(system, degrees, strict=True):
            exponents: IntArray = np.array([(whole - sum(key), *key) for key in each], dtype=np.int64)
            coefficients = np.array(list(each.values()))
            self.parts.append((coefficients / np.abs(coefficients).max(), exponents))
        self.most = max(degrees)

    def at(self, points: ComplexArray) -> tuple[ComplexArray, ComplexArray]:
        """Return values and derivatives.

        Parameters
        ----------
        points : ndarray of complex, shape (n_points, n + 1)

        Returns
        -------
        (ndarray, ndarray) of complex, shapes (n_points, n) and (n_points, n, n + 1)
        """
        count, size = points.shape
        powers = np.ones((self.most + 1, count, size), dtype=complex)
        for k in range(1, self.most + 1):
            powers[k] = powers[k - 1] * points
        values = np.empty((count, len(self.parts)), dtype=complex)
        derivatives = np.empty((count, len(self.parts), size), dtype=complex)
        columns = np.arange(size)
        for row, (coefficients, exponents) in enumerate(self.parts):
            factors = powers[exponents, :, columns].transpose(2, 0, 1)
            values[:, row] = factors.prod(axis=2) @ coefficients
            for k in range(size):
                changed = factors.copy()
                lower = np.maximum(exponents[:, k] - 1, 0)
                changed[:, :, k] = powers[lower, :, k].T * exponents[:, k]
                derivatives[:, row, k] = changed.prod(axis=2) @ coefficients
        return values, derivatives


class _Paths:
    """Paths from the solutions of z_k^d_k = z_0^d_k to those of a system."""

    def __init__(self, system: Sequence[Polynomial], degrees: Sequence[int], rng: np.random.Generator) -> None:
        n = len(system)
        self._target = _Terms(system, degrees)
        zero = (0,) * n
        simple: list[Polynomial] = []
        for k, each in enumerate(degrees):
            only = tuple(each if k == j else 0 for j in range(n))
            simple.append({only: 1.0, zero: -1.0})
        self._start = _Terms(simple, degrees)
        self._constant = np.exp(2j * np.pi * rng.random())
        # points are held on a random plane, which meets every line through zero
        self._plane = rng.standard_normal(n + 1) + 1j * rng.standard_normal(n + 1)
        grids = np.meshgrid(*(np.exp(2j * np.pi * np.arange(each) / each) for each in degrees), indexing="ij")
        roots = np.stack([grid.ravel() for grid in grids], axis=1)
        points = np.column_stack([np.ones(len(roots), dtype=complex), roots])
        self._points = points / (points @ self._plane)[:, None]
        self._when, self._steps = np.zeros(len(points)), np.full(len(points), _STARTING_LENGTH)

    def to(self, end: float) -> ComplexArray:
        """Follow all paths to a value of the homotopy's parameter, and return the points, shape (n_paths, n + 1)."""
        for _ in range(_MAX_STEPS):
            going = np.flatnonzero((self._when < end) & (self._steps >= _SHORTEST_STEP))
            if not going.size:
                break
            here, when = self._points[going], self._when[going]
            ahead = np.minimum(when + self._steps[going], end)
            with np.errstate(all="ignore"):
                predicted = here + (ahead - when)[:, None] * self._direction(here, when)
                trial, left = self._corrected(predicted, ahead)
            good = left <= _NEAR
            self._points[going[good]] = trial[good]
            self._when[going[good]] = ahead[good]
            easy = good & (np.abs(trial - predicted).max(axis=1) <= 0.02 * np.abs(trial).max(axis=1))
            steps = self._steps[going]
            steps = np.where(easy, np.minimum(1.6 * steps, _LONGEST_STEP), np.where(good, steps, 0.4 * steps))
            self._steps[going] = steps
        self._steps[:] = np.maximum(self._steps, 1e3 * _SHORTEST_STEP)
        points: ComplexArray = self._points.copy()
        return points

    def _at(self, points: ComplexArray, when: Array) -> tuple[ComplexArray, ComplexArray, ComplexArray]:
        """Return the homotopy, its derivatives with the plane, and its derivative by its parameter."""
        last, derivatives = self._target.at(points)
        first, others = self._start.at(points)
        share, rest = when[:, None], self._constant * (1.0 - when)[:, None]
        values = share * last + rest * first
        matrices = np.empty((len(points), points.shape[1], points.shape[1]), dtype=complex)
        matrices[:, :-1] = share[:, :, None] * derivatives + rest[:, :, None] * others
        matrices[:, -1] = self._plane
        return values, matrices, last - self._constant * first

    def _direction(self, points: ComplexArray, when: Array) -> ComplexArray:
        """Return how paths go on."""
        _, matrices, moving = self._at(points, when)
        return _solved(matrices, -np.column_stack([moving, np.zeros(len(points))]))

    def _corrected(self, points: ComplexArray, when: Array) -> tuple[ComplexArray, Array]:
        """Return points on the paths, and the last corrections beside their sizes."""
        length = np.full(len(points), np.inf)
        for _ in range(_CORRECTIONS):
            values, matrices, _ = self._at(points, when)
            right = np.column_stack([values, points @ self._plane - 1.0])
            step = _solved(matrices, right)
            points = points - step
            length = np.abs(step).max(axis=1) / np.abs(points).max(axis=1)
        return points, np.where(np.isfinite(length), length, np.inf)


def _solved(matrices: ComplexArray, right: ComplexArray) -> ComplexArray:
    """Return solutions of many linear systems, NaN where there is none."""
    found = np.full(right.shape, np.nan, dtype=complex)
    try:
        found[:] = np.linalg.solve(matrices, right[:, :, None])[:, :, 0]
    except np.linalg.LinAlgError:
        for row, (matrix, each) in enumerate(zip(matrices, right, strict=True)):
            try:
                found[row] = np.linalg.solve(matrix, each)
            except np.linalg.LinAlgError:
                continue
    return found


def _polished(system: Sequence[Polynomial], points: ComplexArray) -> tuple[ComplexArray, BoolArray]:
    """Return points after Newton's method on the system itself, and whether it converged."""
    terms = _Terms(system, [degree(each) for each in system])
    here, exact = points.copy(), np.zeros(len(points), dtype=bool)
    with np.errstate(all="ignore"):
        for _ in range(_LAST_STEPS):
            if not len(here):
                break
            values, matrices = terms.at(np.column_stack([np.ones(len(here)), here]))
            step = _solved(matrices[:, :, 1:], values)
            moved = here - step
            size = np.abs(step).max(axis=1) / np.maximum(np.abs(here).max(axis=1), _ROUNDING)
            usable = np.isfinite(size)
            here[usable] = moved[usable]
            exact = usable & (size <= _EXACT)
    return here, exact
