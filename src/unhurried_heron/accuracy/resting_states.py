"""States that no run moved: whether their rates are zero all along the runs, or only where they were asked for."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.expression import SUM, TIME, Node, mul, name, number, rewrite, walk
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.layout import IndexedFormula
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run

# The range of the states is extended by this share beyond the values of the run.
_BEYOND: Final = 1e-4
# Rates below this could never move a state visibly.
_NOTHING: Final = 1e-300


def unseen_states(problem: Problem, runs: list[Run]) -> list[str]:
    """Return the states that moved in no run, though their rates are not zero everywhere near what the runs passed.

    A rate that is a function of the user's may be anything between the points where it was evaluated. A written one is
    enclosed over all values that the states ran through (R. E. Moore, R. B. Kearfott and M. J. Cloud, *Introduction to
    Interval Analysis*, 2009, chapter 5).
    """
    rates, start, layout = problem.model.rates, problem.start, problem.model.layout
    ends = np.array([run.data.trajectory.end_state for run in runs])
    passed = np.array([run.states for run in runs if run.states.size]).reshape(-1, layout.size)
    still = np.all(ends == start, axis=0) & np.all(passed == start, axis=0)
    if not isinstance(rates, WrittenRates) or not still.any():
        return [layout.name_of(index) for index in np.flatnonzero(still).tolist()]
    ends = np.vstack([passed, ends, start])
    wide = _BEYOND * np.maximum(np.ptp(ends, axis=0), np.abs(start))
    low, high = ends.min(axis=0) - np.where(still, 0.0, wide), ends.max(axis=0) + np.where(still, 0.0, wide)
    moved = {
        index for rate in rates.indexed_formulas for index in _places(rate) if not _is_zero(problem, rate, low, high)
    }
    return [layout.name_of(index) for index in np.flatnonzero(still).tolist() if index in moved]


def _places(rate: IndexedFormula) -> Any:
    """Return where the values of a formula go."""
    indices = np.array([rate.base])
    for loop, stride in zip(rate.loops, rate.strides, strict=True):
        indices = np.add.outer(indices, stride * np.arange(loop.first, loop.last + 1)).ravel()
    return indices.tolist()


def _is_zero(problem: Problem, rate: IndexedFormula, low: Any, high: Any) -> bool:
    """Whether a right-hand side is zero for all states within bounds.

    Parameters
    ----------
    problem : Problem
    rate : IndexedFormula
    low : ndarray
        Lower bounds of the states.
    high : ndarray
        Upper bounds.

    Returns
    -------
    bool
    """
    box: dict[str, Any] = dict(problem.parameters)
    for place_name, position in problem.model.layout.scalars.items():
        box[place_name] = low[position], high[position]
    box |= {loop.index: (float(loop.first), float(loop.last)) for loop in rate.loops}
    sums = [node for node in walk(rate.node) if node.op == SUM]
    box |= {str(node.args[0]): (float(node.args[1].args[0]), float(node.args[2].args[0])) for node in sums}

    def in_box(node: Node) -> Node | None:
        if node.op == SUM:
            first, last = box[str(node.args[0])]
            return mul(number(max(last - first + 1.0, 0.0)), node.args[3])
        if node.op == "slot":
            ends = [[stride * each for each in box[str(index)]] for index, stride in node.args[1:]]
            begin = int(node.args[0] + sum(map(min, ends)))
            end = int(node.args[0] + sum(map(max, ends)))
            box[f"{begin}..{end}"] = low[begin : end + 1].min(), high[begin : end + 1].max()
            return name(f"{begin}..{end}")
        return None

    formula = rewrite(rate.node, in_box, {})
    box |= dict.fromkeys(measured_names(problem.inputs), (-np.inf, np.inf))
    box.pop(TIME, None)
    begin, end = sorted(problem.interval)
    below, above = enclose(formula, box, np.array([begin]), np.array([end]))
    return bool(max(abs(below[0]), abs(above[0])) <= _NOTHING)
