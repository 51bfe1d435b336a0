"""Factors of shift*M - J for large systems: LAPACK's full ones, and SuperLU's sparse ones."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import numpy as np
from scipy.linalg import blas, lapack
from scipy.sparse import coo_array, csc_array
from scipy.sparse.csgraph import connected_components, reverse_cuthill_mckee
from scipy.sparse.linalg import splu

from unhurried_heron.arrays import Array
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.elimination_order import FROM_DIAGONAL, order_for_factors
from unhurried_heron.families.factoring_thread import apart
from unhurried_heron.kernels.linear_algebra.context import UNKNOWN
from unhurried_heron.model.mass_matrix import MassMatrix

# Columns of a block of full factors.
_COLUMNS: Final = 128
# Factors are accepted if the error of a solution with entries of about one is at most this.
_SOLVED: Final = 1e-6


def identity_of(n: int) -> MassMatrix:
    """Return the identity as a mass matrix."""
    each = np.arange(n, dtype=np.int64)
    return MassMatrix(each, each, np.ones(n))


def order_for_band(n: int, rows: Any, columns: Any) -> tuple[Any, int, int]:
    """Return an order of the unknowns with a narrow band, and its widths below and above the diagonal.

    Parameters
    ----------
    n : int
        Number of states.
    rows : ndarray of int64, shape (n_entries,)
    columns : ndarray of int64, shape (n_entries,)
        Columns of the entries.

    Returns
    -------
    (ndarray of int64, int, int)

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    entries = np.ones(rows.size, dtype=np.int8)
    pattern = coo_array((entries, (rows, columns)), shape=(n, n)).tocsr()
    order = np.asarray(reverse_cuthill_mckee((pattern + pattern.T).tocsr(), symmetric_mode=True), dtype=np.int64)
    index = np.empty(n, dtype=np.int64)
    best: tuple[Any, int, int] | None = None
    # The order in which the unknowns were written may be as good.
    for tried in (np.arange(n), order):
        index[tried] = np.arange(n)
        below = index[rows] - index[columns]
        widths = int(max(below.max(initial=0), 0)), int(max((-below).max(initial=0), 0))
        if best is None or sum(widths) < best[1] + best[2]:
            best = (tried, *widths)
    if best is None:
        raise unforeseen("best is not None")
    return best


