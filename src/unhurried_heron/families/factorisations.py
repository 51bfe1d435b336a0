"""Factors of shift*M - J for large systems: LAPACK's full ones, and SuperLU's sparse ones."""

from __future__ import annotations

import atexit
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, Final

import numpy as np
from scipy.linalg import blas, lapack
from scipy.sparse import coo_array, csc_array
from scipy.sparse.csgraph import connected_components, reverse_cuthill_mckee
from scipy.sparse.linalg import spilu, splu

from unhurried_heron.arrays import Array
from unhurried_heron.deadline import seconds_left
from unhurried_heron.errors import unforeseen
from unhurried_heron.kernels.linear_algebra.context import UNKNOWN
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.model.mass_matrix import MassMatrix

# Columns of a block of full factors.
_COLUMNS: Final = 128
# How sparse factors are made at first: a pivot on the diagonal is taken unless it is smaller than the largest entry
# of its column by this factor
_FROM_DIAGONAL: Final = {"permc_spec": "MMD_AT_PLUS_A", "diag_pivot_thresh": 0.01, "options": {"SymmetricMode": True}}
# Factors are accepted if the error of a solution with entries of about one is at most this.
_SOLVED: Final = 1e-6
# Numbers of factors that are made where nobody named them, in 400 MB,
_MOST_NUMBERS: Final = 50_000_000
# and the seconds that may take,
_MOST_SECONDS: Final = 30.0
# by the operations in a second that SuperLU managed at least, on grids and networks of 5,000 to 80,000 unknowns.
_OPERATIONS: Final = 1.5e9
# What makes SuperLU order the columns, and do little else.
_ORDER_ALONE: Final = {**_FROM_DIAGONAL, "drop_tol": 1.0, "fill_factor": 1.0}
# Unknowns from which a factorisation has a thread of its own.
_OWN_THREAD: Final = 2000
# Seconds between two looks whether it must end.
_LOOK_SECONDS: Final = 0.05
# Seconds that the process waits for such threads at its end.
_LAST_SECONDS: Final = 5.0


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
    """(shift*M - J) with sparse direct factors, ordered by minimum degree of A^T + A.

    Patterns of grids are symmetric, and shift*M - J has a strong diagonal where a step is sensible: pivots from there
    leave half the fill of an order of the columns alone. Where they are too weak, which a solution tells, the factors
    are made anew by partial pivoting: T. A. Davis, *Direct Methods for Sparse Linear Systems* (2006), chapter 7.
    """

    def __init__(self, n: int, entries: Any, kind: type, control: Any, mass: MassMatrix) -> None:
        self._n, self.kind, self._control = n, kind, control
        self._probe = 1.0 + 0.5 * np.cos(np.arange(n))
        rows, columns = entries
        self._places = np.concatenate([rows, mass.rows]), np.concatenate([columns, mass.columns])

    def matrix(self, shifts: Any, values: Array) -> Any:
        """Return the matrix, a csc_array."""
        numbers = np.concatenate([-values, shifts])
        return csc_array(coo_array((numbers, self._places), shape=(self._n, self._n)))

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Factor, as `FullFactors.factor` does."""
        if not (np.isfinite(values).all() and np.isfinite(shifts).all()):
            return None
        matrix = self.matrix(shifts, values)
        factors = self._factored(matrix, _FROM_DIAGONAL)
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
        found: Array = self._factors.solve(right)
        return found


def expected_work(matrix: Any, most: int, control: Any) -> tuple[int, float]:
    """Return how many numbers a triangular factor will hold, and the seconds that factors will take.

    Parameters
    ----------
    matrix : csc_array
    most : int
        Numbers beyond which they are not counted any more.
    control : CONTROL

    Returns
    -------
    (int, float)
        More than ``most`` where there are that many, or where there are no factors.
    """
    n = matrix.shape[0]
    ordered = apart(lambda: spilu(matrix, **_ORDER_ALONE), n, control)
    if ordered is None:
        return most + 1, np.inf
    order = np.argsort(ordered.perm_c)
    pattern = csc_array((np.ones(matrix.nnz), matrix.indices, matrix.indptr), shape=matrix.shape)
    rows = (pattern + pattern.T).tocsr()[order][:, order]
    starts, columns = rows.indptr.astype(np.int64), rows.indices.astype(np.int64)
    operations, work = np.zeros(1), np.zeros((3, n), dtype=np.int64)
    (kernel,) = load_kernels("linear_algebra.fill_in.count")
    fill = kernel(address_table(n, starts, columns, *work, most, operations))
    return fill, 2.0 * float(operations[0]) / _OPERATIONS


def affordable(matrix: Any, control: Any) -> bool:
    """Whether sparse factors take no more memory and time than there is, before they are made."""
    more = 4.0 if np.iscomplexobj(matrix) else 1.0
    most = int(_MOST_NUMBERS / more) // 2
    fill, seconds = expected_work(matrix, most, control)
    return fill <= most and more * seconds <= min(_MOST_SECONDS, seconds_left())


# Threads for whose factors nobody waits any more.
_left: list[threading.Thread] = []


@atexit.register
def _wait_for_those_left() -> None:
    """Give factorisations that were left to themselves some seconds before the interpreter ends under them."""
    deadline = time.monotonic() + _LAST_SECONDS
    for thread in _left:
        thread.join(max(0.0, deadline - time.monotonic()))


def apart(make: Callable[[], Any], n: int, control: Any) -> Any:
    """Return the factors of SuperLU; None where the matrix is singular, or the march is stopped meanwhile.

    Nothing stops the factorisation itself, so a large one has a thread, which is left to itself.

    Parameters
    ----------
    make : callable
        Returns them.
    n : int
        Order of the matrix.
    control : CONTROL

    Returns
    -------
    object or None

    Raises
    ------
    Exception
        Any but that of a singular matrix.
    """
    if n < _OWN_THREAD:
        with suppress(RuntimeError):
            return make()
        return None
    found: list[Any] = []
    wrong: list[Exception] = []
    done = threading.Event()

    def work() -> None:
        try:
            found.append(make())
        except RuntimeError:
            found.append(None)
        except Exception as error:  # it is raised where it is waited for
            wrong.append(error)
        done.set()

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    while not done.wait(_LOOK_SECONDS):
        if control["stop"][0] != 0:
            _left[:] = [*(each for each in _left if each.is_alive()), thread]
            return None
    if wrong:
        raise wrong[0]
    return found[0]


def _odd(order: Any) -> int:
    """Whether a permutation takes an odd number of exchanges."""
    n = order.size
    cycles, _ = connected_components(coo_array((np.ones(n, dtype=np.int8), (np.arange(n), order)), shape=(n, n)))
    return int(n - cycles) % 2
