"""When conditions on time and parameters change: every time within an interval, none missed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import TIME, ZERO, Node, rewrite, walk
from unhurried_heron.formulas.interval_arithmetic import Enclosure, enclose, of_rows
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.simplify import simplified

# Known times of one switch.
MAX_TIMES: Final = 100_000
# Cells of the interval that the search may enclose.
_MAX_CELLS: Final = 200_000
# Cells that the search begins with.
_FIRST_CELLS: Final = 64
# Times that change by less than this share are solved for: a few roundings.
_ROUNDED: Final = 1e-15
# Halvings after which nothing is left of any interval.
_MAX_HALVINGS: Final = 1_100
# Two crossings within this share of the interval are a touch, unless the formula jumps.
_TOUCH: Final = 1e-6
_BROKEN: Final = with_fact(lambda each: not each.smooth)


class _Found:
    """Times of each row, while they are found: roots, and touches."""

    def __init__(self, count: int) -> None:
        self.crossed: list[tuple[Any, Any]] = []
        self.touched: list[tuple[Any, Any]] = []
        self.work = np.zeros(count, dtype=np.int64)
        self.known = np.ones(count, dtype=bool)

    def of(self, row: int, parts: list[tuple[Any, Any]]) -> Any:
        """Return the times of one row."""
        return np.concatenate([np.empty(0), *(times[rows == row] for rows, times in parts)])


def crossing_times(truth: Node, values: Mapping[str, Any], low: Any, high: Any) -> list[list[float] | None]:
    """Return the times at which ``gap >= 0``, or ``floor(gap)``, changes, for many intervals and values at once.

    Parameters
    ----------
    truth : Node
        "ge" of a formula and zero, or "floor" or "ceil" of a formula.
    values : mapping of str to float or ndarray, shape (n_rows,)
        Parameters.
    low, high : ndarray, shape (n_rows,)
        From when to when.

    Returns
    -------
    list of (list[float] or None)
        Those of each row, in the order of time; None where they cannot be told apart.
    """
    gap = rewrite(truth.operands[0], simplified, {})
    broken, whole = any(node.op in _BROKEN for node in walk(gap)), truth.op != "ge"
    growth = rewrite(Differentiator([TIME]).by_name(gap).get(TIME, ZERO), simplified, {})
    found = _Found(low.size)
    if whole:
        below, above = enclose(gap, values, low, high)
        found.known = above - below < MAX_TIMES
    _isolate((gap, None if broken else growth), values, (low, high), found, whole=whole)
    # where a curve only touches a level, rounding leaves many cells undecided
    answers: list[list[float] | None] = []
    for row, known in enumerate(found.known):
        near = 4.0 * _smallest(low[row], high[row])
        touched = found.of(row, found.touched)
        touched = touched[(touched > low[row] + near) & (touched < high[row] - near)]
        apart = _apart(touched, near if broken else _TOUCH * (high[row] - low[row]))
        times = _apart(np.concatenate([found.of(row, found.crossed), apart]), near)
        answers.append(times if known and len(times) <= MAX_TIMES else None)
    return answers


def _smallest(low: Any, high: Any) -> Any:
    return 1e-13 * np.maximum(np.abs(low), np.abs(high))


def _isolate(
    formulas: tuple[Node, Node | None],
    values: Mapping[str, Any],
    interval: tuple[Any, Any],
    found: _Found,
    *,
    whole: bool,
) -> None:
    """Halve cells of time until each is known to hold no crossing, or rises or falls, or is too small to halve.

    Parameters
    ----------
    formulas : (Node, Node or None)
        The formula, and its derivative by the time where it has one everywhere.
    values : mapping of str to float or ndarray, shape (n_rows,)
        Values by name.
    interval : (ndarray, ndarray), shapes (n_rows,)
        From when to when.
    found : _Found
        To be filled.
    whole : bool
        Whether whole numbers are crossed, and not zero alone.
    """
    (gap, growth), (low, high) = formulas, interval
    edges, smallest = np.linspace(low, high, _FIRST_CELLS + 1).T, _smallest(low, high)
    height, rise = (Enclosure([each], values, low.size) for each in (gap, growth or ZERO))
    rows, lows, highs = np.repeat(np.arange(low.size), _FIRST_CELLS), edges[:, :-1].ravel(), edges[:, 1:].ravel()
    while rows.size:
        found.work += np.bincount(rows, minlength=low.size)
        found.known &= found.work <= _MAX_CELLS
        below, above = height.on(rows, lows, highs)
        maybe = np.ceil(below) <= np.floor(above) if whole else (below <= 0.0) & (above >= 0.0)
        maybe &= found.known[rows]
        rows, lows, highs = rows[maybe], lows[maybe], highs[maybe]
        if growth is not None and rows.size:
            below, above = rise.on(rows, lows, highs)
            steady = (below > 0.0) | (above < 0.0)
            _cross((gap, growth), values, (rows[steady], lows[steady], highs[steady]), found, whole=whole)
            rows, lows, highs = rows[~steady], lows[~steady], highs[~steady]
        tiny = highs - lows <= smallest[rows]
        found.touched.append((rows[tiny], highs[tiny]))
        rows, lows, highs = rows[~tiny], lows[~tiny], highs[~tiny]
        middles = 0.5 * (lows + highs)
        rows = np.concatenate([rows, rows])
        lows, highs = np.concatenate([lows, middles]), np.concatenate([middles, highs])


def _cross(
    formulas: tuple[Node, Node], values: Mapping[str, Any], cells: tuple[Any, Any, Any], found: _Found, *, whole: bool
) -> None:
    """Find where a formula that only rises or only falls on each cell crosses levels, those at its start apart.

    Parameters
    ----------
    formulas : (Node, Node)
        The formula, and its derivative by the time.
    values : mapping of str to float or ndarray, shape (n_rows,)
    cells : (ndarray, ndarray, ndarray), shapes (n_cells,)
        Rows, and from when to when.
    found : _Found
        To be filled.
    whole : bool
        Whether whole numbers are crossed, and not zero alone.
    """
    rows, lows, highs = cells

    def height(node: Node, rows: Any, times: Any) -> Any:
        return np.broadcast_to(evaluate(node, {**of_rows(values, rows), TIME: times}), times.shape)

    left, right = height(formulas[0], rows, lows), height(formulas[0], rows, highs)
    least, most = np.minimum(left, right), np.maximum(left, right)
    if whole:
        # the next whole number strictly above the least, and how many are strictly within
        begin = np.floor(least) + 1.0
        count = np.maximum(np.ceil(most) - begin, 0.0)
    else:
        begin, count = np.zeros(rows.size), ((least < 0.0) & (most > 0.0)).astype(float)
    at_start = (np.floor(left) == left) if whole else left == 0.0
    found.touched.append((rows[at_start], lows[at_start]))
    count = np.where(np.isfinite(count), count, 0.0).astype(np.int64)
    found.work += np.bincount(rows, weights=count, minlength=found.work.size).astype(np.int64)
    found.known &= found.work <= _MAX_CELLS
    count *= found.known[rows]
    cell = np.repeat(np.arange(rows.size), count)
    level = begin[cell] + np.arange(cell.size) - np.repeat(np.cumsum(count) - count, count)
    a, b = np.where(left < right, lows, highs)[cell], np.where(left < right, highs, lows)[cell]
    found.crossed.append(
        (rows[cell], _solve(lambda node, times: height(node, rows[cell], times), formulas, level, a, b))
    )


def _solve(height: Callable[[Node, Any], Any], formulas: tuple[Node, Node], level: Any, a: Any, b: Any) -> Any:
    """Solve for where rising formulas reach their levels: by Newton's method, by halves where that does not converge.

    Parameters
    ----------
    height : callable
        Returns the values of a formula at times.
    formulas : (Node, Node)
        The formula, and its derivative by the time.
    level : ndarray, shape (n_times,)
    a, b : ndarray, shape (n_times,)
        Where it is below and above its level.

    Returns
    -------
    ndarray, shape (n_times,)
    """
    time, moved = 0.5 * (a + b), np.abs(b - a)
    with np.errstate(all="ignore"):
        for _ in range(_MAX_HALVINGS):
            gap = height(formulas[0], time) - level
            a, b = np.where(gap < 0.0, time, a), np.where(gap > 0.0, time, b)
            newton = time - gap / height(formulas[1], time)
            change = np.abs(newton - time)
            nearer = (change < 0.5 * moved) | (change <= _ROUNDED * np.abs(time))
            inside = (np.minimum(a, b) <= newton) & (newton <= np.maximum(a, b)) & nearer
            new = np.where(gap == 0.0, time, np.where(inside, newton, 0.5 * (a + b)))
            # what is found stays, so that it does not depend on what else is looked for
            new = np.where(moved > _ROUNDED * np.abs(time), new, time)
            moved, time = np.abs(new - time), new
            if not (moved > _ROUNDED * np.abs(time)).any():
                break
    return time


def _apart(times: Any, least: float) -> list[float]:
    """Drop times that stand for one and the same root."""
    kept: list[float] = []
    for time in np.sort(times).tolist():
        if not kept or time - kept[-1] > least:
            kept.append(time)
    return kept
