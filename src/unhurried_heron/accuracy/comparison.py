"""What a comparison found: a row for each method and setting, and what can be asked of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.accuracy.conserved_quantities import OWN_SIZE
from unhurried_heron.arrays import Array
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import RunError, as_text, excerpt
from unhurried_heron.input.rules import among
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.study.attempts import Outcome
from unhurried_heron.text.comparison_document import no_run_ended
from unhurried_heron.text.document import Document
from unhurried_heron.text.pictures import setting_of

if TYPE_CHECKING:
    import pandas as pd

COLUMNS: Final = (
    "method", "rtol", "step", "error at end", "largest error", "worst state", "accepted", "refused", "rate evaluations",
    "jacobians", "factorisations", "seconds", "limited by stability", "smallest step", "median step", "largest step",
    "newton failures", "solves", "iterations", "changes", "for stages", "for jacobians", "for starting",
    "for estimates", "for between", "seconds in all", "reference", "ending",
)  # fmt: skip
# Prefix of the columns that tell how the drift of a conserved quantity is measured.
SCALE: Final = "scale of "
# Columns that count work.
WORK: Final = (
    "rate evaluations", "accepted", "refused", "jacobians", "factorisations", "solves", "iterations", "for stages",
    "for jacobians", "for starting", "for estimates", "for between", "seconds", "seconds in all",
)  # fmt: skip
# Amounts of work rank as equal if they differ by less than this factor.
_EVEN: Final = 1.05


@dataclass(frozen=True, eq=False)
class Comparison(ByValue):
    """Several methods on one problem.

    Attributes
    ----------
    problem : Problem
    rows : tuple of dict
        One for each method and tolerance (or step), keyed by the columns of the frame.
    runs : tuple of Run or None
        The run behind each row, recorded at the times where errors were looked for (of fixed steps also at ends of
        steps, where something is conserved); None where there was none.
    outcomes : tuple of Outcome
        What became of the run behind each row.
    error_curves : tuple of (ndarray, ndarray) or None
        For each row the times at which errors were measured, and the largest error over the states at each, relative
        to the largest size that the state reaches; both of shape (n_times,).
    disagreement : float or None
        By how much two reference runs of different families differ, relative to each state's scale: errors near or
        below it are not to be trusted. None for what is certain, or a single reference.
    trusted_until : float or None
        Up to when the references agree, where they do not to the end: errors are measured up to there.
    certain : bool
        Whether errors are measured against closed forms, or a Taylor series.
    lacking : str
        Why errors are left out, where there is nothing to measure them against.
    """

    problem: Problem
    rows: tuple[dict[str, Any], ...]
    runs: tuple[Run | None, ...] = field(repr=False)
    outcomes: tuple[Outcome, ...] = field(repr=False)
    error_curves: tuple[tuple[Array, Array] | None, ...] = field(repr=False)
    disagreement: float | None
    trusted_until: float | None = None
    certain: bool = False
    lacking: str = ""

    def document(self) -> Document:
        """Return errors and work side by side, what the errors are measured against, and how far that is certain."""
        from unhurried_heron.text.comparison_document import comparison_document

        return comparison_document(self)

    def __str__(self) -> str:
        return str(self.document())

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences: what the errors of which methods are measured against, and how far that is certain."""
        from unhurried_heron.text.comparison_document import notes_of

        scales = {key.removeprefix(SCALE): row[key] for row in self.rows for key in row if key.startswith(SCALE)}
        return notes_of(self, {name: scale for name, scale in scales.items() if scale != OWN_SIZE})

    @property
    def failures(self) -> tuple[str, ...]:
        """Sentences on rows that did not reach the end."""
        from unhurried_heron.text.comparison_document import failures_of

        return failures_of(failed_rows(self.rows, self.outcomes))

    @property
    def columns(self) -> tuple[str, ...]:
        """Columns of the frame: the usual ones, and those of conserved quantities and states never negative."""
        own = dict.fromkeys(key for row in self.rows for key in row if key not in COLUMNS)
        return (*COLUMNS[:-2], *own, *COLUMNS[-2:])

    @property
    def watched_columns(self) -> tuple[str, ...]:
        """The columns of conserved quantities and states never negative that hold what was found."""
        return tuple(
            name
            for name in self.columns
            if name not in COLUMNS and not name.endswith(" at") and not name.startswith(SCALE)
        )

    def frame(self, *, sort: str | None = None) -> pd.DataFrame:
        """Return a DataFrame, one row for each method and tolerance.

        Errors are the largest over the states, each relative to the largest size the state reaches in the interval
        (absolute where that is zero). A run that did not reach the end has no error and says under ``ending`` why.
        ``limited by stability`` is the share of accepted steps that stability limited (`stability_limited_steps`);
        smallest, median and largest step leave out the last one, which ends where it must.

        Parameters
        ----------
        sort : str, optional
            A column to sort by, smallest first.

        Returns
        -------
        DataFrame
            A row for each method and tolerance.

        Raises
        ------
        RunError
            There is no such column.
        """
        import pandas as pd

        rows = self.rows if sort is None else self.sorted(sort).rows
        return pd.DataFrame(list(rows), columns=list(self.columns))

    def sorted(self, by: str) -> Comparison:
        """Return the same with its rows, and so its table, sorted by a column, smallest first, what has none last.

        Parameters
        ----------
        by : str
            The column.

        Returns
        -------
        Comparison

        Raises
        ------
        RunError
            There is no such column.
        """
        name = self._column(by, self.columns)
        cells = [row.get(name) for row in self.rows]
        order = sorted(range(len(cells)), key=lambda k: (cells[k] is None, cells[k] if cells[k] is not None else 0))
        moved: dict[str, Any] = {
            name: tuple(getattr(self, name)[k] for k in order) for name in ("rows", "runs", "outcomes", "error_curves")
        }
        return replace(self, **moved)

    @staticmethod
    def _column(name: str, known: tuple[str, ...]) -> str:
        message = f"there is no column '{as_text(name)}'"
        return str(among(known)(name, as_text(name), "comparison", message=message, error=RunError))

    def best(self, error: float, *, by: str = "rate evaluations") -> pd.DataFrame:
        """Rank the methods by the work they need for one error.

        Parameters
        ----------
        error : float
            The largest error wanted, relative to each state's size.
        by : str
            What counts as work: a column of counts or seconds.

        Returns
        -------
        DataFrame
            A row for each method, and for its fixed steps apart, the best first: ``rank`` (equal where they differ by
            less than 5 %), the work, how many ``times the best`` that is, and ``how`` it is known: between which
            settings it was interpolated (in logarithms), or which was measured, or why there is none.

        Raises
        ------
        RunError
            ``by`` counts no work, or the error is not positive.
        """
        import pandas as pd

        self._column(by, WORK)
        if not (isinstance(error, int | float) and 0.0 < error < np.inf):
            raise RunError("this is no error", name="error", location="comparison.best", expected="a positive number",
                           given=excerpt(error))  # fmt: skip
        groups: dict[tuple[str, bool], list[dict[str, Any]]] = {}
        for row in self.rows:
            groups.setdefault((row["method"], row["step"] is not None), []).append(row)
        found: list[dict[str, Any]] = []
        for (name, fixed), rows in groups.items():
            work, how = _work_at(rows, error, by)
            found.append({"method": name + ", fixed steps" * fixed, by: work, "how": how})
        found.sort(key=lambda each: (np.isnan(each[by]), each[by]))
        best = found[0][by] if found else np.nan
        rank, last = 0, np.nan
        for index, each in enumerate(found):
            if not each[by] <= _EVEN * last:
                rank, last = index + 1, each[by]
            each["rank"] = None if np.isnan(each[by]) else rank
            each["times the best"] = each[by] / best if best else np.nan
        columns = ["rank", "method", by, "times the best", "how"]
        return pd.DataFrame(found, columns=columns).astype({"rank": "Int64"})


