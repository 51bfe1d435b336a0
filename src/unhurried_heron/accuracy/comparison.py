"""What a comparison found: a row for each method and setting, and what can be asked of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.accuracy.conserved_quantities import OWN_SIZE
from unhurried_heron.errors import RunError, as_text, excerpt, listing, near_spelling
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.study.attempts import Outcome

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

COLUMNS: Final = (
    "method", "rtol", "step", "error at end", "largest error", "worst state", "accepted", "refused", "rate evaluations",
    "jacobians", "factorisations", "seconds", "limited by stability", "smallest step", "median step", "largest step",
    "newton failures", "solves", "iterations", "changes", "for stages", "for jacobians", "for starting",
    "for estimates", "for between", "seconds in all", "reference", "ending",
)  # fmt: skip
# before the name of a conserved quantity: how its drift is measured
SCALE: Final = "scale of "
# what counts work
WORK: Final = (
    "rate evaluations", "accepted", "refused", "jacobians", "factorisations", "solves", "iterations", "for stages",
    "for jacobians", "for starting", "for estimates", "for between", "seconds", "seconds in all",
)  # fmt: skip
# ways of work that differ by less come out even
_EVEN: Final = 1.05


@dataclass(frozen=True)
class Comparison:
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
    disagreement: float | None
    trusted_until: float | None = None
    certain: bool = False
    lacking: str = ""

    def __str__(self) -> str:
        """The table as wide as the terminal, what its errors are measured against, and how far that is certain."""
        from unhurried_heron.study.text_table import as_text

        return as_text(*comparison_table(self))

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences: what the errors of which methods are measured against, and how far that is certain."""
        measured: dict[str, dict[str, None]] = {}
        for row in self.rows:
            if row["reference"]:
                measured.setdefault(row["reference"], {})[row["method"]] = None
        sentences = [f"Errors of {', '.join(methods)} against {reference}." for reference, methods in measured.items()]
        if self.lacking:
            sentences.append(f"Errors are left out, for no reference solution could be had: {self.lacking}.")
        if self.trusted_until is not None:
            sentences.append(
                f"The references agree to four digits up to t = {self.trusted_until:.6g} and part beyond: errors are "
                "measured up to there."
            )
        if self.disagreement is not None:
            sentences.append(f"The references differ by at most {self.disagreement:.1e}; no smaller error is certain.")
        elif sentences and not self.certain:
            sentences.append("Only one reference could be had: nothing tells how certain it is.")
        scales = {key.removeprefix(SCALE): row[key] for row in self.rows for key in row if key.startswith(SCALE)}
        sentences += [f"The drift of {name} is {scale}." for name, scale in scales.items() if scale != OWN_SIZE]
        fixed = [row["step"] is not None for row in self.rows]
        if any(fixed) and not all(fixed):
            sentences.append(
                "Some rows are of fixed steps, others follow a tolerance: compare them at equal error, not row by row."
            )
        return tuple(sentences)

    @property
    def failures(self) -> tuple[str, ...]:
        """Sentences on rows that did not reach the end."""
        return failures_of(self.rows, self.outcomes)

    @property
    def columns(self) -> tuple[str, ...]:
        """Columns of the frame: the usual ones, and those of conserved quantities and states never negative."""
        own = dict.fromkeys(key for row in self.rows for key in row if key not in COLUMNS)
        return (*COLUMNS[:-2], *own, *COLUMNS[-2:])

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

        Raises
        ------
        RunError
            There is no such column.
        """
        name = self._column(by, self.columns)
        cells = [row.get(name) for row in self.rows]
        order = sorted(range(len(cells)), key=lambda k: (cells[k] is None, cells[k] if cells[k] is not None else 0))
        moved: dict[str, Any] = {
            name: tuple(getattr(self, name)[k] for k in order) for name in ("rows", "runs", "outcomes")
        }
        return replace(self, **moved)

    @staticmethod
    def _column(name: str, known: tuple[str, ...]) -> str:
        if not isinstance(name, str) or name not in known:
            raise RunError(f"there is no column '{as_text(name)}'{near_spelling(name, known)}", name=as_text(name),
                           location="comparison", given=excerpt(name), expected=listing(known))  # fmt: skip
        return name

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


def failures_of(rows: Iterable[dict[str, Any]], outcomes: Iterable[Outcome]) -> tuple[str, ...]:
    """Say of which method which settings did not reach the end, and why, those of one reason together."""
    settings: dict[tuple[str, ...], list[str]] = {}
    for row, outcome in zip(rows, outcomes, strict=True):
        if outcome is not Outcome.REACHED_END:
            kind, value = setting_of(row).split()
            settings.setdefault((row["method"], kind, row["ending"]), []).append(value)
    return tuple(f"{name}, {kind} {', '.join(values)}: {why}" for (name, kind, why), values in settings.items())


def setting_of(row: dict[str, Any]) -> str:
    """Return tolerance or step of a row in words."""
    return f"rtol {row['rtol']:.0e}" if row.get("rtol") is not None else f"step {row['step']:.3g}"


def _work_at(rows: list[dict[str, Any]], error: float, by: str) -> tuple[float, str]:
    """Return the work for an error, and how it is known."""
    known = [row for row in rows if row["largest error"] is not None and row[by] is not None]
    if not known:
        return np.nan, "no run came to the end: " + str(rows[0]["ending"])
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


# what stands in a narrow column, in the order in which columns are left out, the last first
_SHOWN = {
    "error at end": "error at end", "largest error": "largest error", "accepted": "accepted", "refused": "refused",
    "rate evaluations": "rates", "seconds": "seconds", "limited by stability": "by stability",
    "jacobians": "Jacobians", "factorisations": "factored", "median step": "median step", "solves": "solves",
}  # fmt: skip


def comparison_table(comparison: Comparison) -> list[RenderableType]:
    """Return errors and work side by side; below, what the errors are measured against and what failed."""
    from rich.text import Text

    from unhurried_heron.study.text_table import TextTable

    own = [
        name
        for name in comparison.columns
        if name not in COLUMNS and not name.endswith(" at") and not name.startswith(SCALE)
    ]
    # columns that have nothing to tell are left out; what the user has watched stands before further counts
    sentences = [key for key in _SHOWN if any(row[key] or "error" in key for row in comparison.rows)]
    index = sentences.index("seconds") + 1 if "seconds" in sentences else len(sentences)
    keys = [*sentences[:2], "worst state", *sentences[2:index], *own, *sentences[index:]]
    names = [(_SHOWN.get(key, key), "left" if key == "worst state" else "right") for key in keys]
    table = TextTable([("method", "left"), ("rtol/step", "right"), *names], comparison.problem.title)
    for row in comparison.rows:
        setting = f"{row['rtol']:.0e}" if row["rtol"] is not None else f"step {_cell('step', row['step'])}"
        table.add_row(row["method"], setting, *(_cell(key, row.get(key)) for key in keys))
    lines: list[RenderableType] = [Text(note) for note in comparison.notes]
    return [table, *lines, *(Text(failure, style="bold red") for failure in comparison.failures)]


def _cell(key: str, value: object) -> str:
    from unhurried_heron.study.text_table import number

    if key == "worst state":
        return str(value or "–")
    if key == "limited by stability" and isinstance(value, float):
        return f"{100.0 * value:.0f} %"
    return number(value)
