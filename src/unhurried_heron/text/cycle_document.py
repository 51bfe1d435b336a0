"""A cycle in words and as tables."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.text.document import Cell, Column, Document, Statement, Table

if TYPE_CHECKING:
    from unhurried_heron.dynamics.cycle import Cycle

# States that a table shows.
_MAX_STATES: Final = 12
# Multipliers that a sentence shows.
_MAX_VALUES: Final = 6
_STABILITY: Final = {
    True: "stable: what begins nearby comes nearer",
    False: "unstable: what begins nearby goes away",
    None: "linear theory does not tell whether it is stable",
}


def cycle_document(found: Cycle) -> Document:
    """Return what a cycle is like."""
    problem, unit = found.problem, found.problem.units.get("t", "")
    shown = [each for each in found.multipliers.tolist() if each.imag >= -1e-12 * abs(each)][:_MAX_VALUES]
    words = [f"{each.real:.6g}" + (f" ± {each.imag:.6g}i" if each.imag > 1e-12 * abs(each) else "") for each in shown]
    parts: list[Statement | Table] = [
        Statement("period", f"period {found.period:.10g} {unit}".rstrip(), {"period": found.period}),
        Statement("stability", _STABILITY[found.stable], {}),
        Statement("multipliers", "Floquet multipliers " + ", ".join(words), {}),
        Statement("closed", f"its ends are {found.error:.1e} of its size apart", {"error": found.error}),
    ]
    columns = (Column("state", "name"), Column("smallest", digits=7), Column("largest", digits=7),
               Column("where it begins", digits=10), Column("unit", "name"))  # fmt: skip
    rows: list[tuple[Cell, ...]] = [
        (name, *found.extent(name), found[name], problem.units.get(group_of(name), ""))
        for name in problem.states[:_MAX_STATES]
    ]
    parts.append(Table(columns, tuple(rows)))
    return Document(f"A cycle of {problem.title or 'a problem'}", tuple(parts))
