"""Where a method is stable: its region in the plane of h lambda, from its coefficients.

E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section III.3;
E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), sections IV.2 to IV.4 and V.1.
"""

from __future__ import annotations

import math
import numbers
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import MethodError, OptionError, excerpt
from unhurried_heron.input.rules import whole
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.methods.stability import Region
from unhurried_heron.study.arguments import complex_points
from unhurried_heron.text.stability_statements import region_statements

if TYPE_CHECKING:
    import pandas as pd

# A part of the plane: (left, right), (bottom, top).
Window = tuple[tuple[float, float], tuple[float, float]]
# |R| on the border of a region is 1 but for rounding; at double roots but for its square root.
_WITHIN: Final = 1e-9
# The factor of a step may exceed one by this, for rounding.
_EXACTLY: Final = 1e-13
# Radii and directions at which the extent of a region is examined.
_RADII, _DIRECTIONS = np.geomspace(0.002, 400.0, 400), 181
# The least half width of a window, as a share of its half height.
_ROOM_BESIDE: Final = 0.5
# Room around a region, as a share of it.
_ROOM: Final = 0.12
# The window of a region without an end reaches so far from zero.
_WITHOUT_END: Final = 6.0
# Bisections of a border.
_BISECTIONS: Final = 50
# Points of a map in each direction.
_MAX_POINTS: Final = 5_000
# Points that are worth a thread.
_SHARE: Final = 20_000
# Points that are evaluated at once.
_PART: Final = 100_000


@dataclass(frozen=True, eq=False)
class StabilityMap(ByValue):
    """What a step multiplies by on a window of the plane of z = h lambda.

    Attributes
    ----------
    x, y : ndarray, shape (n_x,), (n_y,)
        Real and imaginary parts of z.
    amplification : ndarray, shape (n_y, n_x)
        |R(z)|, or the largest root of the characteristic polynomial.
    """

    x: Array = field(repr=False)
    y: Array = field(repr=False)
    amplification: Array = field(repr=False)

    @property
    def stable(self) -> BoolArray:
        """Where the amplification is at most 1, booleans of shape (n_y, n_x)."""
        return self.amplification <= 1.0 + _WITHIN


