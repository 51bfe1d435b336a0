"""Where formulas of time alone vary within a small part of an interval: a step would not see it unless it is told.

Each formula is enclosed in cells of time, which are halved until its bounds on each are a small share of its range;
where the cells became small beside the interval, something happens. R. E. Moore, R. B. Kearfott and M. J. Cloud,
*Introduction to Interval Analysis* (2009), chapter 5.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.formulas.expression import TIME, Node, free_names, upwards
from unhurried_heron.formulas.interval_arithmetic import enclose, of_rows
from unhurried_heron.formulas.operations import with_fact

# Cells that the search begins with.
_FIRST_CELLS: Final = 64
# Cells that the search may enclose.
_MAX_CELLS: Final = 40_000
# Halvings of a cell.
_MAX_ROUNDS: Final = 40
# Rows that are searched at once, for what their cells take of memory.
_ROWS: Final = 64
# Jumps of a row around which cells are left out.
_MAX_JUMPS: Final = 100
# Formulas of one problem that are searched.
_MAX_FORMULAS: Final = 60
# Cells on which a formula stays within this share of its range are not halved.
_SHARE: Final = 0.2
# A feature is narrow if it is smaller than the first cells by this factor.
_NARROW: Final = 8
# A formula that varies over a larger share of the interval than this is seen by steps of any size.
_LARGEST_PART: Final = 0.25
# Windows are merged if their steps differ by no more than this factor.
_ALIKE: Final = 4.0
# Such cells that one step may pass.
_CELLS_A_STEP: Final = 4.0
# sums, products and waves vary no more narrowly than what they are made of
CANDIDATES: Final = with_fact(lambda each: each.narrow)


class StepLimitWindow(NamedTuple):
    """A part of an interval in which steps must not be longer than ``longest``."""

    start: float
    end: float
    longest: float


def time_formulas(roots: Iterable[Node], parameters: Iterable[str]) -> tuple[Node, ...]:
    """Return the formulas within trees that depend on the time and parameters alone and can vary narrowly."""
    allowed = {TIME, *parameters}
    found: dict[Node, None] = {}
    moving: dict[Node, bool | None] = {}
    for node in upwards(*roots):
        if node.op == "name":
            named = str(node.args[0])
            moving[node] = (named == TIME) if named in allowed else None
            continue
        parts = [moving[part] for part in node.operands]
        moving[node] = None if node.has_indexed or None in parts else any(parts)
        if moving[node] and node.op in CANDIDATES:
            found[node] = None
    return tuple(node for node in found if free_names(node) <= allowed)[:_MAX_FORMULAS]


def narrow_windows(
    formulas: Iterable[Node], values: Mapping[str, Any], low: Any, high: Any
) -> list[tuple[StepLimitWindow, ...]]:
    """Return where formulas of time vary narrowly, for many intervals and values of parameters at once.

    Parameters
    ----------
    formulas : Iterable[Node]
    values : mapping of str to float or ndarray, shape (n_rows,)
        Parameters.
    low, high : float or ndarray, shape (n_rows,)
        From when to when.

    Returns
    -------
    list of tuple[StepLimitWindow, ...]
        Those of each row in the order of time, not overlapping.
    """
    found: list[tuple[StepLimitWindow, ...]] = []
    trees, low, high = tuple(formulas), np.atleast_1d(low), np.atleast_1d(high)
    for first in range(0, low.size, _ROWS):
        rows = slice(first, first + _ROWS)
        own = of_rows(values, rows)
        gathered: list[list[StepLimitWindow]] = [[] for _ in range(low[rows].size)]
        for formula in trees:
            for row, *window in zip(*_windows(formula, own, low[rows], high[rows]), strict=True):
                gathered[row].append(StepLimitWindow(*window))
        found += [_merged(sorted(each)) for each in gathered]
    return found


class _Cells(NamedTuple):
    """Cells of time: the row of each, from when to when, how often it was halved, and bounds of the formula."""

    rows: Any
    lows: Any
    highs: Any
    halved: Any
    below: Any
    above: Any

    def of(self, chosen: Any) -> _Cells:
        """Return some of the cells."""
        return _Cells(*(each[chosen] for each in self))


def _enclosed(formula: Node, values: Mapping[str, Any], rows: Any, lows: Any, highs: Any, halved: Any) -> _Cells:
    """Return cells with bounds of the formula.

    Parameters
    ----------
    formula : Node
    values : mapping of str to float or ndarray, shape (n_rows,)
    rows, lows, highs, halved : ndarray, shape (n_cells,)

    Returns
    -------
    _Cells
    """
    return _Cells(rows, lows, highs, halved, *enclose(formula, of_rows(values, rows), lows, highs))


def _windows(formula: Node, values: Mapping[str, Any], low: Any, high: Any) -> tuple[list[Any], ...]:
    """Return where a formula of the time varies narrowly.

    Parameters
    ----------
    formula : Node
    values : mapping of str to float or ndarray, shape (n_rows,)
    low, high : ndarray, shape (n_rows,)

    Returns
    -------
    (list of int, list of float, list of float, list of float)
        Rows, and the start, end and longest step of each window.
    """
    count, span = low.size, high - low
    edges = np.linspace(low, high, _FIRST_CELLS + 1).T
    rows = np.repeat(np.arange(count), _FIRST_CELLS)
    first = (edges[:, :-1].ravel(), edges[:, 1:].ravel(), np.zeros(rows.size, dtype=np.int64))
    cells = _enclosed(formula, values, rows, *first)
    smallest, searched = span * 2.0**-_MAX_ROUNDS, np.ones(count, dtype=bool)
    for _ in range(_MAX_ROUNDS):
        known = np.isfinite(cells.below) & np.isfinite(cells.above)
        least, most = np.full(count, np.inf), np.full(count, -np.inf)
        np.minimum.at(least, cells.rows[known], cells.below[known])
        np.maximum.at(most, cells.rows[known], cells.above[known])
        searched &= most >= least
        wide = cells.above - cells.below > _SHARE * (most - least)[cells.rows]
        rough = wide & (cells.highs - cells.lows > smallest[cells.rows]) & searched[cells.rows]
        searched &= (
            np.bincount(cells.rows, minlength=count) + np.bincount(cells.rows[rough], minlength=count) <= _MAX_CELLS
        )
        rough &= searched[cells.rows]
        if not rough.any():
            break
        old, kept = cells.of(rough), cells.of(~rough & searched[cells.rows])
        middles = 0.5 * (old.lows + old.highs)
        halves = (
            np.concatenate([old.rows, old.rows]),
            np.concatenate([old.lows, middles]),
            np.concatenate([middles, old.highs]),
            np.concatenate([old.halved, old.halved]) + 1,
        )
        new = _enclosed(formula, values, *halves)
        cells = _Cells(*map(np.concatenate, zip(kept, new, strict=True)))
    cells = cells.of(np.lexsort((cells.lows, cells.rows)))
    sizes = cells.highs - cells.lows
    small = sizes <= (span / (_FIRST_CELLS * _NARROW))[cells.rows]
    small &= searched[cells.rows] & ~_beside_jumps(cells, sizes, smallest)
    part = np.bincount(cells.rows, weights=sizes * small, minlength=count)
    small &= (part <= _LARGEST_PART * span)[cells.rows]
    return _runs(cells.of(small), sizes[small])


def _beside_jumps(cells: _Cells, sizes: Any, smallest: Any) -> Any:
    """Whether cells lie around a jump, which is landed on: cells of every size say nothing but where it is.

    Parameters
    ----------
    cells : _Cells
    sizes : ndarray, shape (n_cells,)
    smallest : ndarray, shape (n_rows,)

    Returns
    -------
    ndarray of bool, shape (n_cells,)
    """
    near = np.zeros(sizes.size, dtype=bool)
    tiny = sizes <= 2.0 * smallest[cells.rows]
    for row in np.unique(cells.rows[tiny]):
        own = cells.rows == row
        jumps = cells.lows[own & tiny]
        for jump in jumps[:: max(1, jumps.size // _MAX_JUMPS)]:
            near |= own & (np.abs(cells.lows - jump) <= 3.0 * sizes)
    return near


def _runs(cells: _Cells, sizes: Any) -> tuple[list[Any], ...]:
    """Join cells of one size that follow one another.

    Parameters
    ----------
    cells : _Cells
        In the order of rows and of time.
    sizes : ndarray, shape (n_cells,)

    Returns
    -------
    (list of int, list of float, list of float, list of float)
        As of `_windows`.
    """
    if not sizes.size:
        return [], [], [], []
    follows = (cells.rows[1:] == cells.rows[:-1]) & (cells.lows[1:] == cells.highs[:-1])
    begins = np.flatnonzero(np.concatenate([[True], ~(follows & (cells.halved[1:] == cells.halved[:-1]))]))
    ends = np.concatenate([begins[1:], [sizes.size]]) - 1
    longest = _CELLS_A_STEP * np.minimum.reduceat(sizes, begins)
    return cells.rows[begins].tolist(), cells.lows[begins].tolist(), cells.highs[ends].tolist(), longest.tolist()


def _merged(windows: list[StepLimitWindow]) -> tuple[StepLimitWindow, ...]:
    """Join windows that touch or overlap and ask for steps of about the same length."""
    joined: list[StepLimitWindow] = []
    most = 0.0
    for window in windows:
        last = joined[-1] if joined else None
        if last and window.start < last.end:
            # Of two windows that overlap, the second keeps what the first leaves.
            window = window._replace(start=last.end)
            if window.end <= window.start:
                continue
        least = min(last.longest, window.longest) if last else window.longest
        if last and window.start <= last.end + 0.5 * least and max(most, window.longest) <= _ALIKE * least:
            most = max(most, window.longest)
            joined[-1] = StepLimitWindow(last.start, window.end, least)
        else:
            most = window.longest
            joined.append(window)
    return tuple(joined)
