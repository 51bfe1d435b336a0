"""How far several answers agree, and what that says of the digits that are certain."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, IntArray
from unhurried_heron.text import certificate_document as words

# The bound on an error as a multiple of the largest difference between two answers.
_MARGIN: Final = 4.0
# The share of the change from one tolerance to the next to which the error of an answer is expected to fall: if the
# second family has converged, and if it has not.
_FALLS: Final = (0.002, 0.02)
# The share of the differences of other states below which a difference is taken to be small by chance, likewise.
_BY_CHANCE: Final = (0.05, 0.25)
_EPS: Final = float(np.finfo(float).eps)
# The rounding of the problem's own numbers, in units of the last place.
_ROUNDINGS: Final = 12.0
# The share of the last change of the second family that counts as an error if it has not converged.
_BEFORE: Final = 0.25
# The relative difference below which the answers of two families are close.
_CLOSE: Final = 1e-4
# The relative difference from which the answers of one family have jumped from one tolerance to the next.
_LEAP: Final = 1e-3
# The share of one unit of the last certain digit that the bound may fill; the rest is left for rounding the value.
_HALF: Final = 0.4
# The share of the size of its state below which a value counts as zero.
_SMALL: Final = 1e-3
# The relative size at which a perturbation has grown beyond the linear range.
_SATURATED: Final = 1e-2
# The growth of a small perturbation from which the problem itself explains missing digits.
_SENSITIVE: Final = 1e3


class Agreement(NamedTuple):
    """Values and bounds on their errors, shape (n_times, n_states).

    ``sensitive``: the part of the bounds that the problem's own numbers, rounded, account for; ``slow``: whether the
    two families came no closer when the tolerance was tightened.
    """

    values: Array
    bounds: Array
    sensitive: Array
    size: Array
    slow: bool

    def digits(self) -> IntArray:
        """Return how many significant digits are certain, int64; of what is zero to within its bound, of its size."""
        with np.errstate(divide="ignore", invalid="ignore"):
            # Rounded to two further digits, a value must stay within half a unit of its last certain
            # digit.
            share = self.bounds / np.where(self.zero, 0.5 * self.size, _HALF * np.abs(self.values))
            found = np.floor(-np.log10(np.where(share > 0.0, share, 1e-16)))
        digits: IntArray = np.clip(np.nan_to_num(found, nan=0.0, posinf=16, neginf=0), 0, 15).astype(np.int64)
        return digits

    def without(self, indices: list[Any]) -> Agreement:
        """Return the agreement with nothing certain of some states."""
        bounds = self.bounds.copy()
        bounds[:, indices] = np.inf
        return self._replace(bounds=bounds)

    def enough(self, digits: int) -> bool:
        """Whether every value has that many digits."""
        return bool((self.digits() >= digits).all())

    @property
    def zero(self) -> BoolArray:
        """Which values are zero to within their bounds."""
        return np.abs(self.values) <= self.bounds

    def by_growth(self, digits: int) -> bool:
        """Whether the problem's own sensitivity alone forbids that many digits."""
        with np.errstate(divide="ignore", invalid="ignore"):
            share = 2.0 * self.sensitive / np.maximum(np.abs(self.values), _SMALL * self.size)
        return bool((share > 10.0 ** (1 - digits)).any())

    def why(self, growth: float, span: float, unit: str) -> str:
        """Return why there are no more digits, in a sentence.

        Parameters
        ----------
        growth : float
            By what factor a small change of the problem's numbers grows.
        span : float
            The length of the interval, in ``unit``.
        unit : str
            Empty for none.

        Returns
        -------
        str
        """
        if not growth < _SENSITIVE:
            return words.sensitive(growth, span, unit)
        return words.NO_CLOSER if self.slow else words.NOT_TIGHT_ENOUGH

    def rows(self, times: list[float], states: tuple[str, ...]) -> tuple[dict[str, Any], ...]:
        """Return a row for each time and state; where nothing is certain, nor the value zero, there is no bound."""
        digits = self.digits()
        bounds = np.where(digits > 0, self.bounds, np.inf)
        values = np.where(self.zero & (digits > 0), 0.0, self.values)
        return tuple(
            {
                "time": time,
                "state": name,
                "value": (value := _rounded(float(values[i, k]), int(digits[i, k]), float(self.bounds[i, k]))),
                "digits": int(digits[i, k]),
                "error": float(bounds[i, k]) + abs(value - float(self.values[i, k])),
                "computed": float(self.values[i, k]),
            }
            for i, time in enumerate(times)
            for k, name in enumerate(states)
        )