@dataclass(frozen=True, eq=False)
class Stability(ByValue):
    """The stability region of a method: called with z = h lambda it returns by what a step multiplies at most.

    Attributes
    ----------
    name : str
        The method.
    order : int
    region : Region
        Facts: ``real`` and ``imaginary`` limits, ``angle`` in degrees of the stable wedge around the negative axis,
        ``at_infinity``, ``a_stable``, ``l_stable``.
    terms : ndarray, shape (steps + 1, powers)
        The polynomial of x that the solutions of y' = lambda y solve, by rising powers of x and of z; of a one-step
        method Q(z) x - P(z) with R = P/Q.
    amplification : callable, optional
        Of z, where a method knows better than by powers of z.
    """

    name: str
    order: int
    region: Region
    terms: Array = field(repr=False)
    amplification: Callable[[Any], Any] | None = field(default=None, repr=False, compare=False)

    def __call__(self, z: Any) -> Any:
        """Return the amplification of a step, of the shape of ``z``: |R(z)|, of a multistep method the largest root."""
        points = complex_points(z, "stability")
        if self.amplification is not None:
            found = self.amplification(points)
        elif len(self.terms) == 2:
            with np.errstate(all="ignore"):
                top, bottom = (np.polyval(row[::-1], points) for row in (-self.terms[0], self.terms[1]))
                found = np.abs(top / bottom) if self.terms[1, 1:].any() else np.abs(top)
        else:
            found = _largest_roots(self.terms, np.ascontiguousarray(points).ravel()).reshape(points.shape)
        found = np.where(np.isnan(points), np.nan, np.where(np.isinf(points), self.region.at_infinity, found))
        return float(found) if found.ndim == 0 else found

    def contains(self, z: Any) -> Any:
        """Return whether steps of h lambda = z are stable; on the circle, where R is 1 in modulus, they are.

        A double root there grows, however slowly: it does not count as stable.

        Parameters
        ----------
        z : complex or array_like

        Returns
        -------
        bool, or ndarray of bool of the shape of ``z``
        """
        points = complex_points(z, "stability")
        inside = np.array(np.asarray(self(points)) <= 1.0 + _WITHIN)
        if len(self.terms) > 2:
            close = np.abs(np.asarray(self(points)) - 1.0) <= math.sqrt(_WITHIN)
            for index in np.argwhere(close):
                inside[tuple(index)] = self._simple(complex(points[tuple(index)]))
        return bool(inside) if inside.ndim == 0 else inside

    def _simple(self, z: complex) -> bool:
        """Whether no root lies outside the unit circle, and none is double on it."""
        roots = np.roots((self.terms @ z ** np.arange(self.terms.shape[1]))[::-1])
        on = roots[np.abs(roots) > 1.0 - math.sqrt(_WITHIN)]
        apart = np.abs(on[:, None] - on) + 2.0 * np.eye(on.size)
        double = bool((apart < math.sqrt(_WITHIN)).any())
        return not double and bool((np.abs(roots) <= 1.0 + _WITHIN).all())

    def order_star(self, z: Any) -> Any:
        """Return the amplification over that of the solution, |R(z)| / |exp(z)|: more than 1 in the order star.

        Parameters
        ----------
        z : complex or array_like

        Returns
        -------
        float, or ndarray of the shape of ``z``
        """
        points = complex_points(z, "stability")
        with np.errstate(all="ignore"):
            return self(points) / np.exp(points.real)

    def limit(self, direction: Any) -> Any:
        """Return how far from 0 steps are stable in a direction, a complex number; infinite where they always are.

        Parameters
        ----------
        direction : complex or array_like

        Returns
        -------
        float, or ndarray of the shape of ``direction``
        """
        query = complex_points(direction, "limit")
        with np.errstate(all="ignore"):
            rays = (query / np.abs(query)).ravel()
        found = self._limits(rays)
        # close to 0 on the imaginary axis rounding cannot tell
        found[rays == -1.0] = self.region.real
        found[(rays == 1j) | (rays == -1j)] = self.region.imaginary
        return float(found[0]) if query.ndim == 0 else found.reshape(query.shape)

    def _limits(self, rays: Any) -> Array:
        explicit = not self.terms[-1, 1:].any()
        radii = np.linspace(0.0, self._reach, 2001)[1:] if explicit else np.geomspace(1e-3, 1e6, 3001)
        outside = ~(self(radii * rays[:, None]) <= 1.0 + _EXACTLY)
        # in no direction there is no limit
        ends = outside.any(axis=1) & np.isfinite(rays)
        first = outside.argmax(axis=1)
        within, beyond = np.where(first > 0, radii[first - 1], 0.0), radii[first]
        for _ in range(_BISECTIONS):
            middle = 0.5 * (within + beyond)
            out = ~(self(middle * rays) <= 1.0 + _EXACTLY)
            within, beyond = np.where(out, within, middle), np.where(out, middle, beyond)
        limits: Array = np.where(ends, within, math.inf)
        return limits

    @cached_property
    def _reach(self) -> float:
        """Beyond what modulus of z an explicit method is never stable."""
        rays = np.exp(1j * np.linspace(0.0, math.pi, _DIRECTIONS))
        stable = self(self._radii[:, None] * rays) <= 1.0 + _WITHIN
        return float(1.2 * self._radii[stable.any(axis=1)].max(initial=1.0))

    @property
    def _radii(self) -> Array:
        """How far from 0 the region is looked at: as far as it reaches along the axis, and farther."""
        return _RADII * max(1.0, 2.0 * self.region.real / _RADII[-1]) if math.isfinite(self.region.real) else _RADII

    @cached_property
    def window(self) -> Window:
        """A part of the plane that shows the region: (left, right), (bottom, top)."""
        rays = np.exp(1j * np.linspace(0.0, math.pi, _DIRECTIONS))
        points = self._radii[:, None] * rays
        stable = self(points) <= 1.0 + _WITHIN
        # If a region has no end, its complement is shown.
        shown = points[~stable] if stable[-1].any() else points[stable]
        if not shown.size or np.abs(shown).max() >= self._radii[-2]:
            return (-_WITHOUT_END, _WITHOUT_END), (-_WITHOUT_END, _WITHOUT_END)
        left, right, top = shown.real.min(), max(shown.real.max(), 0.0), shown.imag.max()
        room = _ROOM * max(right - left, top)
        # a region that is a part of the imaginary axis is shown with what lies beside it
        beside = max(room, _ROOM_BESIDE * top - (right - left) / 2)
        return (left - beside, right + beside), (-top - room, top + room)

    def map(self, window: Window | None = None, points: int = 400) -> StabilityMap:
        """Return the amplification on a window of the plane.

        Parameters
        ----------
        window : ((left, right), (bottom, top)), optional
            By default what shows the region.
        points : int
            Along each side.

        Returns
        -------
        StabilityMap

        Raises
        ------
        OptionError
            The window has no extent.
        """
        points = whole(2, _MAX_POINTS)(points, "points", "stability, map")
        (left, right), (bottom, top) = checked_window(self.window if window is None else window)
        x, y = np.linspace(left, right, points), np.linspace(bottom, top, points)
        # the coefficients are real: what is below the axis mirrors what is above
        mirrored = bottom == -top
        upper = y[points // 2 :] if mirrored else y
        found = self(x + 1j * upper[:, None])
        if mirrored:
            found = np.concatenate([found[::-1][: points // 2], found])
        return StabilityMap(x, y, found)

    def frame(self) -> pd.DataFrame:
        """Return the facts as a DataFrame of one row, indexed by the method's name."""
        return table_of([self])

    def __str__(self) -> str:
        return "\n".join(region_statements(self))


def table_of(several: list[Stability]) -> pd.DataFrame:
    """Return the facts of several methods as a DataFrame, a row for each."""
    import pandas as pd

    rows = [
        {
            "method": each.name,
            "order": each.order,
            "real limit": each.region.real,
            "imaginary limit": each.region.imaginary,
            "A-stable": each.region.a_stable,
            "L-stable": each.region.l_stable,
            "angle": each.region.angle,
            "at infinity": each.region.at_infinity,
        }
        for each in several
    ]
    return pd.DataFrame(rows).set_index("method")


def checked_window(window: Any) -> Window:
    """Return a window of the plane.

    Raises
    ------
    OptionError
        It has no extent.
    """
    try:
        (left, right), (bottom, top) = ((float(each) for each in ends) for ends in window)
        fit = left < right and bottom < top and all(map(math.isfinite, (left, right, bottom, top)))
    except (TypeError, ValueError):
        fit = False
    if not fit:
        raise OptionError("the window is not usable", name="window", location="stability",
                          expected="((left, right), (bottom, top)), left < right and bottom < top",
                          given=excerpt(window))  # fmt: skip
    return (left, right), (bottom, top)


def _largest_roots(terms: Array, points: Any) -> Array:
    """Return the largest modulus of a root for each z."""
    # Modules that compile are loaded only when something runs.
    from unhurried_heron.kernels.machine_code.loading import load_kernel

    k, powers = terms.shape[0] - 1, terms.shape[1]
    rows, out, kernel = np.ascontiguousarray(terms), np.empty(points.size), load_kernel("linear_algebra.roots.largest")

    def work(share: slice) -> None:
        query, found, scratch = points[share], out[share], np.empty(4 * k + 2)
        kernel(np.array([query.size, k, powers, *map(address, (rows, query, found, scratch))], dtype=np.int64))

    workers = max(1, min(os.cpu_count() or 1, points.size // _SHARE))
    if workers == 1:
        work(slice(None))
        return out
    # in parts, between which Ctrl-C is heeded
    ends = np.linspace(0, points.size, max(workers, points.size // _PART) + 1).astype(int).tolist()
    pool = ThreadPoolExecutor(workers)
    try:
        list(pool.map(work, map(slice, ends[:-1], ends[1:])))
    finally:
        pool.shutdown(cancel_futures=True)
    return out


def stability(method: str | Method, *, order: int | None = None, stages: int | None = None) -> Stability:
    """Return the stability region of a method.

    Parameters
    ----------
    method : str or Method
        A predictor with a corrector is taken as it is applied: predict, evaluate, correct, evaluate.
    order : int, optional
        Of a multistep method of variable order: which order, at equal steps.
    stages : int, optional
        Of a stabilised method: how many; the most that it takes without.

    Returns
    -------
    Stability

    Raises
    ------
    MethodError
        The method is unknown, has no orders or stages to choose from, or does not tell its stability function.

    Examples
    --------
    >>> import unhurried_heron as uh
    >>> classical = uh.stability("classical-rk-4")
    >>> round(classical.region.real, 4), classical.contains(-2.7), classical.contains(-2.8)
    (2.7853, True, False)
    """
    chosen: Any = find_method(method)
    if order is not None:
        most = chosen.highest if capabilities(chosen).several_orders else 0
        if not isinstance(order, numbers.Integral) or not 1 + (not chosen.implicit) <= order <= most:
            raise MethodError(f"{chosen.name} has no such order", name="order", location="stability",
                              expected=f"an order up to {most}" if most else "no order=…: it has one order alone",
                              given=excerpt(order))  # fmt: skip
        chosen = chosen.of_order(order)
    if stages is not None:
        if not capabilities(chosen).several_stages:
            raise MethodError(f"{chosen.name} has its own number of stages", name="stages", location="stability",
                              expected="no stages=…", given=excerpt(stages))  # fmt: skip
        chosen = chosen.of_stages(stages)
    terms = getattr(chosen, "characteristic", None)
    if terms is None and hasattr(chosen, "stability"):
        from unhurried_heron.methods.stability import characteristic_of

        terms = characteristic_of(chosen.stability)
    if terms is None:
        raise MethodError(f"{chosen.name} does not tell its stability function", name=chosen.name, location="stability",
                          expected="a method with a property 'characteristic' (methods/method.py)",
                          given=f"a method of the family {chosen.family}")  # fmt: skip
    return Stability(chosen.name, chosen.order, chosen.region, np.asarray(terms, dtype=np.float64),
                     getattr(chosen, "amplification", None))  # fmt: skip
