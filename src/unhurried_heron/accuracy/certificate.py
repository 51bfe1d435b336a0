"""What a certificate says: values with the digits that are certain, and why there are no more."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.equality import ByValue
from unhurried_heron.problem.problem import Problem
from unhurried_heron.text.document import Document

if TYPE_CHECKING:
    import pandas as pd

# The smallest number of steps of one of the runs, so that a narrow feature is not stepped over by all of them.
MIN_STEPS: Final = 701


@dataclass(frozen=True, eq=False)
class Certificate(ByValue):
    """States with the number of digits that are certain.

    Attributes
    ----------
    problem : Problem
    digits_wanted : int
        Digits that were asked for.
    certified : bool
        Whether every value has them.
    rows : tuple of dict
        For each time and state ``time``, ``state``, ``value`` (the shortest decimal that is as certain),
        ``digits`` (significant ones that are certain; where the value is zero to within its error, of the largest size
        of the state), ``error`` (a bound on the absolute error, infinite without) and ``computed``: the value as it
        was computed, without rounding.
    methods : tuple of str
        The two families' methods.
    rtol : float
        The tightest tolerance that was run.
    growth : float
        By what factor a small change of the start and of the parameters grows, relative to each state's size.
    reason : str
        Why there are no more digits, in a sentence; empty where it is certified.
    """

    problem: Problem
    digits_wanted: int
    certified: bool
    rows: tuple[dict[str, Any], ...] = field(hash=False)
    methods: tuple[str, ...]
    rtol: float
    growth: float
    reason: str = field(default="")

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame, a row for each time and state."""
        import pandas as pd

        return pd.DataFrame(list(self.rows), columns=["time", "state", "value", "digits", "error", "computed"])

    def document(self) -> Document:
        """Return the values with their certain digits, and the statement below."""
        from unhurried_heron.text.certificate_document import certificate_document

        return certificate_document(self)

    def __str__(self) -> str:
        return str(self.document())

    @property
    def statement(self) -> str:
        """Whether it is certified and by what, or how far it got and why no farther, in a sentence."""
        from unhurried_heron.text.certificate_document import certificate_statement

        start, end = self.problem.interval
        # a function shows itself only where it is called
        narrowest = None if self.problem.model.rates.written else abs(end - start) / MIN_STEPS
        return certificate_statement(self, narrowest)
