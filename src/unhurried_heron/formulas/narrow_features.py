"""Where formulas of time alone vary within a small part of an interval: a step would not see it unless it is told.

Each formula is enclosed in cells of time, which are halved until its bounds on each are a small share of its range;
where the cells became small beside the interval, something happens. R. E. Moore, R. B. Kearfott and M. J. Cloud,
*Introduction to Interval Analysis* (2009), chapter 5.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.deadline import check_deadline
from unhurried_heron.formulas.expression import TIME, Node, free_names, upwards
from unhurried_heron.formulas.interval_arithmetic import Enclosure
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.kernels.memory.enclosures import CELL_SIZE, FOUND, GIVEN_UP, LINKS_SIZE, WINDOW_SIZE, WindowSearch

# Cells into which a search may divide an interval.
_MAX_CELLS: Final = 200_000
# Windows that the search first has room for.
_FIRST_ROOM: Final = 1_000
# Formulas of one problem that are searched.
_MAX_FORMULAS: Final = 60
# A power of what varies evenly on the first cells changes by less than a share of its range on each of them up to the
# sixth, one with a root in it apart.
_LOW_POWERS: Final = frozenset(map(float, range(7)))
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
        even = (node.op == "div" and not parts[1]) or (node.op == "pow" and node.operands[1].value in _LOW_POWERS)
        if moving[node] and node.op in CANDIDATES and not even:
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
    pieces, _ = _searched(tuple(formulas), values, low, high)
    found: list[list[StepLimitWindow]] = [[] for _ in range(np.broadcast(low, high).size)]
    for row, *window in np.concatenate(pieces).tolist():
        found[int(row)].append(StepLimitWindow(*window))
    return [tuple(each) for each in found]


def varies_too_often(formula: Node, values: Mapping[str, Any], low: float, high: float) -> bool:
    """Whether the search gives up a formula, because it varies in more places than are looked into.

    Parameters
    ----------
    formula : Node
    values : mapping of str to float
    low, high : float
        From when to when.

    Returns
    -------
    bool
    """
    return _searched((formula,), values, low, high)[1] > 0


def _searched(trees: tuple[Node, ...], values: Mapping[str, Any], low: Any, high: Any) -> tuple[list[Array], int]:
    """Return windows, their rows before them, and how many formulas were given up; all as `narrow_windows`.

    Parameters
    ----------
    trees : tuple of Node
    values : mapping of str to float or ndarray, shape (n_rows,)
    low, high : float or ndarray, shape (n_rows,)

    Returns
    -------
    (list of ndarray, shapes (n_windows, WINDOW_SIZE), int)
    """
    # what loads the compiler is loaded when it is needed
    from unhurried_heron.kernels.machine_code.prepare import load_kernels
    from unhurried_heron.kernels.memory.bundles import address_table

    low, high = np.broadcast_arrays(np.atleast_1d(low), np.atleast_1d(high))
    enclosing = Enclosure(trees, values, low.size).bundle
    intervals, room = np.stack([low, high], axis=1, dtype=np.float64), _FIRST_ROOM
    cells, links = np.empty((_MAX_CELLS, CELL_SIZE)), np.empty((_MAX_CELLS, LINKS_SIZE), dtype=np.int64)
    count, done, pieces = np.zeros(2, dtype=np.int64), 0, [np.empty((0, WINDOW_SIZE))]
    (search,) = load_kernels("enclosures.window_search.find_windows")
    while done < low.size:
        check_deadline()
        windows = np.empty((room, WINDOW_SIZE))
        filled = windows, np.empty_like(windows), room, count
        bundle = WindowSearch(intervals, low.size, done, cells, links, _MAX_CELLS, *filled)
        before, done = done, search(address_table(*enclosing, *bundle))
        pieces.append(windows[: count[FOUND]])
        room *= 2 if done == before else 1
    return pieces, int(count[GIVEN_UP])
