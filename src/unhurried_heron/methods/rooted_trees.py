"""Rooted trees and the order conditions of Runge-Kutta methods.

J. C. Butcher, *Numerical Methods for Ordinary Differential Equations*, 3rd ed. (2016), chapter 3. A tree is the
sorted tuple of the subtrees that hang from its root; the single node is ``()``.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator, Sequence
from fractions import Fraction
from typing import Any, Final

Tree = tuple[Any, ...]
Scalar = Fraction | float

MAX_ORDER: Final = 8
# residual below which a condition counts as met: coefficients may be decimals, written out or as floating-point numbers
_MET: Final = 1e-12


@functools.cache
def trees(order: int) -> tuple[Tree, ...]:
    """Return all rooted trees with ``order`` nodes (1, 1, 2, 4, 9, 20, 48, 115 for orders 1 to 8)."""
    if order == 1:
        return ((),)
    return tuple(_forests(order - 1, order - 1, 0))


def _forests(nodes: int, largest: int, skip: int) -> Iterator[Tree]:
    """Multisets of trees with ``nodes`` nodes in all, taken in falling order of (size, position)."""
    if nodes == 0:
        yield ()
        return
    for size in range(min(nodes, largest), 0, -1):
        for index, tree in enumerate(trees(size)):
            if size == largest and index < skip:
                continue
            for rest in _forests(nodes - size, size, index):
                yield (tree, *rest)


@functools.cache
def size(tree: Tree) -> int:
    """Return the number of nodes."""
    return 1 + sum(size(branch) for branch in tree)


@functools.cache
def density(tree: Tree) -> int:
    """Return Butcher's density: the product of the sizes of all subtrees."""
    result = size(tree)
    for branch in tree:
        result *= density(branch)
    return result


class ElementaryWeights:
    """The stage-by-stage elementary weights of one coefficient matrix, each computed once."""

    def __init__(self, a: Sequence[Sequence[Scalar]]) -> None:
        self._a = a
        self._known: dict[Tree, tuple[Scalar, ...]] = {}

    def stages(self, tree: Tree) -> tuple[Scalar, ...]:
        """Return the weight of the tree at each stage: products of ``A phi(branch)`` over its branches."""
        found = self._known.get(tree)
        if found is None:
            product: list[Scalar] = [Fraction(1)] * len(self._a)
            for branch in tree:
                below = self.stages(branch)
                for i, row in enumerate(self._a):
                    product[i] *= sum((x * w for x, w in zip(row, below, strict=True) if x), Fraction(0))
            found = self._known[tree] = tuple(product)
        return found

    def residual(self, b: Sequence[Scalar], tree: Tree) -> Scalar:
        """Return how far the weights ``b`` miss the tree's order condition."""
        total = sum((x * w for x, w in zip(b, self.stages(tree), strict=True) if x), Fraction(0))
        return total - Fraction(1, density(tree))

    def order(self, b: Sequence[Scalar], at_most: int = MAX_ORDER) -> int:
        """Return the highest order all of whose conditions the weights ``b`` meet."""
        for order in range(1, at_most + 1):
            for tree in trees(order):
                if abs(float(self.residual(b, tree))) > _MET:
                    return order - 1
        return at_most
