"""Where formulas of the time vary within a small part of an interval.

Each formula is enclosed in cells of time, which are halved until its bounds on each are a small share of its range;
where the cells became small beside the interval, something happens.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.enclosures.bounds import enclose
from unhurried_heron.kernels.enclosures.merging import END, LONGEST, ROW, START, joined, overlay
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_longs, offset_by
from unhurried_heron.kernels.memory.decoding import enclosing_in, window_search_in
from unhurried_heron.kernels.memory.enclosures import (
    CELL_SIZE,
    FOUND,
    GIVEN_UP,
    LINKS_SIZE,
    NO_ROOM,
    TOO_MANY,
    WINDOW_SIZE,
)

# numbers of a cell, and whole numbers beside it: the cell that follows it, how often it was halved, whether it is left
# out
LOW, HIGH, BELOW, ABOVE = range(CELL_SIZE)
NEXT, HALVED, LEFT_OUT = range(LINKS_SIZE)
# cells that the search begins with
FIRST_CELLS = 64
# halvings of a cell
_MAX_ROUNDS = 40
# jumps around which cells are left out
_MAX_JUMPS = 100
# cells on which a formula stays within this share of its range are not halved
_SHARE = 0.2
# on cells where a formula stays within this share of its range it is flat
_FLAT = 0.01
# a feature is narrow if it is smaller than the first cells by this factor
_NARROW = 8
# a formula that varies over a larger share of the interval than this is seen by steps of any size: what is flat between
# its parts is shorter than they are, and steps grow by degrees
_LARGEST_PART = 0.5
# small cells that are a smaller share than this are left as they are, flat or not
_SMALL_PART = 0.25
# such cells that one step may pass
_CELLS_A_STEP = 4.0
# rows of values after which the search lets others be heeded
_PATIENCE = 64


@inner
def _enclose_cell(enclosing, formula, row, cell):
    """Let a cell know its bounds.

    Parameters
    ----------
    enclosing : Enclosing
    formula : int
    row : int
        Of the values.
    cell : float pointer, (CELL_SIZE,)
    """
    enclose(enclosing, formula, row, cell, offset_by(cell, BELOW))


@inner
def _first_cells(enclosing, search, formula, row):
    """Divide an interval into cells of one length.

    Parameters
    ----------
    enclosing : Enclosing
    search : WindowSearch
    formula : int
    row : int
        Of the values.
    """
    start, end = search.intervals[2 * row], search.intervals[2 * row + 1]
    length = (end - start) / FIRST_CELLS
    for k in range(FIRST_CELLS):
        cell = offset_by(search.cells, CELL_SIZE * k)
        cell[LOW] = start + k * length
        cell[HIGH] = start + (k + 1) * length if k + 1 < FIRST_CELLS else end
        search.links[LINKS_SIZE * k + NEXT] = k + 1 if k + 1 < FIRST_CELLS else -1
        search.links[LINKS_SIZE * k + HALVED] = 0
        _enclose_cell(enclosing, formula, row, cell)


@inner
def _range(search, count):
    """Return the least and the largest bound of the cells that have both; the largest below the least if none has.

    Parameters
    ----------
    search : WindowSearch
    count : int
        Of cells.

    Returns
    -------
    (float, float)
    """
    least, largest = np.inf, -np.inf
    for k in range(count):
        cell = offset_by(search.cells, CELL_SIZE * k)
        if abs(cell[BELOW]) < np.inf and abs(cell[ABOVE]) < np.inf:
            least, largest = min(least, cell[BELOW]), max(largest, cell[ABOVE])
    return least, largest


@inner
def _halve(enclosing, search, formula, row, number, count):
    """Halve a cell; its right half becomes the last, and follows it.

    Parameters
    ----------
    enclosing : Enclosing
    search : WindowSearch
    formula : int
    row : int
        Of the values.
    number : int
        Of the cell.
    count : int
        Of all cells.
    """
    left, right = offset_by(search.cells, CELL_SIZE * number), offset_by(search.cells, CELL_SIZE * count)
    own, new = offset_by(search.links, LINKS_SIZE * number), offset_by(search.links, LINKS_SIZE * count)
    right[LOW], right[HIGH] = 0.5 * (left[LOW] + left[HIGH]), left[HIGH]
    left[HIGH] = right[LOW]
    new[NEXT], new[HALVED] = own[NEXT], own[HALVED] + 1
    own[NEXT], own[HALVED] = count, own[HALVED] + 1
    _enclose_cell(enclosing, formula, row, left)
    _enclose_cell(enclosing, formula, row, right)


@inner
def _divide(enclosing, search, formula, row, smallest):
    """Halve cells until bounds are a small share of the range, or cells as short as any; return how many there are.

    Parameters
    ----------
    enclosing : Enclosing
    search : WindowSearch
    formula : int
    row : int
        Of the values.
    smallest : float
        Length of a cell that is not halved.

    Returns
    -------
    int
        0 where the formula has no bounds, `TOO_MANY` where there would be more than there is room for.
    """
    _first_cells(enclosing, search, formula, row)
    count = FIRST_CELLS
    for _ in range(_MAX_ROUNDS):
        least, largest = _range(search, count)
        if not largest >= least:
            return 0
        wide, before = _SHARE * (largest - least), count
        for k in range(before):
            cell = offset_by(search.cells, CELL_SIZE * k)
            if cell[ABOVE] - cell[BELOW] > wide and cell[HIGH] - cell[LOW] > smallest:
                if count == search.most:
                    return TOO_MANY
                _halve(enclosing, search, formula, row, k, count)
                count += 1
        if count == before:
            break
    return count


@inner
def _mark_near(search, low):
    """Mark the cells beside a jump, which is landed on: cells of every size say nothing but where it is."""
    number = 0
    while number >= 0:
        cell, link = offset_by(search.cells, CELL_SIZE * number), offset_by(search.links, LINKS_SIZE * number)
        if abs(cell[LOW] - low) <= 3.0 * (cell[HIGH] - cell[LOW]):
            link[LEFT_OUT] = 1
        number = link[NEXT]


@inner
def _mark_beside_jumps(search, count, smallest):
    """Mark the cells beside jumps, or beside some of these where they are many.

    Parameters
    ----------
    search : WindowSearch
    count : int
        Of cells.
    smallest : float
        Twice this is the length of cells that hold a jump.
    """
    jumps = 0
    for k in range(count):
        cell = offset_by(search.cells, CELL_SIZE * k)
        jumps += cell[HIGH] - cell[LOW] <= 2.0 * smallest
        search.links[LINKS_SIZE * k + LEFT_OUT] = 0
    every, passed, number = max(1, jumps // _MAX_JUMPS), 0, 0 if jumps > 0 else -1
    while number >= 0:
        cell = offset_by(search.cells, CELL_SIZE * number)
        if cell[HIGH] - cell[LOW] <= 2.0 * smallest:
            if passed % every == 0:
                _mark_near(search, cell[LOW])
            passed += 1
        number = search.links[LINKS_SIZE * number + NEXT]


@inner
def _mark_flat(search, count, flat):
    """Mark the cells on which the formula varies by no more than a share of its range.

    Parameters
    ----------
    search : WindowSearch
    count : int
        Of cells.
    flat : float
        By how much.
    """
    for k in range(count):
        cell = offset_by(search.cells, CELL_SIZE * k)
        if cell[ABOVE] - cell[BELOW] <= flat:
            search.links[LINKS_SIZE * k + LEFT_OUT] = 1


@inner
def _part_left(search, count, longest):
    """Return how long all cells without a mark are together, up to a length that is marked beyond it.

    Parameters
    ----------
    search : WindowSearch
    count : int
        Of cells.
    longest : float
        Of a cell that is small.

    Returns
    -------
    float
    """
    part = 0.0
    for k in range(count):
        cell, link = offset_by(search.cells, CELL_SIZE * k), offset_by(search.links, LINKS_SIZE * k)
        length = cell[HIGH] - cell[LOW]
        if length > longest:
            link[LEFT_OUT] = 1
        elif link[LEFT_OUT] == 0:
            part += length
    return part


@inner
def _has_narrow_parts(search, count, span):
    """Mark the cells that are not small; return whether the others are a small part of the interval.

    Where many narrow parts follow one another, cells between them, on which the formula is flat, are small, too. These
    are marked then, and steps of any size see the others only where they are a large part themselves.

    Parameters
    ----------
    search : WindowSearch
    count : int
        Of cells.
    span : float
        Length of the interval.

    Returns
    -------
    bool
    """
    small = span / (FIRST_CELLS * _NARROW)
    if _part_left(search, count, small) <= _SMALL_PART * span:
        return True
    least, largest = _range(search, count)
    _mark_flat(search, count, _FLAT * (largest - least))
    return _part_left(search, count, small) <= _LARGEST_PART * span


@inner
def _add_windows(search, row, found):
    """Join the cells without a mark that are of one size and follow one another; return how many windows there are.

    Parameters
    ----------
    search : WindowSearch
    row : int
        Of the values.
    found : int
        Windows before these.

    Returns
    -------
    int
        `NO_ROOM` where they are too many.
    """
    number, last, halved = 0, np.nan, -1
    while number >= 0:
        cell, link = offset_by(search.cells, CELL_SIZE * number), offset_by(search.links, LINKS_SIZE * number)
        if link[LEFT_OUT] == 0:
            if last != cell[LOW] or halved != link[HALVED]:
                if found == search.room:
                    return NO_ROOM
                window = offset_by(search.windows, WINDOW_SIZE * found)
                window[ROW], window[START], window[LONGEST] = row, cell[LOW], np.inf
                found += 1
            window = offset_by(search.windows, WINDOW_SIZE * (found - 1))
            last, halved, window[END] = cell[HIGH], link[HALVED], cell[HIGH]
            window[LONGEST] = min(window[LONGEST], _CELLS_A_STEP * (cell[HIGH] - cell[LOW]))
        number = link[NEXT]
    return found


@inner
def _search_row(enclosing, search, row, found):
    """Find the windows of all formulas for a row of values; return how many windows there are then.

    Parameters
    ----------
    enclosing : Enclosing
    search : WindowSearch
    row : int
    found : int
        Windows before these.

    Returns
    -------
    int
        `NO_ROOM` where they are too many.
    """
    span, begin = search.intervals[2 * row + 1] - search.intervals[2 * row], found
    smallest = span * 2.0**-_MAX_ROUNDS
    for formula in range(enclosing.n_formulas):
        count = _divide(enclosing, search, formula, row, smallest)
        if count > 0:
            _mark_beside_jumps(search, count, smallest)
            end = _add_windows(search, row, found) if _has_narrow_parts(search, count, span) else found
            if end == NO_ROOM:
                return NO_ROOM
            found = overlay(search, begin, found, end)
            if found == NO_ROOM:
                return NO_ROOM
        elif count == TOO_MANY:
            search.found[GIVEN_UP] += 1
    return begin + joined(search, begin, found)


def find_windows(address):
    """Find the windows for rows of values, from the first that is asked for on.

    Parameters
    ----------
    address : int
        Of a table: `Enclosing`, and behind it `WindowSearch`.

    Returns
    -------
    int
        The row after the last one that is done: the others' windows have no room, or others than this are to be heeded.
    """
    table = as_longs(address)
    enclosing, search = enclosing_in(table), window_search_in(table)
    found, row = 0, search.first
    while row < min(search.n_rows, search.first + _PATIENCE):
        end = _search_row(enclosing, search, row, found)
        if end == NO_ROOM:
            break
        found, row = end, row + 1
    search.found[FOUND] = found
    return row
