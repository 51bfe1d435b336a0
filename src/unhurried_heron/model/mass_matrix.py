"""The mass matrix M of M y' = f(t, y), as the user says it: rows of zeros make constraints of their equations."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.errors import ValueGivenError, excerpt, listing
from unhurried_heron.formulas.layout import Layout

# The number of states up to which the rank of the rows is found by a singular value decomposition.
_MAX_RANKED: Final = 1000


class MassMatrix(NamedTuple):
    """Entries of M, in order of rows, where it is not the identity: rows and columns int64, values, (n_entries,)."""

    rows: IntArray
    columns: IntArray
    values: Array

    def sizes(self, n: int) -> Array:
        """Return the sum of the sizes of the entries of each row, shape (n,): 0 for constraints."""
        return np.bincount(self.rows, np.abs(self.values), minlength=n).astype(np.float64)

    def constraints(self, n: int) -> int:
        """Return how many rows are zero: those of constraints."""
        return int(np.count_nonzero(self.sizes(n) == 0.0))

    def bytes(self) -> bytes:
        """Return what is the same for the same matrix alone."""
        return b"".join(each.tobytes() for each in self)

    def full(self, n: int) -> Array:
        """Return M as a full matrix, shape (n, n)."""
        matrix = np.zeros((n, n))
        matrix[self.rows, self.columns] = self.values
        return matrix


def _refuse(message: str, expected: str, given: Any) -> ValueGivenError:
    """Return the error of an unusable mass matrix.

    Parameters
    ----------
    message : str
    expected : str
    given : object

    Returns
    -------
    ValueGivenError
    """
    return ValueGivenError(message, name="mass", location="mass", expected=expected, given=given)


def checked_mass(given: Any, layout: Layout) -> MassMatrix | None:
    """Return a mass matrix, None where it is the identity.

    Parameters
    ----------
    given : array_like or sparse matrix
        Its diagonal, shape (n_states,), or all of it, shape (n_states, n_states); of complex states by state or by
        part.
    layout : Layout
        Of the states.

    Returns
    -------
    MassMatrix or None

    Raises
    ------
    ValueGivenError
        It has another shape, holds something that is no number, or has rows that depend on each other.
    """
    n, n_values = layout.size, len(layout.value_names)
    expected = f"numbers of shape ({n},), the diagonal, or ({n}, {n}), in the order of the states: " + listing(
        layout.names
    )
    try:
        matrix = given if hasattr(given, "tocoo") else np.asarray(given)
        usable = matrix.shape in ((n,), (n, n), (n_values,), (n_values, n_values)) and matrix.dtype.kind in "fiub"
    except (TypeError, ValueError):
        usable = False
    if not usable:
        raise _refuse("the mass matrix is not usable", expected, excerpt(given))
    if matrix.ndim == 1:
        rows = np.arange(matrix.size)
        entries = rows, rows, matrix
    elif hasattr(matrix, "tocoo"):
        found = matrix.tocoo()
        entries = found.row, found.col, found.data
    else:
        rows, columns = np.nonzero(matrix)
        entries = rows, columns, matrix[rows, columns]
    kept = _in_order(*entries, matrix.shape[0])
    if not np.isfinite(kept.values).all():
        raise _refuse("the mass matrix holds what is no number", "finite numbers", excerpt(given))
    if kept.rows.size == 0:
        raise _refuse("the mass matrix is zero, so nothing says how anything changes",
                      "a row that is not zero for each equation with rates", "zeros alone")  # fmt: skip
    if matrix.shape[0] != n:
        kept = _by_part(kept, layout)
    each = np.arange(n)
    if np.array_equal(kept.rows, each) and np.array_equal(kept.columns, each) and (kept.values == 1.0).all():
        return None
    _check_rank(kept, n)
    return kept


def _in_order(rows: Any, columns: Any, values: Any, n: int) -> MassMatrix:
    """Return entries in order, added up where they meet, without those of zero.

    Parameters
    ----------
    rows : ndarray
    columns : ndarray
    values : ndarray
    n : int
        Order of the matrix.

    Returns
    -------
    MassMatrix
    """
    flat, which = np.unique(rows.astype(np.int64) * n + columns, return_inverse=True)
    total = np.bincount(which, values, minlength=flat.size).astype(np.float64)
    # a number that is none is kept, to be refused
    there = total != 0.0
    return MassMatrix(flat[there] // n, flat[there] % n, total[there])


def _by_part(kept: MassMatrix, layout: Layout) -> MassMatrix:
    """Return a matrix that was said by complex states by their real and imaginary parts."""
    where = [layout.indices_of(name) for name in layout.value_names]
    pairs = [
        (row, column, value)
        for i, j, value in zip(kept.rows.tolist(), kept.columns.tolist(), kept.values.tolist(), strict=True)
        for row, column in zip(where[i], where[j], strict=True)
    ]
    rows, columns, values = (np.array(each) for each in zip(*pairs, strict=True))
    return _in_order(rows, columns, values, layout.size)


def _check_rank(kept: MassMatrix, n: int) -> None:
    """Refuse rows of M that depend on each other, as far as that is found: they hide constraints.

    Raises
    ------
    ValueGivenError
    """
    moving = np.unique(kept.rows)
    if n > _MAX_RANKED:
        return
    rank = int(np.linalg.matrix_rank(kept.full(n)[moving]))
    if rank < moving.size:
        raise _refuse(
            "rows of the mass matrix depend on each other, which hides constraints",
            "rows of zeros for the constraints, so that the others are independent: subtract equations from each other",
            f"rank {rank} in {moving.size} rows that are not zero",
        )
