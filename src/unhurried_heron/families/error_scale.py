"""In which units a method's error estimate is measured, so that what is used of the solution keeps the tolerance."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from unhurried_heron.methods.method import Method
from unhurried_heron.run.trajectory import Array

# how closely Newton's iteration is solved where no tolerance says so (fixed steps)
_FIXED_STEP = 1e-10
_FIXED_STEP_NEWTON = 2e-5
# by order 1 no step is held to a smaller share of the tolerance: ten times as near takes ten times as many steps
_LEAST_SHARE = 1e-4
_LOW_ORDER = 3
# by this much of its estimate may the leading error of a step be, that the whole keeps within ten tolerances (measured
# over the stiff problems of the tests)
_ADDS_UP = 0.25
_BLIND = 6.0
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


def proportional(method: Method, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the tolerance of a step's error for one of the solution's that goes with the user's.

    Errors of steps add up to T/h of them. Where the solution of the higher order is carried on, that makes up for the
    power of h by which it is better than the estimate. Else, for an estimate of order q, the error of the solution goes
    with the power q / (q + 1) of the step's, which is so to be of the size rtol^((q + 1) / q).
    """
    q = method.estimate_order
    if fixed or method.order > q:
        return ErrorScale(relative, absolute)
    # pure absolute tolerances have no scale that such a power could refer to
    least = _LEAST_SHARE if q == 1 else 0.0
    share = np.where(relative > 0.0, np.clip(np.minimum(relative, 1.0) ** (1.0 / q), least, 1.0), 1.0)
    return ErrorScale(relative * share, absolute * share)


def hidden_part(method: Any) -> float:
    """Return by how much more closely steps of a method of low order follow a tolerance than their estimate tells."""
    return max(min(method.hidden_error, _BLIND) / _ADDS_UP, 1.0) if method.order <= _LOW_ORDER else 1.0


def with_hidden_error(method: Any, relative: Array, scale: ErrorScale) -> ErrorScale:
    """Return a tolerance for steps of a method of low order, whose errors are larger than their estimate tells.

    What many steps leave adds up. Of higher orders the error between the steps, which is measured, bounds that too; and
    where an estimate is blind to linear problems, that alone tells of them. ``relative``: the user's tolerance.
    """
    low = method.order <= _LOW_ORDER
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
