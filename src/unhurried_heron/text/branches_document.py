"""Branches of equilibria in words and as tables."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.text.document import Cell, Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import counted, with_unit

if TYPE_CHECKING:
    from unhurried_heron.dynamics.branch import Branches

# States that a table shows.
_MAX_STATES: Final = 6
# Branches that a table shows.
_MAX_BRANCHES: Final = 20


def branches_document(found: Branches) -> Document:
    """Return what was found over a parameter."""
    problem, name = found.problem, found.parameter
    units = problem.units
    count = f"{len(found)} branch{'' if len(found) == 1 else 'es'} of equilibria"
    low, high = found.over
    text = f"{count} over {with_unit(name, units.get(name, ''))} from {low:g} to {high:g}, "
    text += f"from {counted(found.starts, 'start')} of Newton's method; there may be others"
    parts: list[Statement | Table] = [Statement("found", text, {"count": len(found)})]
    if not found.in_time:
        parts.append(Statement("time", "the time was used up: seconds=… finds more", {}, Tone.DOUBTFUL))
    parameter = Column(name, digits=10, unit=units.get(name, ""))
    if found.bifurcations:
        names = problem.states[:_MAX_STATES]
        columns = (Column("bifurcation", "words"), parameter,
                   *(Column(each, digits=7, unit=units.get(group_of(each), "")) for each in names),
                   Column("period there", digits=5, unit=units.get("t", "")))  # fmt: skip
        rows: list[tuple[Cell, ...]] = [
            (each.words, each.value, *(each[state] for state in names), each.period) for each in found.bifurcations
        ]
        parts.append(Table(columns, tuple(rows)))
    if len(found):
        columns = (Column("branch"), Column(f"{name}, from", digits=6), Column("to", digits=6), Column("points"),
                   Column("stable there", "words"), Column("ends", "words"))  # fmt: skip
        rows = []
        for number, branch in enumerate(found.branches[:_MAX_BRANCHES], 1):
            parts_of = [branch.values[part] for stable, part in branch.stretches if stable]
            whole = len(parts_of) == len(branch.stretches)
            share = (
                "all" if whole else ", ".join(f"{each.min():.4g} to {each.max():.4g}" for each in parts_of) or "none"
            )
            ends = " / ".join(dict.fromkeys(branch.ends))
            rows.append((number, float(branch.values.min()), float(branch.values.max()), branch.values.size, share,
                         ends))  # fmt: skip
        parts.append(Table(columns, tuple(rows)))
    return Document(f"Branches of {problem.title or 'a problem'}", tuple(parts))
