"""Groups of columns of a sparse Jacobian that share no row, so that one difference serves all of a group."""

from __future__ import annotations

import numpy as np

from unhurried_heron.arrays import IntArray


def groups_of_columns(n: int, rows: IntArray, columns: IntArray) -> IntArray:
    """Return the group of each column, int64 (n,), found greedily, the columns with most rows first.

    T. F. Coleman and J. J. More, SIAM J. Numer. Anal. 20 (1983) 187-209.

    Parameters
    ----------
    n : int
        Number of columns.
    rows, columns : ndarray of int64
        Of the entries.

    Returns
    -------
    ndarray of int64
    """
    from scipy.sparse import coo_array

    pattern = coo_array((np.ones(rows.size, dtype=np.int32), (rows, columns)), shape=(n, n)).tocsc()
    beside = (pattern.T @ pattern).tocsr()
    group = np.full(n, -1, dtype=np.int64)
    for column in np.argsort(-np.diff(pattern.indptr), kind="stable"):
        near = beside.indices[beside.indptr[column] : beside.indptr[column + 1]]
        taken = set(group[near].tolist())
        free = 0
        while free in taken:
            free += 1
        group[column] = free
    return group
