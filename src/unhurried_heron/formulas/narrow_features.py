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
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.operations import with_fact

# Cells that the search begins with.
_FIRST_CELLS: Final = 64
# Cells that the search may enclose.
_MAX_CELLS: Final = 40_000
# Halvings of a cell.
_MAX_ROUNDS: Final = 40
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
    formulas: Iterable[Node], values: Mapping[str, Any], interval: tuple[float, float]
) -> tuple[StepLimitWindow, ...]:
    """Return where formulas of time vary narrowly, in the order of time, not overlapping.

    Parameters
    ----------
    formulas : Iterable[Node]
    values : mapping of str to float
        Parameters.
    interval : (float, float)
        From when to when.

    Returns
    -------
    tuple[StepLimitWindow, ...]
    """
    low, high = min(interval), max(interval)
    found: list[StepLimitWindow] = []
    for formula in formulas:
        found += _windows(formula, values, low, high)
    return _merged(sorted(found))


def _windows(formula: Node, values: Mapping[str, Any], low: float, high: float) -> list[StepLimitWindow]:
    """Return where a formula of the time varies narrowly.

    Parameters
    ----------
    formula : Node
    values : mapping of str to float or ndarray
        Values by name.
    low : float
        The lower end.
    high : float
        The upper end.

    Returns
    -------
    list[StepLimitWindow]
    """
    edges = np.linspace(low, high, _FIRST_CELLS + 1)
    lows, highs = edges[:-1], edges[1:]
    below, above = enclose(formula, values, lows, highs)
    below, above = below.copy(), above.copy()
    smallest = (high - low) * 2.0**-_MAX_ROUNDS
    for _ in range(_MAX_ROUNDS):
        known = np.isfinite(below) & np.isfinite(above)
        if not known.any():
            return []
        whole = float(above[known].max() - below[known].min())
        rough = (above - below > _SHARE * whole) & (highs - lows > smallest)
        if not rough.any():
            break
        if lows.size + rough.sum() > _MAX_CELLS:
            return []
        middles = 0.5 * (lows[rough] + highs[rough])
        new_lows, new_highs = np.concatenate([lows[rough], middles]), np.concatenate([middles, highs[rough]])
        new_below, new_above = enclose(formula, values, new_lows, new_highs)
        kept = ~rough
        lows, highs = np.concatenate([lows[kept], new_lows]), np.concatenate([highs[kept], new_highs])
        below, above = np.concatenate([below[kept], new_below]), np.concatenate([above[kept], new_above])
    order = np.argsort(lows)
    lows, sizes = lows[order], (highs - lows)[order]
    # around a jump, which is landed on, cells of every size say nothing but where it is
    jumps = lows[sizes <= 2.0 * smallest]
    near = np.zeros(lows.size, dtype=bool)
    for jump in jumps[:: max(1, jumps.size // 100)]:
        near |= np.abs(lows - jump) <= 3.0 * sizes
    small = (sizes <= (high - low) / (_FIRST_CELLS * _NARROW)) & ~near
    if not small.any() or sizes[small].sum() > _LARGEST_PART * (high - low):
        return []
    return [
        StepLimitWindow(float(a), float(a + size), _CELLS_A_STEP * float(size))
        for a, size in zip(lows[small], sizes[small], strict=True)
    ]


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
