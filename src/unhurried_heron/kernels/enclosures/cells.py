"""Bounds of a formula on many intervals."""

from __future__ import annotations

from unhurried_heron.kernels.enclosures.bounds import enclose
from unhurried_heron.kernels.memory.call import as_longs, offset_by
from unhurried_heron.kernels.memory.decoding import cells_in, enclosing_in


def enclose_cells(address):
    """Work out the bounds of a formula on cells of time.

    Parameters
    ----------
    address : int
        Of a table: `Enclosing`, and behind it `Cells`.

    Returns
    -------
    int
        How many cells there are.
    """
    table = as_longs(address)
    enclosing, cells = enclosing_in(table), cells_in(table)
    for k in range(cells.n_cells):
        enclose(enclosing, 0, cells.rows[k], offset_by(cells.intervals, 2 * k), offset_by(cells.bounds, 2 * k))
    return cells.n_cells
