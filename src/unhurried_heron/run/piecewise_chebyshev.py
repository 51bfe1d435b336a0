"""A quantity along a run as polynomials, and what can be read off them: zeros, turning points, integrals.

On each piece the quantity is interpolated at Chebyshev points; pieces on which that is not yet exact to rounding, as at
a kink or for a steep formula, are halved. Zeros are eigenvalues (L. N. Trefethen, *Approximation Theory and
Approximation Practice* (2013), chapters 3, 8 and 18); a piece on which the size of the first coefficient exceeds the
sum of all others has none.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np
from numpy.polynomial import chebyshev

from unhurried_heron.arrays import Array
from unhurried_heron.run.columns import LARGEST

# Chebyshev points of a piece.
_POINTS: Final = 16
# The last coefficients, as a share of the largest, below which a piece is resolved.
_EXACT: Final = 1e-13
# Rounding of a value, in sizes of the coefficients.
_ROUNDING: Final = 64 * float(np.finfo(float).eps)
# Rounding of a time, as a share of it.
_TIME: Final = 4 * float(np.finfo(float).eps)
# Halvings of a piece.
_MAX_HALVINGS: Final = 30
# Pieces that are evaluated at once.
_AT_ONCE: Final = 4096
# Values above this share of the largest stand for infinity.
_BEYOND: Final = 0.1
# Pieces that each step may become on average,
_MAX_OF_EACH: Final = 20
# and in all besides.
_MAX_MORE: Final = 100_000


def chebyshev_points(count: int) -> tuple[Array, Array]:
    """Return Chebyshev points, and the discrete cosine transform from values there to coefficients."""
    nodes = np.cos(np.pi * (np.arange(count) + 0.5) / count)
    transform = (2.0 / count) * np.cos(np.outer(np.arange(count), np.arccos(nodes)))
    transform[0] *= 0.5
    return nodes, transform


_NODES, _TO_COEFFICIENTS = chebyshev_points(_POINTS)


@dataclass(frozen=True)
class PiecewisePolynomial:
    """A quantity as Chebyshev series.

    Attributes
    ----------
    starts, lengths : ndarray, shape (n_pieces,)
        In the order of the run; lengths are negative where it goes backwards.
    coefficients : ndarray, shape (n_pieces, n_points)
        On x = 2 (t - start) / length - 1.
    quantity : callable, optional
        The quantity itself, of times of shape (n,), where there is one to be asked.
    """

    starts: Array
    lengths: Array
    coefficients: Array
    quantity: Callable[[Array], Array] | None = None

    def minus(self, value: float) -> PiecewisePolynomial:
        """Return the quantity less a constant."""
        coefficients = self.coefficients.copy()
        coefficients[:, 0] -= value
        given = self.quantity
        return PiecewisePolynomial(
            self.starts, self.lengths, coefficients, given and (lambda times: given(times) - value)
        )

    def derivative(self) -> PiecewisePolynomial:
        """Return the derivative by the time."""
        derived = chebyshev.chebder(self.coefficients, axis=1) * (2.0 / self.lengths[:, None])
        return PiecewisePolynomial(self.starts, self.lengths, derived)

    def integral(self, low: float, high: float) -> float:
        """Return the integral from one time to a later one, both within the pieces; NaN where it has no finite one."""
        ends = self.starts + self.lengths
        first, last = np.minimum(self.starts, ends), np.maximum(self.starts, ends)
        left, right = np.clip(low, first, last), np.clip(high, first, last)
        touched = right > left
        sizes = np.abs(self.coefficients[touched]).sum(axis=1)
        if not (sizes < _BEYOND * LARGEST).all():
            return math.nan
        whole = PiecewisePolynomial(self.starts[touched], self.lengths[touched], self.coefficients[touched])
        primitive = chebyshev.chebint(whole.coefficients, axis=1) * (0.5 * whole.lengths[:, None])
        amounts = _values(primitive, whole.position_of(right[touched])) - _values(
            primitive, whole.position_of(left[touched])
        )
        return float(np.sum(amounts))

    def position_of(self, times: Array) -> Array:
        """Return where a time of each piece lies on it, from -1 to 1."""
        position: Array = np.clip(2.0 * (times - self.starts) / self.lengths - 1.0, -1.0, 1.0)
        return position

    @cached_property
    def _noise(self) -> Array:
        """What counts as zero on each piece: what rounding makes of the quantity, and of the time."""
        sizes = np.abs(self.coefficients)
        moved = sizes[:, 1:].sum(axis=1)
        noise: Array = _ROUNDING * sizes.sum(axis=1) + _TIME * np.abs(self.starts / self.lengths) * moved
        return noise

    def changes(self) -> tuple[float, Array, Array]:
        """Return the first sign, the times at which it changes, and the signs afterwards, in the order of the run.

        Also where it changes from one piece to the next. Where the quantity stays zero for a while it is the first time
        of that that counts; where it only touches zero it does not.
        """
        first = np.sign(np.where(np.abs(self.coefficients[:, 0]) > self._noise, self.coefficients[:, 0], 0.0))
        times, signs, at, looked = [], [], 0, []
        for k, inside in self._with_zeros():
            edges = np.concatenate([[-1.0], inside, [1.0]])
            middle = 0.5 * (edges[1:] + edges[:-1])
            values = chebyshev.chebval(middle, self.coefficients[k])
            # a piece that ends just beyond a kink goes on as if there were none
            looked.append(self.starts[k] + 0.5 * (middle + 1.0) * self.lengths[k])
            times += [self.starts[at:k], self.starts[k] + 0.5 * (edges[:-1] + 1.0) * self.lengths[k]]
            signs += [first[at:k], np.sign(np.where(np.abs(values) > self._noise[k], values, 0.0))]
            at = k + 1
        when, sign = np.concatenate([*times, self.starts[at:]]), np.concatenate([*signs, first[at:]])
        if looked and self.quantity is not None:
            seen = np.split(self.quantity(np.concatenate(looked)), np.cumsum([each.size for each in looked])[:-1])
            signs[1::2] = [
                np.where(np.sign(value) == sign, sign, 0.0) for value, sign in zip(seen, signs[1::2], strict=True)
            ]
            sign = np.concatenate([*signs, first[at:]])
        # where it is zero for a while, the sign before is carried on, and the change is when that began
        filled = np.flatnonzero(sign != 0.0)
        changed = np.flatnonzero(np.diff(sign[filled]) != 0.0)
        begins = float(sign[filled[0]]) if filled.size else 0.0
        return begins, when[filled[changed] + 1], sign[filled[changed + 1]]

    def _with_zeros(self) -> Iterator[tuple[int, Array]]:
        """Yield each piece that has zeros, and these from -1 to 1, without those at its ends."""
        rest = np.abs(self.coefficients[:, 1:]).sum(axis=1)
        for k in np.flatnonzero((rest > 0.0) & (np.abs(self.coefficients[:, 0]) <= rest + self._noise)).tolist():
            series = self.coefficients[k]
            size = np.abs(series).max()
            used = int(np.flatnonzero(np.abs(series) > 0.5 * _ROUNDING * size)[-1]) + 1
            if used < 2:
                continue
            roots = chebyshev.chebroots(series[:used])
            real = np.sort(roots.real[(np.abs(roots.imag) < 1e-6) & (np.abs(roots.real) < 1.0)])
            if real.size:
                yield k, real


def _values(series: Array, indices: Array) -> Array:
    """Return the value of each series at its own index."""
    total, before = np.zeros(len(series)), np.zeros(len(series))
    for k in range(series.shape[1] - 1, 0, -1):
        total, before = series[:, k] + 2.0 * indices * total - before, total
    values: Array = series[:, 0] + indices * total - before
    return values


def pieces_of(quantity: Callable[[Array], Array], starts: Array, lengths: Array) -> PiecewisePolynomial:
    """Interpolate a quantity, a function of times of shape (n,), on pieces.

    Where it is no number, nor are the coefficients. A quantity that swings faster than the largest number of pieces can
    follow is told as well as these do.

    Parameters
    ----------
    quantity : callable
    starts : ndarray, shape (n_pieces,)
    lengths : ndarray, shape (n_pieces,)

    Returns
    -------
    PiecewisePolynomial
    """
    done: list[tuple[Array, Array, Array]] = []
    room = _MAX_MORE + _MAX_OF_EACH * starts.size
    for begin in range(0, starts.size, _AT_ONCE):
        left, length = starts[begin : begin + _AT_ONCE], lengths[begin : begin + _AT_ONCE]
        for halving in range(_MAX_HALVINGS + 1):
            at = left[:, None] + 0.5 * (_NODES + 1.0) * length[:, None]
            with np.errstate(all="ignore"):
                values = np.clip(quantity(at.ravel()).reshape(at.shape), -LARGEST, LARGEST)
                coefficients = values @ _TO_COEFFICIENTS.T
                sizes = np.abs(values).max(axis=1)
                tail = np.abs(coefficients[:, -2:]).max(axis=1)
                # times are rounded, too, which shows where pieces are short
                rounded = _ROUNDING * np.abs(left / length) * (values.max(axis=1) - values.min(axis=1))
                good = (tail <= _EXACT * sizes + rounded) | ~np.isfinite(values).any(axis=1)
            room -= int(good.sum())
            if halving == _MAX_HALVINGS or 2 * (~good).sum() > room:
                # a jump or a kink, in an interval as short as rounding: a straight line, which does not swing
                if halving == _MAX_HALVINGS:
                    coefficients[~good] = 0.0
                    coefficients[~good, 0] = 0.5 * (values[~good, 0] + values[~good, -1])
                    coefficients[~good, 1] = 0.5 * (values[~good, 0] - values[~good, -1])
                good[:] = True
            done.append((left[good], length[good], coefficients[good]))
            left, length = left[~good], length[~good]
            if not left.size:
                break
            left, length = np.concatenate([left, left + 0.5 * length]), np.concatenate([0.5 * length, 0.5 * length])
    if not done:
        return PiecewisePolynomial(starts, lengths, np.empty((0, _POINTS)), quantity)
    left, length, coefficients = (np.concatenate(parts) for parts in zip(*done, strict=True))
    order = np.argsort(left if lengths[0] > 0 else -left, kind="stable")
    return PiecewisePolynomial(left[order], length[order], coefficients[order], quantity)
