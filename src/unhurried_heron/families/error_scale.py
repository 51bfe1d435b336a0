"""In which units a method's error estimate is measured, so that what is used of the solution keeps the tolerance."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.methods.method import Method

# The relative tolerance that fixed steps are given, so that Newton's iteration has a scale.
_FIXED_STEP = 1e-10
# The share of that tolerance to which Newton's iteration solves the stages of a fixed step.
_FIXED_STEP_NEWTON = 2e-5
# The smallest share of the user's tolerance that a step of order 1 is held to: without this bound an error ten times
# smaller would take a hundred times as many steps.
_MIN_SHARE = 1e-4
# Methods up to this order are held to their hidden error; of higher ones the error between the steps bounds it.
LOW_ORDER = 3
# The ratio of a step's leading error to its estimate up to which a whole run stays within ten tolerances, measured over
# the stiff problems of the tests.
_ADDS_UP = 0.25
# The largest hidden error, as a multiple of the estimate, that tightens the tolerance of a step.
_BLIND = 6.0
# The share of the user's tolerance that the error between the steps may take if the estimate is blind to linear
# problems.
_ALONE = 0.1


@dataclass(frozen=True)
class ErrorScale:
    """Tolerances of the error estimate, shape (n_states,) each, and what else is measured in units of them.

    Attributes
    ----------
    newton : float
        The largest error of Newton's iteration; NaN where nothing is iterated.
    between : float
        The user's tolerance: the largest error between the steps; NaN where it is that at their ends.
    """

    relative: Array
    absolute: Array
    newton: float = math.nan
    between: float = math.nan


class Measure(NamedTuple):
    """The state where a march stands, shape (n_states,), and its tolerances: what vectors are measured in."""

    state: Array
    scales: ErrorScale

    def units(self) -> Array:
        """Return the error that each state may have, 1 where that is none, shape (n_states,)."""
        allowed = self.scales.relative * np.abs(self.state) + self.scales.absolute
        return np.where(allowed > 0.0, allowed, 1.0)


def proportional(method: Method, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the tolerance of a step's error for one of the solution's that goes with the user's.

    A run of length T adds up the errors of T/h steps. With local extrapolation each step is better than its estimate by
    one power of h, which makes up for their number. Otherwise the error of the solution is the power q / (q + 1) of the
    error of a step, where q is the order of the estimate; a step is therefore held to rtol^((q + 1) / q).

    Parameters
    ----------
    method : Method
    relative : ndarray, shape (n_states,)
        The user's relative tolerances.
    absolute : ndarray, shape (n_states,)
        The user's absolute tolerances.
    state : ndarray, shape (n_states,)
    fixed : bool
        Whether steps are fixed.

    Returns
    -------
    ErrorScale
    """
    q = method.estimate_order
    if fixed or method.order > q:
        return ErrorScale(relative, absolute)
    # pure absolute tolerances have no scale that such a power could refer to
    least = _MIN_SHARE if q == 1 else 0.0
    share = np.where(relative > 0.0, np.clip(np.minimum(relative, 1.0) ** (1.0 / q), least, 1.0), 1.0)
    return ErrorScale(relative * share, absolute * share)


def hidden_part(method: Any) -> float:
    """Return the factor by which the tolerance of a method of low order is tightened for its hidden error."""
    return max(min(method.hidden_error, _BLIND) / _ADDS_UP, 1.0) if method.order <= LOW_ORDER else 1.0


def with_hidden_error(method: Any, relative: Array, scale: ErrorScale) -> ErrorScale:
    """Return a tolerance for steps of a method of low order, whose errors are larger than their estimate tells.

    The errors of many steps add up. For methods of higher order the measured error between the steps bounds them, too;
    where an estimate is blind to linear problems, that measurement is the only one that shows their error.

    Parameters
    ----------
    method : Method
    relative : ndarray, shape (n_states,)
        The user's relative tolerances.
    scale : ErrorScale

    Returns
    -------
    ErrorScale
    """
    low = method.order <= LOW_ORDER
    part = hidden_part(method)
    relative_now, absolute_now = scale.relative / part, scale.absolute / part
    share = float((relative_now / np.where(relative > 0, relative, 1.0)).max(initial=0.0)) or 1.0
    seen = _ALONE if low and method.hidden_error > _BLIND else 1.0
    return ErrorScale(relative_now, absolute_now, between=seen / share)


def for_fixed_steps(state: Array) -> ErrorScale:
    """Return what Newton's iteration is held to where no tolerance says so."""
    largest = float(np.abs(state).max(initial=0.0))
    tight = _FIXED_STEP * (1e-3 * largest or 1e-3)
    return ErrorScale(np.full_like(state, _FIXED_STEP), np.full_like(state, tight), _FIXED_STEP_NEWTON)
