"""Equilibria in words and as a table."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.text.document import Cell, Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import counted

if TYPE_CHECKING:
    from unhurried_heron.dynamics.equilibrium import Equilibria

# States that a table shows.
_MAX_STATES: Final = 8
# Eigenvalues that a row shows.
_MAX_VALUES: Final = 4


def equilibria_document(found: Equilibria) -> Document:
    """Return what was found within a box."""
    problem = found.problem
    count = f"{len(found)} equilibri{'um' if len(found) == 1 else 'a'}"
    ends = list(found.within.items())[:_MAX_STATES]
    box = ", ".join(f"{name} from {low:g} to {high:g}" for name, (low, high) in ends)
    text = f"{count} with {box}, from {counted(found.starts, 'start')} of Newton's method; "
    if found.solutions is None:
        text += "there may be others"
    else:
        text += f"none is missed: algebra finds {counted(found.solutions, 'solution')} in all, complex ones too"
    parts: list[Statement | Table] = [Statement("found", text, {"count": len(found)})]
    if not found.in_time:
        parts.append(Statement("time", "the time was used up: seconds=… finds more", {}, Tone.DOUBTFUL))
    if len(found):
        names = problem.states[:_MAX_STATES]
        columns = (*(Column(name, digits=8, unit=problem.units.get(group_of(name), "")) for name in names),
                   Column("kind", "words"), Column("eigenvalues", "words"))  # fmt: skip
        rows: list[tuple[Cell, ...]] = [
            (*(each[name] for name in names), each.words, _values(each.eigenvalues)) for each in found
        ]
        parts.append(Table(columns, tuple(rows)))
    return Document(f"Equilibria of {problem.title or 'a problem'}", tuple(parts))


def _values(eigenvalues: np.ndarray) -> str:
    """Return eigenvalues in words, of pairs one."""
    shown = [each for each in eigenvalues.tolist() if each.imag >= 0.0]
    words = [f"{each.real:.4g}" + (f" ± {each.imag:.4g}i" if each.imag > 0.0 else "") for each in shown[:_MAX_VALUES]]
    return ", ".join(words) + (" …" if len(shown) > _MAX_VALUES else "")
