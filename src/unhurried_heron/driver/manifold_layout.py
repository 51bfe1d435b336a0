"""What a march needs to keep states on their manifold, laid out."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.watched_formulas import NativeManifold

# Formulas up to which the matrix of their corrections is full, in their own order.
_MOST_FULL: Final = 24


def manifold_fields(manifold: NativeManifold | None, n: int) -> tuple[Any, ...]:
    """Return what is zero all along, as `System` has it.

    Parameters
    ----------
    manifold : NativeManifold or None
    n : int
        Number of states.

    Returns
    -------
    tuple of object
    """
    if manifold is None:
        return (0,) * 11
    count, function = manifold.n_formulas, manifold.function
    order = _order(manifold, n)
    position = np.empty(count, dtype=np.int64)
    position[order] = np.arange(count)
    used = manifold.columns >= 0
    distinct, which = np.unique(position[manifold.rows[used]] * n + manifold.columns[used], return_inverse=True)
    rows = np.searchsorted(distinct // n, np.arange(count + 1)).astype(np.int64)
    numbers = np.full(manifold.rows.size, distinct.size, dtype=np.int64)
    numbers[used] = which
    first = _first_entries(distinct, n, count)
    lengths = np.arange(count) - first + 1
    begins = np.cumsum(lengths) - lengths - first
    work = count + numbers.size + distinct.size + 1 + count + n + int(lengths.sum())
    return (count, function.address, function.context_address, numbers.size, order, rows, distinct % n, numbers, first,
            begins, np.zeros(work))  # fmt: skip


def _products(rows: IntArray, columns: IntArray, count: int, n: int) -> Any:
    """Return which formulas share a state, a sparse array of shape (count, count).

    Parameters
    ----------
    rows, columns : ndarray of int64
        Of the entries of their derivatives.
    count : int
    n : int

    Returns
    -------
    csr_array
    """
    from scipy.sparse import csr_array

    matrix = csr_array((np.ones(rows.size), (rows, columns)), shape=(count, n))
    return (matrix @ matrix.T).tocsr()


def _order(manifold: NativeManifold, n: int) -> IntArray:
    """Return the formulas in an order in which those that share states are near to each other."""
    count, used = manifold.n_formulas, manifold.columns >= 0
    if count <= _MOST_FULL:
        return np.arange(count)
    from scipy.sparse.csgraph import reverse_cuthill_mckee

    shared = _products(manifold.rows[used], manifold.columns[used], count, n)
    return np.ascontiguousarray(reverse_cuthill_mckee(shared, symmetric_mode=True), dtype=np.int64)


def _first_entries(positions: IntArray, n: int, count: int) -> IntArray:
    """Return the first formula, for each, with which it shares states.

    Parameters
    ----------
    positions : ndarray of int64
        Of the entries: row times n, and column.
    n : int
    count : int

    Returns
    -------
    ndarray of int64, shape (count,)
    """
    if count <= _MOST_FULL:
        return np.zeros(count, dtype=np.int64)
    shared = _products(positions // n, positions % n, count, n).tocoo()
    first = np.arange(count)
    np.minimum.at(first, shared.coords[0], shared.coords[1])
    return first.astype(np.int64)
