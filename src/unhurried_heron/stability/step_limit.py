"""What limits the fixed step of a method on a problem, as it was foreseen and seen."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.equality import ByValue
from unhurried_heron.stability.regions import Stability
from unhurried_heron.stability.stability_limited_steps import StabilityLimitedSteps, decays_that_grow
from unhurried_heron.text.stability_statements import largest_step_statement, unlimited_statement

if TYPE_CHECKING:
    import pandas as pd

# Two counts of steps this near, as a share, bracket the limit.
CLOSE: Final = 0.005


class Limits(NamedTuple):
    """What bounds a fixed step.

    Attributes
    ----------
    foreseen : float
        The largest stable step by the eigenvalues and the region.
    eigenvalue : complex
        The one that limits it.
    time : float
        When it does.
    stays, fails : int or None
        The fewest steps over the interval that stay bounded, and the most that do not; None where none were tried.
    span : float
        The length of the interval that the steps were counted over.
    chaotic : bool
        Whether longer steps stay bounded while small changes grow in them.
    """

    foreseen: float
    eigenvalue: complex
    time: float
    stays: int | None
    fails: int | None
    span: float
    chaotic: bool

    @property
    def close(self) -> bool:
        """Whether both counts, where there are two, bracket the limit."""
        if self.stays is None or self.fails is None:
            return True
        return self.stays - self.fails <= max(1.0, CLOSE * self.fails)


@dataclass(frozen=True, eq=False)
class LargestStep(ByValue):
    """The largest fixed step of a method on a problem.

    Attributes
    ----------
    method : str
    step : float
        The largest step that was seen to stay bounded and, beyond what was foreseen, not to make small changes grow as
        they do not in the solution; infinite where no decay limits it, 0 where every step grows.
    count : int
        How many such steps the interval takes, or its part up to an event that stops the run; 0 without a limit.
    foreseen : float
        What the eigenvalues along the solution and the method's region say.
    mode : complex
        The eigenvalue that limits the step, NaN without one.
    time : float
        When it does.
    fails_at : float
        The smallest step above it that was seen to leave all bounds; NaN where none was tried.
    confirmed : bool
        Whether both were seen.
    limits : Limits or None
        What was foreseen, and which counts of steps were seen to stay bounded and not to; None without a limit.
    region : Stability
        The method's.
    times : ndarray, shape (rows,)
        Where eigenvalues were looked at.
    modes : ndarray of complex, shape (rows, n_modes)
        The eigenvalues there.
    """

    method: str
    step: float
    count: int
    foreseen: float
    mode: complex
    time: float
    fails_at: float
    confirmed: bool
    limits: Limits | None = field(repr=False)
    region: Stability = field(repr=False)
    times: Array = field(repr=False)
    modes: ComplexArray = field(repr=False)

    @property
    def statement(self) -> str:
        """What was foreseen and what was seen, in sentences."""
        if self.limits is None:
            return unlimited_statement(self.region)
        return largest_step_statement(self.region, self.limits)

    def steps(self, step: float | None = None) -> StabilityLimitedSteps:
        """Return steps of this length (or another) in the region, at all points that were looked at, to be drawn.

        Parameters
        ----------
        step : float or None
            None: the largest step.

        Returns
        -------
        StabilityLimitedSteps
        """
        length = self.step if step is None else step
        length = length if math.isfinite(length) else 0.0
        rows = self.times.size
        z = self.modes * length
        return StabilityLimitedSteps(
            (self.region,),
            self.times,
            np.full(rows, length),
            z,
            np.zeros(rows, dtype=np.int64),
            decays_that_grow(self.region, z),
            np.ones(rows, dtype=np.int64),
        )

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame of one row, indexed by the method's name."""
        import pandas as pd

        names = ("method", "step", "count", "foreseen", "mode", "time", "fails_at", "confirmed")
        return pd.DataFrame([{name: getattr(self, name) for name in names}]).set_index("method")

    def __str__(self) -> str:
        return self.statement
