"""Rooted trees and the order conditions of Runge-Kutta methods.

J. C. Butcher, *Numerical Methods for Ordinary Differential Equations*, 3rd ed. (2016), chapter 3. A tree is the
sorted tuple of the subtrees that hang from its root; the single node is ``()``.
"""

from __future__ import annotations

import functools
import math
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from typing import Any, Final

import numpy as np

Tree = tuple[Any, ...]
Scalar = Fraction | float

# The highest order whose trees are checked; there are 719 of order 10.
MAX_ORDER: Final = 10
# The residual below which a condition counts as met: coefficients may be decimals, or floating-point numbers.
_MET: Final = 1e-12


@functools.cache
def trees(order: int) -> tuple[Tree, ...]:
    """Return all rooted trees with ``order`` nodes (1, 1, 2, 4, 9, 20, 48, 115 for orders 1 to 8)."""
    if order == 1:
        return ((),)
    return tuple(_forests(order - 1, order - 1, 0))


@functools.cache
def symmetry(tree: Tree) -> int:
    """Return the number of ways in which a tree can be laid on itself."""
    result = 1
    for branch, count in Counter(tree).items():
        result *= math.factorial(count) * symmetry(branch) ** count
    return result


def condition(tree: Tree) -> str:
    """Return a tree's order condition as it is written, with the rows' sums as c."""
    counts = {"c": sum(branch == () for branch in tree)}
    factors = [f"c_i^{counts['c']}" if counts["c"] > 1 else "c_i"] if counts["c"] else []
    factors += [_inner(branch, "ij") for branch in tree if branch]
    return "sum of b_i" + "".join(f"*{factor}" for factor in factors) + f" = 1/{density(tree)}"


def _inner(tree: Tree, names: str) -> str:
    """Return the sum that stands for a subtree."""
    here = names[1]
    count = sum(branch == () for branch in tree)
    factors = [f"a_{names}"] + ([f"c_{here}^{count}" if count > 1 else f"c_{here}"] if count else [])
    factors += [_inner(branch, here + chr(ord(here) + 1)) for branch in tree if branch]
    return "(sum of " + "*".join(factors) + ")"


def _forests(nodes: int, largest: int, skip: int) -> Iterator[Tree]:
    """Multisets of trees with ``nodes`` nodes in all, taken in falling order of (size, position).

    Parameters
    ----------
    nodes : int
    largest : int
        Nodes of the largest tree.
    skip : int
        Position of the first among those of that size.

    Yields
    ------
    Iterator[Tree]
    """
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


def extended(values: Any) -> Any:
    """Return numbers with the digits of the machine's longest floating-point number, of any shape."""
    given = np.array(values, dtype=object)
    first = given.astype(np.longdouble)
    for index, value in np.ndenumerate(given):
        if isinstance(value, Fraction):
            near = float(value)
            first[index] = np.longdouble(near) + np.longdouble(float(value - Fraction(near)))
    return first


class ElementaryWeights:
    """The stage-by-stage elementary weights of one coefficient matrix, each computed once."""

    def __init__(self, a: Any) -> None:
        self._a = extended(a)
        self._known: dict[Tree, Any] = {(): np.ones(len(self._a), dtype=np.longdouble)}

    def stages(self, tree: Tree) -> Any:
        """Return the weight of the tree at each stage: products of ``A phi(branch)`` over its branches."""
        found = self._known.get(tree)
        if found is None:
            found = np.ones(len(self._a), dtype=np.longdouble)
            for branch in tree:
                found = found * (self._a @ self.stages(branch))
            self._known[tree] = found
        return found

    def residual(self, b: Any, tree: Tree) -> float:
        """Return how far the weights ``b``, as `extended` gives them, miss the tree's order condition."""
        return float(b @ self.stages(tree) - np.longdouble(1) / density(tree))

    def order(self, b: Sequence[Scalar], at_most: int = MAX_ORDER) -> int:
        """Return the highest order all of whose conditions the weights ``b`` meet."""
        return self.first_missed(b, at_most)[0]

    def first_missed(self, b: Sequence[Scalar], at_most: int = MAX_ORDER) -> tuple[int, Tree | None, float]:
        """Return the order that the weights ``b`` have, the first tree whose condition they miss, and by how much."""
        weights = extended(b)
        for order in range(1, at_most + 1):
            for tree in trees(order):
                missed = self.residual(weights, tree)
                if not abs(missed) <= _MET:
                    return order - 1, tree, missed
        return at_most, None, 0.0


