"""When a condition on time and parameters changes: every time within an interval, none missed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import TIME, ZERO, Node, add, names_in, number, rewrite, walk
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.simplify import simplified

# Known times of one switch.
MAX_TIMES: Final = 100_000
# Cells of the interval that the search may enclose.
_MAX_CELLS: Final = 200_000
# Cells that the search begins with.
_FIRST_CELLS: Final = 64
# Steps of a formula with a curved argument that are solved for one by one.
_MAX_CURVED_STEPS: Final = 2_000
# Two crossings within this share of the interval are a touch, unless the formula jumps.
_TOUCH: Final = 1e-6
_BROKEN: Final = with_fact(lambda each: not each.smooth)


def crossing_times(truth: Node, values: Mapping[str, Any], interval: tuple[float, float]) -> list[float] | None:
    """Return the times at which ``gap >= 0``, or ``floor(gap)``, changes; None if they cannot be told apart.

    Parameters
    ----------
    truth : Node
        "ge" of a formula and zero, or "floor" or "ceil" of a formula.
    values : mapping of str to float
        Parameters.
    interval : (float, float)
        From when to when.

    Returns
    -------
    list[float] or None
    """
    gap = rewrite(truth.operands[0], simplified, {})
    low, high = min(interval), max(interval)
    if truth.op == "ge":
        return _roots(gap, values, low, high)
    bounds = enclose(gap, values, np.array([low]), np.array([high]))
    first, last = float(bounds[0][0]), float(bounds[1][0])
    if not (last - first < MAX_TIMES):
        return None
    steps = np.arange(np.floor(first), np.ceil(last) + 1.0)
    line = _line(gap, values)
    if line is not None:
        start, steepness = line
        return ((steps - start) / steepness).tolist() if steepness else []
    if steps.size > _MAX_CURVED_STEPS:
        return None
    found: list[float] = []
    for whole in steps:
        times = _roots(add(gap, number(-float(whole))), values, low, high)
        if times is None or len(found) + len(times) > MAX_TIMES:
            return None
        found += times
    return found


def _roots(gap: Node, values: Mapping[str, Any], low: float, high: float) -> list[float] | None:
    """Return the roots of a formula of the time in an interval; None where they cannot be isolated.

    Parameters
    ----------
    gap : Node
        The formula.
    values : mapping of str to float or ndarray
        Values by name.
    low : float
        The lower end.
    high : float
        The upper end.

    Returns
    -------
    list[float] or None
    """
    line = _line(gap, values)
    if line is not None:
        start, steepness = line
        return [-start / steepness] if steepness else []
    broken = any(node.op in _BROKEN for node in walk(gap))
    return _isolate(gap, _derivative(gap), values, (low, high), broken)


def _derivative(gap: Node) -> Node:
    return rewrite(Differentiator([TIME]).by_name(gap).get(TIME, ZERO), simplified, {})


def _line(gap: Node, values: Mapping[str, Any]) -> tuple[float, float] | None:
    """Return the value at time zero and the derivative of a formula that is linear in the time, or None."""
    derivative = _derivative(gap)
    if TIME in names_in(derivative) or any(node.op in _BROKEN for node in walk(gap)):
        return None
    steepness, start = float(evaluate(derivative, values)), float(evaluate(gap, {**values, TIME: 0.0}))
    usable = steepness != 0.0 and np.isfinite(steepness) and np.isfinite(start / steepness)
    return (start, steepness) if usable else (0.0, 0.0)


def _isolate(
    gap: Node, derivative: Node, values: Mapping[str, Any], interval: tuple[float, float], broken: bool
) -> list[float] | None:
    """Halve cells of time until each is known to hold no root, or one, or is too small to halve.

    Parameters
    ----------
    gap : Node
        The formula.
    derivative : Node
        By the time.
    values : mapping of str to float or ndarray
        Values by name.
    interval : (float, float)
        From when to when.
    broken : bool
        Whether it can jump.

    Returns
    -------
    list[float] or None
    """
    edges = np.linspace(*interval, _FIRST_CELLS + 1)
    lows, highs = edges[:-1], edges[1:]
    smallest = 1e-13 * max(abs(interval[0]), abs(interval[1]))
    found: list[float] = []
    touched: list[float] = []
    work = 0
    while lows.size:
        work += lows.size
        if work > _MAX_CELLS or len(found) > MAX_TIMES:
            return None
        below, above = enclose(gap, values, lows, highs)
        maybe = (below <= 0.0) & (above >= 0.0)
        lows, highs = lows[maybe], highs[maybe]
        if not broken and lows.size:
            below, above = enclose(derivative, values, lows, highs)
            steady = (below > 0.0) | (above < 0.0)
            crossed, zeros = _one_each(gap, values, lows[steady], highs[steady])
            found += crossed
            touched += zeros
            lows, highs = lows[~steady], highs[~steady]
        tiny = highs - lows <= smallest
        touched += [float(high) for high in highs[tiny]]
        lows, highs = lows[~tiny], highs[~tiny]
        middles = 0.5 * (lows + highs)
        lows, highs = np.concatenate([lows, middles]), np.concatenate([middles, highs])
    # Where a curve only touches zero, rounding leaves many cells undecided.
    low, high = interval
    touched = [time for time in touched if low + 4.0 * smallest < time < high - 4.0 * smallest]
    near = 4.0 * smallest if broken else _TOUCH * (interval[1] - interval[0])
    return _apart(found + _apart(touched, near), 4.0 * smallest)


def _one_each(gap: Node, values: Mapping[str, Any], lows: Any, highs: Any) -> tuple[list[float], list[float]]:
    """Find the roots of a formula that only rises or only falls on each cell, those at its edge apart.

    Parameters
    ----------
    gap : Node
        The formula.
    values : mapping of str to float or ndarray
        Values by name.
    lows : ndarray, shape (n_cells,)
    highs : ndarray, shape (n_cells,)

    Returns
    -------
    tuple[list[float], list[float]]
    """
    if not lows.size:
        return [], []
    from scipy.optimize import brentq

    def height(time: Any) -> Any:
        return evaluate(gap, {**values, TIME: time})

    left, right = np.broadcast_to(height(lows), lows.shape), np.broadcast_to(height(highs), highs.shape)
    found, zeros = [], []
    for a, b, p, q in zip(lows, highs, left, right, strict=True):
        if p == 0.0:
            zeros.append(float(a))
        elif p * q < 0.0:
            found.append(float(brentq(height, a, b, xtol=1e-300, rtol=8.9e-16)))
    return found, zeros


def _apart(times: list[float], least: float) -> list[float]:
    """Drop times that stand for one and the same root."""
    kept: list[float] = []
    for time in sorted(times):
        if not kept or time - kept[-1] > least:
            kept.append(time)
    return kept
