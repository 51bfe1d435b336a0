"""In which units a method's error estimate is measured, so that what is used of the solution keeps the tolerance."""

from __future__ import annotations

from dataclasses import dataclass

from unhurried_heron.methods.method import Method
from unhurried_heron.run.trajectory import Array


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


def as_given(method: Method, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the user's tolerances: the estimate is of the error that they bound."""
    return ErrorScale(relative, absolute)