def failed_rows(rows: Iterable[dict[str, Any]], outcomes: Iterable[Outcome]) -> list[dict[str, Any]]:
    """Return the rows whose runs did not reach the end."""
    pairs = zip(rows, outcomes, strict=True)
    return [row for row, outcome in pairs if outcome is not Outcome.REACHED_END]


def _work_at(rows: list[dict[str, Any]], error: float, by: str) -> tuple[float, str]:
    """Return the work for an error, and how it is known.

    Parameters
    ----------
    rows : list of dict
        Those of one method.
    error : float
        The largest error wanted.
    by : str
        The column that counts as work.

    Returns
    -------
    tuple[float, str]
    """
    known = [row for row in rows if row["largest error"] is not None and row[by] is not None]
    if not known:
        return np.nan, no_run_ended(rows[0]["ending"])
    known.sort(key=lambda row: -row["largest error"])
    good = [row for row in known if row["largest error"] <= error]
    if not good:
        return np.nan, f"not reached: {known[-1]['largest error']:.2g} at {setting_of(known[-1])}"
    before = known[: len(known) - len(good)]
    if not before:
        cheapest = min(good, key=lambda row: float(row[by]))
        return float(cheapest[by]), f"measured at {setting_of(cheapest)}, error {cheapest['largest error']:.2g}"
    loose, tight = before[-1], good[0]
    errors = [max(row["largest error"], 1e-300) for row in (loose, tight)]
    if not (loose[by] > 0 and tight[by] > 0):
        return float(tight[by]), f"measured at {setting_of(tight)}"
    share = np.log(errors[0] / error) / np.log(errors[0] / errors[1])
    work = float(np.exp((1.0 - share) * np.log(loose[by]) + share * np.log(tight[by])))
    return work, f"between {setting_of(loose)} and {setting_of(tight)}"
