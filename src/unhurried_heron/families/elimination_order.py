"""In which order unknowns are eliminated from a sparse system, and what its factors come to, before they are made."""

from __future__ import annotations

import importlib
import importlib.util
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.sparse import csc_array
from scipy.sparse.linalg import spilu

from unhurried_heron.arrays import IntArray
from unhurried_heron.deadline import seconds_left
from unhurried_heron.families.factoring_thread import apart
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.bundles import address_table

# How sparse factors are made at first: a pivot on the diagonal is taken unless it is smaller than the largest entry
# of its column by this factor
FROM_DIAGONAL: Final = {"permc_spec": "MMD_AT_PLUS_A", "diag_pivot_thresh": 0.01, "options": {"SymmetricMode": True}}
# What makes SuperLU order the columns, and do little else.
_ORDER_ALONE: Final = {**FROM_DIAGONAL, "drop_tol": 1.0, "fill_factor": 1.0}
# Numbers of factors that are made where nobody named them, in 400 MB,
_MOST_NUMBERS: Final = 50_000_000
# and the seconds that may take,
_MOST_SECONDS: Final = 30.0
# by the operations in a second that SuperLU managed at least, on grids and networks of 5,000 to 80,000 unknowns.
_OPERATIONS: Final = 1.5e9
# Unknowns from which orders are compared,
_COMPARED: Final = 2000
# and beyond which a dissection, which nothing stops, takes more than a second.
_MOST_DISSECTED: Final = 80_000
# The share of the operations by minimum degree below which another order is worth while.
_WORTH: Final = 0.8


class Elimination(NamedTuple):
    """An order of the unknowns (None: SuperLU's own), the fill of a triangular factor, seconds that factors take."""

    order: IntArray | None
    fill: int
    seconds: float


def elimination(matrix: Any, most: int, control: Any) -> Elimination:
    """Return the better of two orders: minimum degree of A^T + A, and nested dissection where a library is there.

    On grids in space a dissection leaves less to do, on networks more than the other: both are counted.
    T. A. Davis, *Direct Methods for Sparse Linear Systems* (2006), chapter 7.

    Parameters
    ----------
    matrix : csc_array
    most : int
        Numbers beyond which they are not counted any more.
    control : CONTROL

    Returns
    -------
    Elimination
        With a fill of more than ``most`` where there is that much, or where there are no factors.
    """
    pattern = csc_array((np.ones(matrix.nnz), matrix.indices, matrix.indptr), shape=matrix.shape)
    pattern = (pattern + pattern.T).tocsr()
    ordered = apart(lambda: spilu(matrix, **_ORDER_ALONE), matrix.shape[0], control)
    if ordered is None:
        return Elimination(None, most + 1, np.inf)
    found = Elimination(None, **_counted(pattern, np.argsort(ordered.perm_c), most))
    if _is_dissected(pattern.shape[0]):
        order = _dissection(pattern)
        other = Elimination(order, **_counted(pattern, order, most))
        if other.fill <= most and other.seconds < _WORTH * found.seconds:
            return other
    return found


def _counted(pattern: Any, order: IntArray, most: int) -> dict[str, Any]:
    """Return the fill in an order, and the seconds that factors will take.

    Parameters
    ----------
    pattern : csr_array
        Symmetric.
    order : ndarray of int64
    most : int

    Returns
    -------
    dict of str to number
    """
    rows = pattern[order][:, order]
    starts, columns = rows.indptr.astype(np.int64), rows.indices.astype(np.int64)
    operations, work = np.zeros(1), np.zeros((3, order.size), dtype=np.int64)
    (kernel,) = load_kernels("linear_algebra.fill_in.count")
    fill = kernel(address_table(order.size, starts, columns, *work, most, operations))
    return {"fill": fill, "seconds": 2.0 * float(operations[0]) / _OPERATIONS if fill <= most else np.inf}


def _dissection(pattern: Any) -> IntArray:
    """Return an order by nested dissection of a symmetric pattern, int64 (n,)."""
    library = importlib.import_module("pymetis")
    beside = pattern.copy()
    beside.setdiag(0.0)
    beside.eliminate_zeros()
    order, _ = library.nested_dissection(library.CSRAdjacency(beside.indptr, beside.indices))
    return np.asarray(order, dtype=np.int64)


def _is_dissected(n: int) -> bool:
    """Whether there is a library for dissections, which of so many unknowns are worth while and not too long."""
    return _COMPARED <= n <= _MOST_DISSECTED and importlib.util.find_spec("pymetis") is not None


def affordable(matrix: Any, control: Any) -> bool:
    """Whether sparse factors take no more memory and time than there is, before they are made."""
    more = 4.0 if np.iscomplexobj(matrix) else 1.0
    most = int(_MOST_NUMBERS / more) // 2
    expected = elimination(matrix, most, control)
    return expected.fill <= most and more * expected.seconds <= min(_MOST_SECONDS, seconds_left())


def order_for_factors(matrix: Any, control: Any) -> IntArray | None:
    """Return the order in which a matrix is to be factored; None for SuperLU's own."""
    return elimination(matrix, _MOST_NUMBERS, control).order if _is_dissected(matrix.shape[0]) else None
