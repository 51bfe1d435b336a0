"""Contexts of compiled linear algebra on matrices of which few entries are stored."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.kernels.linear_algebra.context import (
    CONTEXT_SIZE,
    IM,
    MATRIX,
    PIVOTS,
    RE,
    SHIFT,
    STOP,
    STRUCTURE,
    N,
)
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.model.mass_matrix import MassMatrix


class Storage(NamedTuple):
    """How shift*M - J is stored.

    Attributes
    ----------
    size : int
        How many numbers are stored.
    sources, entries : ndarray of int64
        In the order in which they are stored: which entries of J, and where.
    of_mass : ndarray of int64
        Where each entry of M is stored, in ascending order,
    mass : ndarray
        and its values.
    order : ndarray of int64, shape (n,)
        The unknown in each row.
    rows : ndarray of int64, shape (size,), or None
        The row of each number, where rows are to be scaled.
    band : (int, int)
        Widths below and above the diagonal.
    """

    size: int
    sources: IntArray
    entries: IntArray
    of_mass: IntArray
    mass: Array
    order: IntArray
    rows: IntArray | None
    band: tuple[int, int]


def banded_storage(n: int, entries: Any, mass: MassMatrix, band: tuple[Any, int, int], *, scaled: bool) -> Storage:
    """Return how a banded matrix is stored, row by row.

    Parameters
    ----------
    n : int
        Its order.
    entries : (ndarray of int64, ndarray of int64)
        Rows and columns of J.
    mass : MassMatrix
    band : (ndarray of int64, int, int)
        The order of the unknowns, and the widths below and above the diagonal.
    scaled : bool
        Whether rows are to be scaled.

    Returns
    -------
    Storage
    """
    order, below, above = band
    index = np.empty(n, dtype=np.int64)
    index[order] = np.arange(n)
    width = 2 * below + above + 1

    def where(rows: Any, columns: Any) -> IntArray:
        found: IntArray = index[rows] * width + below + index[columns] - index[rows]
        return found

    # the rows of zeros that follow are scaled with the last
    rows = np.minimum(np.repeat(np.arange(n + below, dtype=np.int64), width), n - 1) if scaled else None
    unknowns = np.ascontiguousarray(order, dtype=np.int64)
    stored = where(*entries)
    # many large systems wait for memory, which is fastest where it is passed through in its order
    sources = np.argsort(stored, kind="stable")
    of_mass = where(mass.rows, mass.columns)
    by_place = np.argsort(of_mass, kind="stable")
    in_order = of_mass[by_place], mass.values[by_place]
    return Storage((n + below) * width, sources, stored[sources], *in_order, unknowns, rows, (below, above))


def stored_context(n: int, control: Any, entries: Array, complex_shift: bool, storage: Storage) -> tuple[Any, ...]:
    """Return the context of a shifted matrix and the arrays that must be kept alive beside it.

    Parameters
    ----------
    n : int
        Its order.
    control : ndarray, shape (1,)
        The control record of the march.
    entries : ndarray, shape (n_entries,)
        In which those of J are to be found.
    complex_shift : bool
    storage : Storage

    Returns
    -------
    tuple
        The context, and the arrays that it points to.
    """
    context, shift, pivots = np.zeros(CONTEXT_SIZE, np.int64), np.zeros(3), np.zeros(n, np.int64)
    re, im = np.zeros(storage.size), np.zeros(storage.size if complex_shift else 0)
    right = np.zeros(n + sum(storage.band))
    right_im = np.zeros(right.size if complex_shift else 0)
    lower = np.zeros(n * storage.band[0])
    lower_im = np.zeros(lower.size if complex_shift else 0)
    scales = np.ones(n)
    rows = 0 if storage.rows is None else storage.rows
    # no number is stored behind the last: where it would be ends the passes over entries
    stored, of_mass = (np.append(each, storage.size) for each in (storage.entries, storage.of_mass))
    indices = storage.sources, stored, of_mass
    vectors = storage.mass, storage.order, rows, scales, right, right_im
    table = address_table(storage.size, *indices, *vectors, *storage.band, lower, lower_im)
    context[N], context[STOP], context[MATRIX] = n, address(control), address(entries)
    context[SHIFT], context[PIVOTS], context[RE] = address(shift), address(pivots), address(re)
    context[IM] = address(im) if complex_shift else 0
    context[STRUCTURE] = address(table)
    return (
        context,
        control,
        entries,
        shift,
        pivots,
        re,
        im,
        right,
        right_im,
        scales,
        lower,
        lower_im,
        table,
        storage,
        stored,
        of_mass,
    )
