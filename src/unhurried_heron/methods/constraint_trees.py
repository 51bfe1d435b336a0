"""Order conditions of Rosenbrock methods for constraints of index 1: y' = f(y, z), 0 = g(y, z).

A tree stands for a term of the Taylor series of y, or of z as g tells it: a derivative of f or g, and what it is taken
along. The order of a tree counts how often f stands in it. M. Roche, Numer. Math. 52 (1988) 45-63; E. Hairer and
G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section VI.4.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Iterator
from typing import Any, Final, NamedTuple

import numpy as np

# The residual below which a condition counts as met.
_MET: Final = 1e-10


class ConstrainedTree(NamedTuple):
    """A term of the series of y or, where it is ``algebraic``, of z."""

    algebraic: bool
    order: int
    branches: tuple[Any, ...]


@functools.cache
def differential_trees(order: int) -> tuple[ConstrainedTree, ...]:
    """Return the terms of y."""
    return tuple(ConstrainedTree(False, order, branches) for branches in _bunches(order - 1, order - 1))


@functools.cache
def algebraic_trees(order: int) -> tuple[ConstrainedTree, ...]:
    """Return the terms of z; along z alone g is not differentiated, for that is what is divided by."""
    alone = ((tree,) for tree in differential_trees(order))
    return tuple(ConstrainedTree(True, order, branches) for branches in (*alone, *_bunches(order, order - 1)))


@functools.cache
def _bunches(order: int, largest: int) -> tuple[tuple[ConstrainedTree, ...], ...]:
    """Return the multisets of trees of at most the ``largest`` order whose orders sum to ``order``."""
    trees = [tree for size in range(1, min(order, largest) + 1)
             for tree in (*differential_trees(size), *algebraic_trees(size))]  # fmt: skip

    def grown(left: int, first: int) -> Iterator[tuple[ConstrainedTree, ...]]:
        if left == 0:
            yield ()
        for k in range(first, len(trees)):
            if trees[k].order <= left:
                yield from ((trees[k], *rest) for rest in grown(left - trees[k].order, k))

    return tuple(grown(order, 0))


def _density(tree: ConstrainedTree) -> int:
    """Return one over the term's share of the solution."""
    return (1 if tree.algebraic else tree.order) * math.prod(_density(branch) for branch in tree.branches)


def order_with_constraints(alpha: Any, beta: Any, b: Any, most: int) -> int:
    """Return the order at which a Rosenbrock method converges where there are constraints of index 1.

    What is met for z one order less is enough: where steps damp, what z errs by is not passed on.

    Parameters
    ----------
    alpha, beta : ndarray, shape (stages, stages)
        The coefficients of stages, and with gamma added.
    b : ndarray, shape (stages,)
    most : int
        The order without constraints.

    Returns
    -------
    int
    """
    inverse = np.linalg.inv(np.asarray(beta, dtype=float))
    alpha, beta, b = (np.asarray(part, dtype=float) for part in (alpha, beta, b))
    known: dict[ConstrainedTree, Any] = {}

    def weights(tree: ConstrainedTree) -> Any:
        if tree not in known:
            if tree.algebraic and len(tree.branches) == 1:
                known[tree] = weights(tree.branches[0])
            else:
                through = beta if len(tree.branches) == 1 else alpha
                below = math.prod((through @ weights(each) for each in tree.branches), start=np.ones(len(b)))
                known[tree] = inverse @ below if tree.algebraic else below
        return known[tree]

    def missed(tree: ConstrainedTree) -> bool:
        found: Any = b @ weights(tree)
        return bool(abs(found - 1.0 / _density(tree)) > _MET)

    for order in range(1, most + 1):
        for_z = algebraic_trees(order - 1) if order > 1 else ()
        if any(map(missed, (*differential_trees(order), *for_z))):
            return order - 1
    return most
