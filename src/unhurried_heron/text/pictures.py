"""Pictures as records: what a figure, a page or a report draws of a result, before anything is drawn."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.equality import ByValue
from unhurried_heron.text.numbers import with_unit

if TYPE_CHECKING:
    from unhurried_heron.accuracy.comparison import Comparison
    from unhurried_heron.accuracy.convergence import Convergence

_ERROR: Final = "largest error, relative to each state's size"


@dataclass(frozen=True, eq=False)
class Series(ByValue):
    """Points of one label, joined in their order.

    Attributes
    ----------
    label : str
    x, y : tuple of float
        As many of each; none where nothing was measured, and NaN where a logarithmic axis shows nothing.
    """

    label: str
    x: tuple[float, ...]
    y: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Picture(ByValue):
    """Series over two logarithmic axes.

    Attributes
    ----------
    title : str
    x_label, y_label : str
        With their units.
    series : tuple of Series
    floor : float or None
        The value below which no point is certain; ``floor_label`` says so.
    floor_label : str
    missing : tuple of str
        What has no point, and why.
    """

    title: str
    x_label: str
    y_label: str
    series: tuple[Series, ...]
    floor: float | None = None
    floor_label: str = ""
    missing: tuple[str, ...] = ()


def setting_of(row: dict[str, object]) -> str:
    """Return tolerance or step of a row in words."""
    return f"rtol {row['rtol']:.0e}" if row.get("rtol") is not None else f"step {row['step']:.3g}"


def positive(values: Any) -> Any:
    """Return what a logarithmic axis can show of an array: NaN for zero."""
    return np.where(values > 0.0, values, np.nan)


def work_picture(comparison: Comparison, work: str = "rate evaluations") -> Picture:
    """Return the largest error against work, a series for each method.

    Parameters
    ----------
    comparison : Comparison
    work : str
        A column that counts work.
    """
    points: dict[str, list[tuple[float, float]]] = {}
    missing = []
    for row in comparison.rows:
        here = points.setdefault(row["method"], [])
        if row["largest error"] is None:
            missing.append(f"{row['method']} {setting_of(row)}: {row['ending']}")
        else:
            here.append((float(row[work]), float(row["largest error"])))
    series = tuple(
        Series(name, tuple(x for x, _ in sorted(pairs)), tuple(y for _, y in sorted(pairs)))
        for name, pairs in points.items()
        if pairs
    )
    subject = comparison.problem.title or "Comparison"
    return Picture(f"{subject}: error against work", work, _ERROR, series, comparison.disagreement,
                   "references disagree below", tuple(missing))  # fmt: skip


def convergence_picture(found: Convergence) -> Picture:
    """Return the largest error against the step, a series for each method, which its observed order labels."""
    unit = found.problem.units.get("t", "")
    series = []
    for orders in found.orders:
        rows = [row for row in found.rows if row["method"] == orders.method and row["largest error"] is not None]
        label = orders.method
        if not np.isnan(orders.observed):
            label += f": {orders.observed:.2f} (promised {orders.promised})"
        errors = positive(np.array([row["largest error"] for row in rows], dtype=float)).tolist()
        series.append(Series(label, tuple(float(row["step"]) for row in rows), tuple(errors)))
    title = f"{found.problem.title or 'Convergence'}: error against step"
    floor = found.floor if found.floor > 0.0 else None
    return Picture(title, with_unit("step", unit), _ERROR, tuple(series), floor,
                   "no smaller error is certain")  # fmt: skip
