"""Iterations on shift*M - J with incomplete factors, in compiled code; complex shifts as pairs of real unknowns."""

from __future__ import annotations

import functools
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.sparse import coo_array, csc_array
from scipy.sparse.csgraph import reverse_cuthill_mckee
from scipy.sparse.linalg import spilu

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.elimination_order import affordable
from unhurried_heron.families.factoring_thread import apart
from unhurried_heron.families.factorisations import SparseFactors
from unhurried_heron.families.krylov import Matrix
from unhurried_heron.families.linear import LinearDemand
from unhurried_heron.families.stored_entries import Storage, stored_context
from unhurried_heron.formulas.layout import Layout
from unhurried_heron.kernels.linear_algebra.context import DONE, ITERATION, UNKNOWN, B
from unhurried_heron.kernels.linear_algebra.iteration import ITERATIONS
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.model.mass_matrix import MassMatrix

# Vectors of a Krylov space at most,
_LARGEST: Final = 30
# and numbers in all of them, in 240 MB,
_MAX_NUMBERS: Final = 30_000_000
# of larger systems so many vectors.
_FEWEST: Final = 10
# How often a space is begun.
_RESTARTS: Final = 3
# Where they fail, and direct factors cost too much, iterations with other factors stand in: entries below this share
# of their column are left out,
_DROPPED: Final = 1e-4
# and no more are kept than so many times those of the matrix.
_MOST_FILL: Final = 10.0
# How often that must happen before nothing else is tried any more.
_FAILURES: Final = 3


class Rows(NamedTuple):
    """Entries of a matrix in order of rows and columns: where each row begins, and all columns."""

    keys: IntArray
    starts: IntArray
    columns: IntArray


def _rows(n: int, rows: Any, columns: Any) -> Rows:
    """Return entries in order, each once.

    Parameters
    ----------
    n : int
    rows, columns : ndarray of int64

    Returns
    -------
    Rows
    """
    keys = np.sort(rows * n + columns)
    keys = keys[np.append(True, np.diff(keys) != 0)]
    return Rows(keys, np.searchsorted(keys, n * np.arange(n + 1)), keys % n)


def _within_cells(cells: IntArray) -> tuple[Any, Any]:
    """Return rows and columns of all pairs of unknowns of one cell; ``cells`` (n,) numbers them."""
    order = np.argsort(cells, kind="stable")
    counts = np.bincount(cells)
    begins = np.cumsum(counts) - counts
    sizes = counts[cells[order]]
    rows = np.repeat(order, sizes)
    each = np.arange(rows.size) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    return rows, order[np.repeat(begins[cells[order]], sizes) + each]