class CoupledWeights(ElementaryWeights):
    """Those of an additive method: a branch goes through either matrix, so that a tree has several conditions.

    A. L. Araujo, A. Murua and J. M. Sanz-Serna, SIAM J. Numer. Anal. 34 (1997) 1926-1947.
    """

    def __init__(self, *matrices: Any) -> None:
        self._matrices = [extended(each) for each in matrices]
        self._known = {(): np.ones((1, len(self._matrices[0])), dtype=np.longdouble)}

    def stages(self, tree: Tree) -> Any:
        """Return the weights of the tree at each stage, a row for each choice of matrices."""
        found = self._known.get(tree)
        if found is None:
            found = self._known[()]
            for branch in tree:
                # row sums are alike
                through = self._matrices if branch else self._matrices[:1]
                each = np.vstack([self.stages(branch) @ matrix.T for matrix in through])
                found = (found[:, None] * each).reshape(-1, each.shape[1])
            self._known[tree] = found
        return found

    def residual(self, b: Any, tree: Tree) -> float:
        """Return how far the weights miss the condition that they miss most."""
        return float(np.abs(self.stages(tree) @ b - np.longdouble(1) / density(tree)).max())


def hidden_error(stages: Callable[[Tree], Any], b: Any, difference: Any, order: int) -> float:
    """Return how much larger the leading error of a solution is than that of an estimate of one order less.

    By the size over all trees, and for linear problems, whose only tree is the tall one.

    Parameters
    ----------
    stages : callable
        A tree's weights at the stages, or rows of them.
    b : array_like, shape (stages,)
        Weights of the solution.
    difference : array_like, shape (stages,)
        Weights of the estimate.
    order : int

    Returns
    -------
    float
    """

    def errors(weights: Any, size: int, wanted: int) -> tuple[float, float]:
        """Return the size over all trees, and over the tall one."""
        read = np.array([float(x) for x in weights])
        found = [
            (np.atleast_2d(stages(t)).astype(float) @ read - wanted / density(t)) / symmetry(t) for t in trees(size)
        ]
        tall = [depth_of(tree) for tree in trees(size)].index(size)
        return float(np.linalg.norm(np.concatenate(found))), float(np.linalg.norm(found[tall]))

    (missed, missed_along), (estimated, along) = errors(b, order + 1, 1), errors(difference, order, 0)
    return max(missed / estimated, missed_along / max(along, 1e-300))


def depth_of(tree: Tree) -> int:
    """Return the number of nodes on the longest way up."""
    return 1 + max((depth_of(branch) for branch in tree), default=0)


def assumed_order(a: Any, b: Any, c: Any) -> int:
    """Return the order if simplifying assumptions prove it, else 0.

    With quadrature of order p, stages of order q and the assumption D(r), the order is at least the least of p,
    2 q + 2 and q + r + 1, and it is at most p: J. C. Butcher (2016), section 321.

    Parameters
    ----------
    a : array_like, shape (stages, stages)
    b : array_like, shape (stages,)
    c : array_like, shape (stages,)

    Returns
    -------
    int
    """
    a, b, c = extended(a), extended(b), extended(c)

    def longest(holds: Any) -> int:
        k = 0
        while k < 2 * len(b) + 2 and holds(k + 1):
            k += 1
        return k

    p = longest(lambda k: abs(b @ c ** (k - 1) - np.longdouble(1) / k) < _MET)
    q = longest(lambda k: np.abs(a @ c ** (k - 1) - c**k / k).max() < _MET)
    r = longest(lambda k: np.abs((b * c ** (k - 1)) @ a - b * (1 - c**k) / k).max() < _MET)
    return p if p and min(2 * q + 2, q + r + 1) >= p else 0
