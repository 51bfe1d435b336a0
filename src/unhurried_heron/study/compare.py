"""Methods side by side: error against work."""

from __future__ import annotations

import numbers
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.errors import HeronError, OptionError
from unhurried_heron.march.integrate import integrate
from unhurried_heron.march.options import Budget, positive_option, refuse_no_problem
from unhurried_heron.march.quiet import quietly
from unhurried_heron.methods.catalogue import DEFAULT, FOR_STIFF, find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.study.reference import References, Truth, size_of, up_to_its_stop

if TYPE_CHECKING:
    import pandas as pd

DEFAULT_RTOL: Final = (1e-4, 1e-6, 1e-8)
COLUMNS: Final = (
    "method",
    "rtol",
    "step",
    "error at end",
    "largest error",
    "worst state",
    "accepted",
    "refused",
    "rate evaluations",
    "jacobians",
    "factorisations",
    "seconds",
    "reference",
    "ending",
)


@dataclass(frozen=True)
class Comparison:
    """Several methods on one problem.

    Attributes
    ----------
    problem : Problem
    rows : tuple of dict
        One for each method and tolerance (or step), keyed by the columns of the frame.
    runs : tuple of Run or None
        The run behind each row, recorded at the times where errors were looked for; None where there was none.
    disagreement : float or None
        By how much two reference runs of different families differ, relative to each state's scale: errors near or
        below it are not to be trusted. None for closed forms or a single reference.
    """

    problem: Problem
    rows: tuple[dict[str, Any], ...]
    runs: tuple[Run | None, ...] = field(repr=False)
    disagreement: float | None

    def __str__(self) -> str:
        """The table, what its errors are measured against, and how far that is certain."""
        frame = self.frame().drop(columns="reference").dropna(axis=1, how="all")
        lines = [self.problem.title] if self.problem.title else []
        lines.append(frame.to_string(index=False, na_rep="–", float_format=lambda value: f"{value:.3g}"))
        return "\n".join([*lines, *self.notes])

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences: what the errors of which methods are measured against, and how far that is certain."""
        measured: dict[str, dict[str, None]] = {}
        for row in self.rows:
            if row["reference"]:
                measured.setdefault(row["reference"], {})[row["method"]] = None
        told = [f"Errors of {', '.join(methods)} against {reference}." for reference, methods in measured.items()]
        if self.disagreement is not None:
            told.append(f"The references differ by at most {self.disagreement:.1e}; no smaller error is certain.")
        elif told and not self.problem.model.exact:
            told.append("Only one reference could be had: nothing tells how certain it is.")
        return tuple(told)

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame, one row for each method and tolerance.

        Errors are the largest over the states, each relative to the largest size the state reaches in the interval
        (absolute where that is zero). A run that did not reach the end has no error and says under ``ending`` why.
        """
        import pandas as pd

        return pd.DataFrame(list(self.rows), columns=list(COLUMNS))


def compare(
    problem: Problem,
    methods: str | Method | Iterable[str | Method],
    *,
    rtol: float | Sequence[float] | None = None,
    atol: float | None = None,
    step: float | Sequence[float] | None = None,
    budget: Budget | None = None,
) -> Comparison:
    """Run several methods at several tolerances and measure errors and work.

    Errors are measured against the problem's closed forms (``exact``) if it has any, else against a run of a method of
    another family at a tolerance a thousand times tighter than the tightest compared; the table says which. Where an
    event stops the run, the interval compared ends there.

    Parameters
    ----------
    problem : Problem
    methods : str, RungeKutta or Collocation, or iterable of them
    rtol : float or sequence of float, optional
        Tolerances at which methods that can choose their steps do so; 1e-4, 1e-6 and 1e-8 without them and steps.
    atol : float, optional
        Absolute tolerance of all runs; by default a thousandth of each ``rtol``.
    step : float or sequence of float, optional
        Fixed steps, which all methods take; those that can adapt run at the tolerances too, if there are any.
    budget : Budget, optional
        Limit of each run.

    Raises
    ------
    MethodError, OptionError
        A method is unknown, a tolerance unusable, or nothing is to be compared.
    """
    refuse_no_problem(problem, "compare")
    single = isinstance(methods, str) or hasattr(methods, "family")
    try:
        several: Any = [methods] if single else methods
        chosen = [find_method(method) for method in several]
    except TypeError:
        raise OptionError(
            "these are no methods",
            name="methods",
            place="compare",
            expected=f"names of methods, such as {[DEFAULT, FOR_STIFF]}",
            given=repr(methods)[:80],
        ) from None
    tolerances = _listed(DEFAULT_RTOL if rtol is None and step is None else rtol, "rtol")
    steps = _listed(step, "step")
    fixed: list[dict[str, Any]] = [{"step": value} for value in steps]
    adapting: list[dict[str, Any]] = [{"rtol": value, "atol": atol} for value in tolerances]
    if not chosen or not (fixed or adapting):
        raise OptionError(
            "there is nothing to compare",
            name="methods",
            place="compare",
            expected="at least one method and one tolerance or step",
            given=f"{len(chosen)} methods, {len(tolerances)} tolerances, {len(steps)} steps",
        )
    problem = up_to_its_stop(problem)
    references = References(problem, min(tolerances, default=0.0))
    rows, runs = [], []
    for method in chosen:
        for setting in [*fixed, *(adapting if method.adaptive or not fixed else [])]:
            row, run = _row(problem, method, setting, budget, references)
            rows.append(row)
            runs.append(run)
    return Comparison(problem, tuple(rows), tuple(runs), references.disagreement())


def _listed(values: Any, name: str) -> list[float]:
    """Return one number or several as a list of positive numbers."""
    if values is None:
        return []
    single = isinstance(values, numbers.Real | str) or not isinstance(values, Iterable)
    return [positive_option(value, name) for value in ([values] if single else values)]


def _row(
    problem: Problem, method: Method, setting: dict[str, Any], budget: Budget | None, references: References
) -> tuple[dict[str, Any], Run | None]:
    row: dict[str, Any] = dict.fromkeys(COLUMNS)
    row |= {"method": method.name, "rtol": setting.get("rtol"), "step": setting.get("step")}
    try:
        with quietly():
            run = integrate(problem, method, **setting, record=references.grid, budget=budget, progress=False)
    except HeronError as error:
        row["ending"] = str(error.args[0])
        return row, None
    tally = run.tally
    row |= {
        "accepted": tally.accepted,
        "refused": tally.refused,
        "rate evaluations": tally.rate_evaluations,
        "jacobians": tally.jacobians,
        "factorisations": tally.factorisations,
        "seconds": tally.seconds,
        "ending": "reached the end" if run.ending.reason == "end" else run.ending.message,
    }
    if run.ending.as_asked:
        truth = references.truth_for(method)
        row |= _errors(run, truth) | {"reference": truth.label}
    return row, run


def _errors(run: Run, truth: Truth) -> dict[str, Any]:
    columns = [slot for slot in map(run.problem.model.layout.slot, truth.names) if slot is not None]
    # a run that an event stopped has fewer times than the grid
    known = truth.values[: run.times.size]
    misses = np.abs(run.states[:, columns] - known) / size_of(truth.values)
    row, column = np.unravel_index(int(misses.argmax()), misses.shape)
    return {
        "error at end": float(misses[-1].max()),
        "largest error": float(misses[row, column]),
        "worst state": truth.names[int(column)],
    }
