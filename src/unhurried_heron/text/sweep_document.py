"""What a sweep came to: members, what varied, endings, and what marched by itself."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Final

from unhurried_heron.text.document import Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import counted

if TYPE_CHECKING:
    from unhurried_heron.sweeps.sobol_indices import SobolIndices
    from unhurried_heron.sweeps.sweep import Sweep

# Members from which on processes are worth starting.
_MANY: Final = 32
# Reasons of failures that are listed.
_MAX_REASONS: Final = 8


def sweep_document(sweep: Sweep) -> Document:
    """Return what a sweep came to."""
    data = sweep.dataset
    parts: list[Statement | Table] = []
    shape = " x ".join(str(size) for size in sweep.axes.shape) if len(sweep.axes.axes) > 1 else ""
    parts.append(Statement("members", counted(len(sweep), "member") + (f" ({shape})" if shape else "")))
    parts.append(_varied(sweep))
    endings = Counter(data["ending"].values.ravel().tolist())
    text = ", ".join(f"{counted(count, 'member')} ended by '{ending}'" for ending, count in endings.most_common())
    parts.append(Statement("endings", text, dict(endings)))
    if sweep.left:
        parts.append(Statement("left", f"{counted(sweep.left, 'member')} did not march yet", {}, Tone.DOUBTFUL))
    failures = Counter(each for each in data["failure"].values.ravel().tolist() if each)
    for reason, count in failures.most_common(_MAX_REASONS):
        parts.append(Statement("failure", f"{counted(count, 'member')} failed: {reason}", {"count": count}, Tone.WRONG))
    alone = Counter(each for each in data["alone"].values.ravel().tolist() if each)
    for reason, count in alone.most_common(_MAX_REASONS):
        text = f"{counted(count, 'member')} marched one by one: {reason}"
        text += "; executor= shares them among processes" if count >= _MANY else ""
        parts.append(Statement("alone", text, {"count": count}))
    accepted, evaluations = (int(data[f"tally_{name}"].sum()) for name in ("accepted", "rate_evaluations"))
    parts.append(Statement("work", f"{accepted:,} steps accepted, {evaluations:,} rate evaluations"))
    if sweep.measures:
        parts.append(_measured(sweep))
    return Document(f"Sweep of {sweep.problem.title or 'a problem'}", tuple(parts))


def indices_document(found: SobolIndices) -> Document:
    """Return what Sobol's indices say."""
    columns = (
        Column("quantity", "name"), Column("first order"), Column("from"), Column("to"), Column("total"),
        Column("from "), Column("to "),
    )  # fmt: skip
    rows = tuple(tuple(row) for row in found.frame().itertuples(index=False))
    text = f"{counted(found.count, 'draw')}, mean {found.mean:.6g}, variance {found.variance:.6g}"
    parts: list[Statement | Table] = [Statement("draws", text, {"mean": found.mean, "variance": found.variance})]
    if found.left_out:
        left = f"{counted(found.left_out, 'draw')} left out: a member failed"
        parts.append(Statement("left out", left, {"count": found.left_out}, Tone.DOUBTFUL))
    parts.append(Table(columns, rows, caption=f"from and to: {found.confidence:.0%} confidence, by bootstrap"))
    return Document(f"Shares of the variance of {found.quantity}", tuple(parts))


def _varied(sweep: Sweep) -> Table:
    columns = (Column("varies", "name"), Column("values"), Column("from"), Column("to"), Column("unit", "words"))
    rows = []
    for axis in sweep.axes.axes:
        for each in axis.variations:
            numbers = each.values.dtype.kind == "f"
            ends = (float(each.values.min()), float(each.values.max())) if numbers else (None, None)
            rows.append((each.name, len(each.values), *ends, each.unit))
    return Table(columns, tuple(rows))


def _measured(sweep: Sweep) -> Table:
    columns = (Column("measure", "name"), Column("smallest", digits=6), Column("largest", digits=6))
    rows = []
    for measure in sweep.measures:
        values = sweep.dataset[measure.name]
        rows.append((measure.text, float(values.min()), float(values.max())))
    return Table(columns, tuple(rows))