def _cells_of(layout: Layout) -> IntArray:
    """Return the cell of each state, int64 (n,): those with equal indices are in one, any other in its own."""
    boxes: dict[int, list[Any]] = {}
    for group in layout.indexed:
        boxes.setdefault(len(group.value_box), []).append(group.value_box)
    begins, count = {}, 0
    for dimension, several in boxes.items():
        first = np.min([[begin for begin, _ in box] for box in several], axis=0)
        shape = np.max([[end for _, end in box] for box in several], axis=0) - first + 1
        begins[dimension] = count, first, shape
        count += int(np.prod(shape))
    cells = np.empty(layout.size, dtype=np.int64)
    for group in layout.groups:
        members = slice(layout.offsets[group.name], layout.offsets[group.name] + group.size)
        if not group.value_box:
            cells[members], count = count, count + 1
            continue
        begin, first, shape = begins[len(group.value_box)]
        indices = np.indices(group.value_shape).reshape(len(first), -1)
        shifts = np.array([low for low, _ in group.value_box]) - first
        numbers = begin + np.ravel_multi_index(tuple(indices + shifts[:, None]), tuple(shape))
        cells[members] = np.repeat(numbers, group.size // numbers.size)
    return np.unique(cells, return_inverse=True)[1]


class IncompleteFactors:
    """GMRES on shift*M - J, preconditioned by incomplete factors or by those of the cells' own blocks.

    Parameters
    ----------
    kind : type
        float or complex.
    demand : LinearDemand
        Its record of control counts the iterations.
    mass : MassMatrix
    """

    def __init__(self, kind: type, demand: LinearDemand, mass: MassMatrix) -> None:
        n, control, entries, measure = demand.n, demand.control, demand.entries, demand.measure
        if entries is None or measure is None or demand.layout is None:
            raise unforeseen("incomplete factors have a pattern, units and a layout")
        self._n, self.kind, self._control, self._measure = n, kind, control, measure
        self._demand, self._mass = demand, mass
        self._stand_in: Any = None
        self._failed, self._failures = False, 0
        cells = _cells_of(demand.layout) if demand.preconditioner == "cells" else None
        parts = 2 if kind is complex else 1
        size, each = parts * n, np.arange(n)
        known = np.concatenate([entries[0], mass.rows, each]), np.concatenate([entries[1], mass.columns, each])
        pattern = coo_array((np.ones(known[0].size, dtype=np.int8), known), shape=(n, n)).tocsr()
        order = np.asarray(reverse_cuthill_mckee((pattern + pattern.T).tocsr(), symmetric_mode=True), dtype=np.int64)
        at = np.empty(n, dtype=np.int64)
        at[order] = parts * each

        def spread(pattern: Any, pairs: list[tuple[int, int]]) -> tuple[Any, Any]:
            """Return entries of the real and imaginary parts of unknowns."""
            rows, columns = pattern
            return (
                np.concatenate([at[rows] + row for row, _ in pairs]),
                np.concatenate([at[columns] + column for _, column in pairs]),
            )

        same = [(part, part) for part in range(parts)]
        crossed = [*same, (0, 1), (1, 0)][: parts * parts]
        of_j, of_m = spread(entries, same), spread((mass.rows, mass.columns), crossed)
        matrix = _rows(size, np.concatenate([of_j[0], of_m[0]]), np.concatenate([of_j[1], of_m[1]]))
        kept = _rows(size, *spread(known if cells is None else _within_cells(cells), crossed))
        stored = np.searchsorted(matrix.keys, of_j[0] * size + of_j[1])
        by_place = np.argsort(stored, kind="stable")
        of_mass = np.searchsorted(matrix.keys, of_m[0] * size + of_m[1])
        self._of_mass, self._shifted = np.argsort(of_mass, kind="stable"), np.zeros(of_mass.size)
        in_order = of_mass[self._of_mass], self._shifted
        unknowns = np.ascontiguousarray((order[:, None] + n * np.arange(parts)).ravel())
        sources = by_place % entries[0].size
        storage = Storage(matrix.keys.size, sources, stored[by_place], *in_order, unknowns, None, (0, 0))
        self._values = np.zeros(entries[0].size)
        self._context, *self._kept = stored_context(size, control, self._values, False, storage)
        self._lay_out(size, matrix, kept)
        self._right, self._shift = np.zeros(size), self._kept[2]
        self._shift[0] = 1.0
        self._context[B] = address(self._right)
        self._kernels = load_kernels("linear_algebra.incomplete_lu.factor", "linear_algebra.gmres.solve")
        self._unknowns = order

    def _lay_out(self, size: int, matrix: Rows, kept: Rows) -> None:
        """Allocate what iterations work on.

        Parameters
        ----------
        size : int
        matrix : Rows
        kept : Rows
            Of the preconditioner.
        """
        there = np.minimum(np.searchsorted(matrix.keys, kept.keys), matrix.keys.size - 1)
        sources = np.where(matrix.keys[there] == kept.keys, there, -1)
        diagonals = np.searchsorted(kept.keys, np.arange(size) * (size + 1))
        largest = min(size, _LARGEST, max(_FEWEST, _MAX_NUMBERS // size))
        self._units = np.ones(size)
        preconditioner = kept.starts, kept.columns, diagonals, sources, np.zeros(kept.keys.size), np.full(size, -1)
        space = np.zeros((largest + 1, size)), np.zeros((largest, largest + 1)), np.zeros((4, largest + 1))
        several = matrix.starts, matrix.columns, *preconditioner, self._units, *space, np.zeros(size), np.zeros(size)
        arrays: Any = tuple(map(np.ascontiguousarray, several))
        self._table = address_table(*arrays, largest, _RESTARTS, 0)
        self._context[ITERATION] = address(self._table)
        self._kept.append(arrays)

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Form the incomplete factors; return UNKNOWN, for no sign can be told, or None where there are none."""
        self._given = shifts, values
        if self._failures >= _FAILURES:
            return self._with_more()
        self._values[:] = values
        parts = [shifts] if self.kind is float else [shifts.real, shifts.real, -shifts.imag, shifts.imag]
        self._shifted[:] = np.concatenate(parts)[self._of_mass]
        self._units[:] = np.repeat(self._measure.units()[self._unknowns], self._units.size // self._n)
        self._failed = self._kernels[0](self._context) != DONE
        return self._with_more() if self._failed else UNKNOWN

    def _with_more(self) -> int | None:
        """Form what stands in, of what was given last; None where there are no factors."""
        if self._demand.preconditioner is not None or self._control["stop"][0] != 0:
            return None
        self._failed, self._failures = True, self._failures + 1
        if self._stand_in is None:
            self._stand_in = self._affordable()
        found: int | None = self._stand_in.factor(*self._given)
        return found

    def _affordable(self) -> Any:
        """Return sparse factors where they may be made and can be afforded, iterations with fill-in elsewhere."""
        demand = self._demand
        if not demand.insists:
            direct = SparseFactors(self._n, demand.entries, self.kind, self._control, self._mass)
            if affordable(direct.matrix(*self._given), self._control):
                self._control["stood_in"] = 1
                return direct
        self._control["stood_in"] = 2
        filled = demand._replace(preconditioner=functools.partial(_with_fill, self._control))
        return Matrix(self.kind, filled, self._mass)

    def solve(self, right: Any, tolerance: float) -> Any:
        """Return the solution, None where iterations do not come to the tolerance."""
        if self._failed:
            return None if self._stand_in is None else self._stand_in.solve(right, tolerance)
        self._right[: self._n] = right.real
        if self.kind is complex:
            self._right[self._n :] = right.imag
        self._shift[2] = tolerance
        self._table[ITERATIONS] = 0
        done = self._kernels[1](self._context) == DONE
        self._control["linear_iterations"] += self._table[ITERATIONS]
        if not done:
            return None if self._with_more() is None else self.solve(right, tolerance)
        return self._right if self.kind is float else self._right[: self._n] + 1j * self._right[self._n :]


def _with_fill(control: Any, matrix: Any) -> Any:
    """Return incomplete factors with fill-in: X. S. Li and M. Shao, ACM Trans. Math. Softw. 37 (2011) 43."""
    ordered = csc_array(matrix)
    return apart(lambda: spilu(ordered, drop_tol=_DROPPED, fill_factor=_MOST_FILL), matrix.shape[0], control)
