"""Methods side by side, their ranking, and the orders that were observed."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.text.document import Cell, Column, Document, Statement, Table, Tone
from unhurried_heron.text.pictures import convergence_picture, setting_of, work_picture

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.accuracy.comparison import Comparison
    from unhurried_heron.accuracy.convergence import Convergence, Orders

# The columns of a narrow page with their short names, in the order in which they are left out, the last first.
_SHORT_NAMES: Final = {
    "error at end": "error at end", "largest error": "largest error", "accepted": "accepted", "refused": "refused",
    "rate evaluations": "rates", "seconds": "seconds", "limited by stability": "by stability",
    "jacobians": "Jacobians", "factorisations": "factored", "median step": "median step", "solves": "solves",
}  # fmt: skip
_ORDER_COLUMNS: Final = (
    "step", "steps", "error at end", "order at end", "largest error", "order", "rate evaluations",
)  # fmt: skip


def comparison_document(comparison: Comparison) -> Document:
    """Return errors and work side by side, what the errors are measured against, and what failed."""
    # columns that have nothing to tell are left out; what the user has watched stands before further counts
    keys = [key for key in _SHORT_NAMES if any(row[key] or "error" in key for row in comparison.rows)]
    index = keys.index("seconds") + 1 if "seconds" in keys else len(keys)
    keys = [*keys[:2], "worst state", *keys[2:index], *comparison.watched_columns, *keys[index:]]
    columns = [Column(_SHORT_NAMES.get(key, key), "name" if key == "worst state" else "number") for key in keys]
    rows: list[tuple[Cell, ...]] = []
    for row in comparison.rows:
        setting = f"{row['rtol']:.0e}" if row["rtol"] is not None else f"step {row['step']:.3g}"
        rows.append((row["method"], setting, *(_cell(key, row.get(key)) for key in keys)))
    table = Table((Column("method", "name"), Column("rtol/step"), *columns), tuple(rows), comparison.problem.title)
    notes = [Statement("reference", note) for note in comparison.notes]
    failures = [Statement("failure", failure, tone=Tone.WRONG) for failure in comparison.failures]
    return Document("", (table, *notes, *failures, work_picture(comparison)))


def _cell(key: str, value: Any) -> Cell:
    if key == "worst state":
        return str(value or "–")
    if key == "limited by stability" and isinstance(value, float):
        return f"{100.0 * value:.0f} %"
    found: Cell = value
    return found


def notes_of(comparison: Comparison, scales: dict[str, str]) -> tuple[str, ...]:
    """Return sentences on what the errors of which methods are measured against, and how far that is certain.

    Parameters
    ----------
    comparison : Comparison
    scales : dict of str to str
        How the drift of conserved quantities is measured, where not by their own size.
    """
    measured: dict[str, dict[str, None]] = {}
    for row in comparison.rows:
        if row["reference"]:
            measured.setdefault(row["reference"], {})[row["method"]] = None
    sentences = [f"Errors of {', '.join(methods)} against {reference}." for reference, methods in measured.items()]
    if comparison.lacking:
        sentences.append(f"Errors are left out, for no reference solution could be had: {comparison.lacking}.")
    if comparison.trusted_until is not None:
        sentences.append(
            f"The references agree to four digits up to t = {comparison.trusted_until:.6g} and part beyond: errors are "
            "measured up to there."
        )
    if comparison.disagreement is not None:
        apart = f"{comparison.disagreement:.1e}"
        sentences.append(f"The references differ by at most {apart}; no smaller error is certain.")
    elif sentences and not comparison.certain:
        sentences.append("Only one reference could be had: nothing tells how certain it is.")
    sentences += [f"The drift of {name} is {scale}." for name, scale in scales.items()]
    fixed = [row["step"] is not None for row in comparison.rows]
    if any(fixed) and not all(fixed):
        sentences.append(
            "Some rows are of fixed steps, others follow a tolerance: compare them at equal error, not row by row."
        )
    return tuple(sentences)


def failures_of(failed: Iterable[dict[str, Any]]) -> tuple[str, ...]:
    """Return for rows that did not reach the end of which methods and settings they are, and why, each reason once."""
    settings: dict[tuple[str, ...], list[str]] = {}
    for row in failed:
        kind, value = setting_of(row).split()
        settings.setdefault((row["method"], kind, row["ending"]), []).append(value)
    return tuple(f"{name}, {kind} {', '.join(values)}: {why}" for (name, kind, why), values in settings.items())


def no_run_ended(why: str) -> str:
    """Return that a method has no work to be ranked by."""
    return f"no run came to the end: {why}"


def ranking_document(ranking: pd.DataFrame, error: float) -> Document:
    """Return methods by the work they need for one error.

    Parameters
    ----------
    ranking : DataFrame
        As `Comparison.best` returns it.
    error : float
    """
    kinds: Any = {"method": "name", "how": "words"}
    columns = tuple(Column(name, kinds.get(name, "number"), 4) for name in ranking.columns)
    rows = tuple(
        (str(row[0]) if row[3] >= 1.0 else "–", row[1], float(row[2]), float(row[3]), row[4])
        for row in ranking.itertuples(index=False)
    )
    return Document("", (Table(columns, rows, f"for an error of {error:g}"),))


def convergence_document(found: Convergence) -> Document:
    """Return errors and orders of each method at falling steps, and their picture."""
    columns = (Column("method", "name"), *map(Column, _ORDER_COLUMNS))
    rows = tuple((row["method"], *(row[name] for name in _ORDER_COLUMNS)) for row in found.rows)
    orders = [Statement("order", order_statement(each), {"order": each.observed}) for each in found.orders]
    reference = Statement("reference", f"Errors against {found.reference}.")
    failures = [Statement("failure", failure, tone=Tone.WRONG) for failure in found.failures]
    table = Table(columns, rows, found.problem.title)
    return Document("", (table, *orders, reference, *failures, convergence_picture(found)))


def order_statement(orders: Orders) -> str:
    """Return a sentence on the order that a method showed."""
    if np.isnan(orders.observed):
        return f"{orders.method}: no straight part to tell an order by (promised: {orders.promised})."
    text = (
        f"{orders.method}: order {orders.observed:.2f} over the run, {orders.at_end:.2f} at its end (promised: "
        f"{orders.promised}), from steps of {orders.span[0]:.3g} to {orders.span[1]:.3g}"
    )
    if not np.isnan(orders.rounding_from):
        text += f"; from {orders.rounding_from:.3g} on rounding, or the reference, takes over"
    return text + "."
