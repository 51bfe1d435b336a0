"""In which units a method's error estimate is measured, so that what is used of the solution keeps the tolerance."""

from __future__ import annotations

import math
from dataclasses import dataclass

from unhurried_heron.methods.method import Method
from unhurried_heron.run.trajectory import Array


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


def as_given(method: Method, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the user's tolerances: the estimate is of the error that they bound."""
    return ErrorScale(relative, absolute)
