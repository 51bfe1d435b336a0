"""What bounds of formulas over intervals of time are worked out on, as `bundles` are."""

from __future__ import annotations

from typing import Final, NamedTuple

from unhurried_heron.kernels.memory.bundles import Array, LongArray

# Numbers of a window: its row of values, when it begins and ends, and how long steps may be in it.
WINDOW_SIZE: Final = 4
# Numbers of a cell of time,
CELL_SIZE: Final = 4
# and whole numbers beside it.
LINKS_SIZE: Final = 3
# What is answered in place of a count of windows that do not fit,
NO_ROOM: Final = -1
# and of cells that would be too many.
TOO_MANY: Final = -2
# What a search tells: how many windows it found, and how many formulas it gave up, of all rows.
FOUND, GIVEN_UP = range(2)


class Enclosing(NamedTuple):
    """Formulas whose bounds are worked out, and for which values of parameters.

    ``tape`` (rows, ROW_SIZE) int64: the rows of all formulas (`kernels.enclosures.tape`), those of formula k from
    int64 ``begins`` (n_formulas + 1,) on, their operands counted from there. ``constants``; ``values`` (n_rows,
    columns, 2): within which each value lies, for as many rows of values as there are; ``ends`` (rows, 2): to work on.
    """

    tape: LongArray
    begins: LongArray
    n_formulas: int
    constants: Array
    values: Array
    columns: int
    ends: Array


class Cells(NamedTuple):
    """Intervals on which the first formula is enclosed.

    int64 ``rows`` (n_cells,): the row of values of each; ``intervals`` (n_cells, 2); ``bounds`` (n_cells, 2), to be
    filled.
    """

    rows: LongArray
    intervals: Array
    bounds: Array
    n_cells: int


class WindowSearch(NamedTuple):
    """A search for windows in which formulas vary narrowly.

    ``intervals`` (n_rows, 2): the interval of each row of values; ``first``: the row that is searched first.
    ``cells`` (most, CELL_SIZE): ends and bounds of each cell, int64 ``links`` (most, LINKS_SIZE): the cell that follows
    it, how often it was halved, whether it is left out. ``windows`` (room, WINDOW_SIZE), to be filled, and as much to
    work on in ``merging``; int64 ``found`` (2,): how many they are, and how many formulas were
    given up.
    """

    intervals: Array
    n_rows: int
    first: int
    cells: Array
    links: LongArray
    most: int
    windows: Array
    merging: Array
    room: int
    found: LongArray
