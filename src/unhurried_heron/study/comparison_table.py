"""A comparison as a table of the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import RenderableType
from rich.text import Text

from unhurried_heron.study.comparison import COLUMNS
from unhurried_heron.study.sheet import Sheet, number

if TYPE_CHECKING:
    from unhurried_heron.study.comparison import Comparison

# what stands in a narrow column, in the order in which columns are left out, the last first
_SHOWN = {
    "error at end": "error at end", "largest error": "largest error", "accepted": "accepted", "refused": "refused",
    "rate evaluations": "rates", "seconds": "seconds", "limited by stability": "by stability",
    "jacobians": "Jacobians", "factorisations": "factored", "median step": "median step", "solves": "solves",
}  # fmt: skip


def comparison_table(comparison: Comparison) -> list[RenderableType]:
    """Return errors and work side by side; below, what the errors are measured against and what failed."""
    own = [name for name in comparison.columns if name not in COLUMNS]
    # columns that have nothing to tell are left out
    told = [key for key in _SHOWN if any(row[key] for row in comparison.rows)]
    columns = [("method", "left"), ("rtol/step", "right"), *((_SHOWN[key], "right") for key in told[:2])]
    columns += [("worst state", "left"), *((_SHOWN[key], "right") for key in told[2:]), *((k, "right") for k in own)]
    table = Sheet(columns, comparison.problem.title)
    for row in comparison.rows:
        setting = f"{row['rtol']:.0e}" if row["rtol"] is not None else f"step {number(row['step'])}"
        cells = [_cell(key, row[key]) for key in told]
        table.add_row(row["method"], setting, *cells[:2], row["worst state"] or "–", *cells[2:],
                      *(number(row.get(name)) for name in own))  # fmt: skip
    lines: list[RenderableType] = [Text(note) for note in comparison.notes]
    return [table, *lines, *(Text(failure, style="bold red") for failure in comparison.failures)]


def _cell(key: str, value: object) -> str:
    if key == "limited by stability" and isinstance(value, float):
        return f"{100.0 * value:.0f} %"
    return number(value)
