"""What states meet all along, as formulas that go behind one another."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

from unhurried_heron.arrays import IntArray
from unhurried_heron.formulas.layout import IndexedFormula
from unhurried_heron.model.differentiated import Differentiated
from unhurried_heron.model.model import Model


class Movable(NamedTuple):
    """Which states may move to where formulas are zero, int64 (n,), None for all of them, and how many formulas."""

    states: IntArray | None
    n_formulas: int


def movable_states(model: Model) -> list[Movable]:
    """Return which states may move, for one group of formulas after the other."""
    found = []
    for each in model.transformations:
        names = each.algebraic if isinstance(each, Differentiated) else None
        own = None if names is None else model.layout.indices_of_all(names)
        found.append(Movable(own, sum(formula.turns for formula in each.manifold(model))))
    return found


def manifold_formulas(model: Model, first: int = 0) -> tuple[IndexedFormula, ...]:
    """Return the formulas of `Model.manifold`, whose values go to numbers from ``first`` on."""
    return tuple(replace(each, base=each.base + first) for each in model.manifold)
