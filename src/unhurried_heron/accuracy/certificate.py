"""What a certificate says: values with the digits that are certain, and why there are no more."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.problem.problem import Problem

if TYPE_CHECKING:
    import pandas as pd

# The smallest number of steps of one of the runs, so that a narrow feature is not stepped over by all of them.
MIN_STEPS: Final = 701


@dataclass(frozen=True)
class Certificate:
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

    def __str__(self) -> str:
        from unhurried_heron.study.text_table import TextTable, as_text

        columns = [("time", "right"), ("state", "left"), ("certain value", "right"), ("digits", "right")]
        table = TextTable([*columns, ("error below", "right")], self.problem.title)
        for row in self.rows:
            table.add_row(f"{row['time']:.10g}", row["state"], written(row["value"], row["digits"]), str(row["digits"]),
                          f"{row['error']:.1e}")  # fmt: skip
        return as_text(table, self.statement) if self.rows else self.statement

    @property
    def statement(self) -> str:
        """Whether it is certified and by what, or how far it got and why no farther, in a sentence."""
        least = min((row["digits"] for row in self.rows), default=0)
        if self.certified:
            return (
                f"Certified to {self.digits_wanted} digits: {' and '.join(self.methods)} agree with margin at rtol "
                f"{self.rtol:.0e}; small changes of the start and the parameters grow {self.growth:.3g}-fold."
                f"{self._unseen()}"
            )
        return f"Not certified to {self.digits_wanted} digits, but to {least or 'none'}. {self.reason}"

    def _unseen(self) -> str:
        """What no run can see: a function shows itself only where it is called."""
        if self.problem.model.rates.written:
            return ""
        (start, end), unit = self.problem.interval, self.problem.units.get("t", "")
        narrow = f"{abs(end - start) / MIN_STEPS:.3g}{' ' + unit if unit else ''}"
        return f" Its rates are a function: what that does for less than {narrow} at a time could have been missed."


def written(value: float, digits: int) -> str:
    """Write a value with the digits that are certain, and no more."""
    if value == 0.0 or digits < 1:
        return "0" if value == 0.0 else "–"
    return f"{value:.{digits - 1}e}" if not 1e-4 <= abs(value) < 1e8 else f"{value:.{digits}g}"
