"""What states meet all along, as formulas that go behind one another."""

from __future__ import annotations

from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.model.model import Model


def manifold_formulas(model: Model, first: int = 0) -> tuple[IndexedFormula, ...]:
    """Return the formulas of `Model.manifold`, whose values go to numbers from ``first`` on."""
    return tuple(single(node, first + k) for k, node in enumerate(model.manifold))
