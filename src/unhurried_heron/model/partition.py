"""Problems whose states fall into two parts, each of which moves by the other alone: positions and velocities."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import WrittenRates


class Partition(NamedTuple):
    """Two parts of the states, by their indices int64: rates of one depend on the time and the states of the other.

    ``first`` holds the state that stands first of those that depend on each other: the position of a motion.
    ``second_order``: whether rates of the first part are the states of the second, in order: y'' = f(t, y).
    """

    first: IntArray
    second: IntArray
    second_order: bool


def partition_of(model: Model) -> Partition | str:
    """Return the two parts of a model's states, or why there are none."""
    found: Partition | str = model.remembered(("partition",), lambda: _partition_of(model))
    return found


def _partition_of(model: Model) -> Partition | str:
    if not model.rates.known:
        return "where its rates depend on which states is not known; sparsity=… says it"
    n, names = model.layout.size, model.layout.names
    pattern = model.rates.pattern().tocsr()
    both = (pattern + pattern.T).tocsr()
    sides = np.full(n, -1)
    for start in range(n):
        if sides[start] >= 0:
            continue
        # what moves by the time alone is no position
        sides[start] = 0 if both.indptr[start] < both.indptr[start + 1] else 1
        waiting = [start]
        while waiting:
            here = waiting.pop()
            for other in both.indices[both.indptr[here] : both.indptr[here + 1]].tolist():
                if other == here:
                    return f"the rate of '{names[here]}' depends on '{names[here]}' itself"
                if sides[other] < 0:
                    sides[other] = 1 - sides[here]
                    waiting.append(other)
                elif sides[other] == sides[here]:
                    return f"'{names[here]}' and '{names[other]}' depend on each other's part"
    first, second = np.flatnonzero(sides == 0), np.flatnonzero(sides == 1)
    return Partition(first, second, _is_second_order(model, first, second))


def _is_second_order(model: Model, first: IntArray, second: IntArray) -> bool:
    """Whether the rates of the first part are the states of the second, one each.

    Parameters
    ----------
    model : Model
    first : ndarray of int64
        Indices of the first part.
    second : ndarray of int64

    Returns
    -------
    bool
    """
    rates = model.rates
    if not isinstance(rates, WrittenRates) or first.size != second.size:
        return False
    if model.orders and all(order == 2 for order in model.orders.values()):
        return True
    scalars, positions, velocities = model.layout.scalars, set(first.tolist()), set()
    for formula in rates.indexed_formulas:
        if formula.loops or formula.base not in positions:
            continue
        moves = scalars.get(str(formula.node.args[0])) if formula.node.op == "name" else None
        if moves is not None:
            velocities.add(moves)
    return velocities == set(second.tolist())