class FullFactors:
    """(shift*M - J) as a full matrix, factored in blocks of columns: Golub and Van Loan, section 3.4.

    Between two blocks a stop is heeded, which within LAPACK's own would wait for seconds.
    """

    def __init__(self, n: int, kind: type, control: Any, mass: MassMatrix) -> None:
        self._n, self.kind, self._control = n, kind, control
        self._of_mass = mass.rows, mass.columns
        pair = "z" if kind is complex else "d"
        self._panel, self._solve = getattr(lapack, pair + "getrf"), getattr(lapack, pair + "getrs")
        self._below, self._product = getattr(blas, pair + "trsm"), getattr(blas, pair + "gemm")

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Factor; return the sign of the determinant, UNKNOWN of a complex one, None where the matrix is singular.

        ``shifts`` (n_mass,): the entries of shift*M.
        """
        n = self._n
        self._control["fill"] = max(self._control["fill"][0], n * n)
        a: Any = np.array(-values, dtype=self.kind, order="F")
        a[self._of_mass] += shifts
        self._pivots = np.empty(n, dtype=np.int32)
        odd = 0
        for first in range(0, n, _COLUMNS):
            if self._control["stop"][0] != 0:
                return None
            last = min(n, first + _COLUMNS)
            a[first:, first:last], pivots, info = self._panel(a[first:, first:last])
            if info != 0 or not np.isfinite(a[first:, first:last].diagonal()).all():
                return None
            self._pivots[first:last] = first + pivots
            order = np.arange(n - first)
            for index, other in enumerate(pivots.tolist()):
                order[[index, other]] = order[[other, index]]
                odd += index != other
            moved = np.flatnonzero(order != np.arange(n - first))
            for rest in (slice(0, first), slice(last, n)):
                a[first + moved, rest] = a[first + order[moved], rest]
            if last < n:
                right = self._below(1.0, a[first:last, first:last], a[first:last, last:], lower=1, diag=1)
                a[first:last, last:] = right
                a[last:, last:] = self._product(-1.0, a[last:, first:last], right, 1.0, a[last:, last:])
        self._factors = a
        if self.kind is complex:
            return UNKNOWN
        return -1 if (np.count_nonzero(a.diagonal() < 0) + odd) % 2 else 1

    def solve(self, right: Array, tolerance: float) -> Array:
        """Return the solution; factors always meet the tolerance."""
        found, _ = self._solve(self._factors, self._pivots, right)
        return np.asarray(found)


class SparseFactors:
    """(shift*M - J) with sparse direct factors, ordered by minimum degree of A^T + A or by nested dissection.

    Patterns of grids are symmetric, and shift*M - J has a strong diagonal where a step is sensible: pivots from there
    leave half the fill of an order of the columns alone. Where they are too weak, which a solution tells, the factors
    are made anew by partial pivoting: T. A. Davis, *Direct Methods for Sparse Linear Systems* (2006), chapter 7.
    """

    def __init__(self, n: int, entries: Any, kind: type, control: Any, mass: MassMatrix) -> None:
        self._n, self.kind, self._control = n, kind, control
        self._probe = 1.0 + 0.5 * np.cos(np.arange(n))
        rows, columns = entries
        self._places = np.concatenate([rows, mass.rows]), np.concatenate([columns, mass.columns])
        # how they are made at first, and the order of the unknowns that they are made for: None for their own
        self._options: Mapping[str, Any] = FROM_DIAGONAL
        self._order: Any = None
        self._looked = False

    def matrix(self, shifts: Any, values: Array) -> Any:
        """Return the matrix, a csc_array."""
        numbers = np.concatenate([-values, shifts])
        return csc_array(coo_array((numbers, self._places), shape=(self._n, self._n)))

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Factor, as `FullFactors.factor` does."""
        if not (np.isfinite(values).all() and np.isfinite(shifts).all()):
            return None
        matrix = self.matrix(shifts, values)
        if not self._looked:
            matrix = self._in_order(matrix)
        factors = self._factored(matrix, self._options)
        if factors is not None and not self._solves(matrix, factors):
            factors = self._factored(matrix, {})
        if factors is None:
            return None
        self._factors = factors
        self._control["fill"] = max(self._control["fill"][0], factors.nnz)
        if self.kind is complex:
            return UNKNOWN
        odd = np.count_nonzero(self._factors.U.diagonal() < 0)
        odd += sum(map(_odd, (self._factors.perm_r, self._factors.perm_c)))
        return -1 if odd % 2 else 1

    def _in_order(self, matrix: Any) -> Any:
        """Choose the order of the unknowns, once; return the first matrix in it."""
        order, self._looked = order_for_factors(matrix, self._control), True
        if order is None:
            return matrix
        position = np.empty_like(order)
        position[order] = np.arange(self._n)
        self._places = position[self._places[0]], position[self._places[1]]
        self._options, self._order = {**FROM_DIAGONAL, "permc_spec": "NATURAL"}, order
        return csc_array(matrix[order][:, order])

    def _factored(self, matrix: Any, options: Mapping[str, Any]) -> Any:
        """Return factors; None where the matrix is singular, or the march is stopped meanwhile."""
        return apart(lambda: splu(matrix, **options), self._n, self._control)

    def _solves(self, matrix: Any, factors: Any) -> bool:
        """Whether factors solve for a vector that is known."""
        right = matrix @ self._probe
        found = factors.solve(right.astype(self.kind))
        return bool(np.abs(found - self._probe).max() <= _SOLVED)

    def solve(self, right: Array, tolerance: float) -> Array:
        """Return the solution; factors always meet the tolerance."""
        if self._order is None:
            found: Array = self._factors.solve(right)
            return found
        found = np.empty_like(right)
        found[self._order] = self._factors.solve(right[self._order])
        return found


def _odd(order: Any) -> int:
    """Whether a permutation takes an odd number of exchanges."""
    n = order.size
    cycles, _ = connected_components(coo_array((np.ones(n, dtype=np.int8), (np.arange(n), order)), shape=(n, n)))
    return int(n - cycles) % 2
