"""In which units a method's error estimate is measured, so that what is used of the solution keeps the tolerance."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from unhurried_heron.methods.catalogue import Method
from unhurried_heron.methods.collocation import Collocation
from unhurried_heron.run.trajectory import Array

# how closely Newton's iteration is solved where no tolerance says so (fixed steps)
_FIXED_STEP = 1e-10
_FIXED_STEP_NEWTON = 2e-5
# errors of several components and steps add up
_SHARE = 0.7
# the iteration's error goes into the solution as it is, so it gets a small share of the tolerance
_NEWTON_SHARE = 0.05
_ROUNDING = 8 * float(np.finfo(float).eps)


@dataclass(frozen=True)
class ErrorScale:
    """Tolerances of the error estimate, shape (n_states,) each, and what else is measured in units of them.

    Attributes
    ----------
    newton : float
        The largest error of Newton's iteration.
    between : float
        The user's tolerance: the largest error between the steps.
    """

    relative: Array
    absolute: Array
    newton: float = 0.0
    between: float = 1.0


def error_scale(method: Method, relative: Array, absolute: Array, state: Array, *, fixed: bool) -> ErrorScale:
    """Return the scale for the user's tolerances.

    The estimate of a collocation method goes with a lower power of the step, h^(q+1), than the error of its polynomial,
    h^(p+1), does. Where that error is ``rtol``, the estimate is of the size rtol^((q+1)/(p+1)).
    """
    if not isinstance(method, Collocation):
        return ErrorScale(relative, absolute)
    if fixed:
        largest = float(np.abs(state).max(initial=0.0))
        tight = _FIXED_STEP * (1e-3 * largest or 1e-3)
        return ErrorScale(np.full_like(state, _FIXED_STEP), np.full_like(state, tight), _FIXED_STEP_NEWTON)
    share = (method.embedded_order + 1) / (method.interpolant_order + 1)
    # pure absolute tolerances have no scale that such a power could refer to: the estimate is taken as it is
    with np.errstate(divide="ignore"):
        loosened = np.where(relative > 0, _SHARE * relative ** (share - 1.0), 1.0)
    between = float(1.0 / loosened.max())
    tightest = float((relative * loosened).min(where=relative > 0, initial=1.0))
    newton = max(_NEWTON_SHARE * between, _ROUNDING / tightest)
    return ErrorScale(relative * loosened, absolute * loosened, newton, between)
