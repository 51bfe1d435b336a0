"""What states meet all along, as formulas that go behind one another."""

from __future__ import annotations

from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.model.differentiated import Differentiated
from unhurried_heron.model.model import Model


def manifold_columns(model: Model) -> list[frozenset[int] | None]:
    """Return which states may move to where each formula is zero; None: all of them."""
    found: list[frozenset[int] | None] = []
    for each in model.transformations:
        names = each.algebraic if isinstance(each, Differentiated) else None
        own = None if names is None else frozenset(model.layout.scalars[key] for key in names)
        found += [own] * len(each.manifold())
    return found


def manifold_formulas(model: Model, first: int = 0) -> tuple[IndexedFormula, ...]:
    """Return the formulas of `Model.manifold`, whose values go to numbers from ``first`` on."""
    return tuple(single(node, first + k) for k, node in enumerate(model.manifold))