def _rounded(value: float, digits: int, bound: float) -> float:
    """Return the shortest decimal that is as certain as the value: within half a unit of its last certain digit.

    Parameters
    ----------
    value : float
    digits : int
        That are certain.
    bound : float
        On its error.

    Returns
    -------
    float
    """
    if not digits:
        return value
    for indices in range(max(digits - 1, 0), digits + 3):
        short = float(f"{value:.{indices}e}")
        if bound + abs(short - value) <= 0.5 * 10.0**-digits * abs(value):
            return short
    return value


def grown(values: Array, moved: list[Array], size: Array, nudge: float) -> float:
    """Return by what factor a small change grew, relative to each state's size.

    Parameters
    ----------
    values : ndarray, shape (n_times, n_states)
    moved : list of ndarray
        The same from numbers that were moved.
    size : ndarray, shape (n_states,)
        Largest sizes.
    nudge : float
        By what share they were moved.

    Returns
    -------
    float
    """
    share = np.abs(np.array(moved) - values) / np.where(size > 0.0, size, 1.0)
    return float(share.max(initial=0.0) / nudge)


def agreement_of(numbers: list[Array], moved: list[Array], size: Array, nudge: float, in_time: Any = 0.0) -> Agreement:
    """Return how far answers agree.

    Parameters
    ----------
    numbers : list of ndarray, shape (n_times, n_states)
        Of two families, and of the same at a looser tolerance.
    moved : list of ndarray
        The first, from numbers that were moved by the share ``nudge``, each its own way.
    size : ndarray, shape (n_states,)
        Largest sizes.
    nudge : float
        By what share numbers were moved.
    in_time : ndarray
        How fast each state moves, times the time, at these times.

    Returns
    -------
    Agreement
    """
    one, other, one_before, other_before = numbers
    size = np.where(size > 0.0, size, 1.0)
    apart, moved_on = np.abs(one - other), np.abs(other - other_before)
    # If the second family, far tighter, has converged, the difference is the error of the first. Elsewhere two
    # answers may agree by chance, and earlier answers and the other states tell what to expect.
    rests = (moved_on <= apart) & (apart <= _CLOSE * size) & (np.abs(one) > _SMALL * size)
    falls, by_chance = (np.where(rests, calm, wary) for calm, wary in (_FALLS, _BY_CHANCE))
    tightened = np.abs(one - one_before)
    changed = np.maximum(apart, falls * tightened)
    # An answer that jumps when the tolerance is tightened has no error that falls.
    leaps = np.maximum(tightened, moved_on)
    changed = np.maximum(changed, np.where(leaps > _LEAP * size, leaps, 0.0))
    changed = np.maximum(changed, np.where(rests, 0.0, _BEFORE * moved_on))
    with np.errstate(divide="ignore", invalid="ignore"):
        usual = np.median(changed / np.maximum(np.abs(one), _SMALL * size), axis=1, keepdims=True)
    changed = np.maximum(changed, by_chance * usual * np.abs(one))
    change = np.maximum.reduce([np.abs(each - one) for each in moved])
    # The last bit of a time moves the states as well.
    sensitive = _ROUNDINGS * _EPS * (change / nudge + in_time)
    # where a small change is no longer small, nothing is known of how it grows
    sensitive = np.where(change > _SATURATED * size, size, sensitive)
    bounds = _MARGIN * changed + sensitive + _ROUNDINGS * _EPS * np.abs(one)
    slow = bool((apart > 0.5 * np.abs(one_before - other_before)).any())
    return Agreement(one, bounds, sensitive, size, slow)
