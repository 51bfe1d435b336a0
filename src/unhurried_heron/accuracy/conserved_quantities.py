"""What should stay as it is along a run: how far conserved quantities drift, and how low states fall."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, BoolArray
from unhurried_heron.errors import RunError
from unhurried_heron.formulas.expression import Node, add
from unhurried_heron.run.columns import modes_at
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory

# A time is the end of a step if the number of steps up to it differs from a whole number by no more than this.
_ROUNDED = 1e-12
# A sum nearly cancels if it is a smaller share of its terms than this.
_CANCELS = 1e-3
OWN_SIZE = "relative to its size"


def values_of(run: Run, quantity: str) -> Array:
    """Return a state, derived quantity or formula at the recorded times, shape (n_times,)."""
    return run[quantity] if quantity in run.columns else _worked_out(run, quantity)


def _worked_out(run: Run, quantity: str | Node) -> Array:
    # Modules that compile are loaded only when something runs.
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_queries

    modes = modes_at(run, run.times, run.data.trajectory.are_before)
    found = evaluate_rows(native_queries(run.problem, quantity), run.times, run.states, modes)
    values = np.full(run.times.size, np.nan)
    values[: len(found)] = found[:, 0]
    return values


def drifts(run: Run, quantity: str) -> Array:
    """Return how far a quantity has moved from its start, relative to its scale (`scale_of`).

    Where events change something, it may: the drift is counted from each change on.
    """
    values = values_of(run, quantity)
    base = np.full(values.size, values[0] if values.size else np.nan)
    sign, before = np.sign(run.ending.time - run.problem.interval[0]), run.data.trajectory.are_before
    for time in run.data.event_log.times.tolist():
        after = np.flatnonzero((sign * (run.times - time) >= 0.0) & ~before)
        if after.size:
            base[after] = values[after[0]]
    moved: Array = (values - base) / scale_of(run, quantity)[0]
    return moved


def scale_of(run: Run, quantity: str) -> tuple[float, str]:
    """Return what a drift is measured by, and how that is said.

    An energy may be zero where its terms are not: a sum that nearly cancels is measured by its terms. Where these are
    zero, too, the drift is absolute.
    """
    size = float(np.abs(values_of(run, quantity)).max(initial=0.0))
    terms = _size_of_terms(run, quantity)
    if size > _CANCELS * terms:
        return size, OWN_SIZE
    return (terms, "relative to its terms, which nearly cancel") if terms > 0.0 else (1.0, "absolute")


def _size_of_terms(run: Run, quantity: str) -> float:
    """Return the largest sum of the sizes of a quantity's terms; 0 where it is no written sum."""
    model = run.problem.model
    if quantity in model.functions:
        return 0.0
    formula = model.read_formula(quantity, quantity)
    if formula.op != "add":
        return 0.0
    sizes = _worked_out(run, add(*(Node("abs", each) for each in formula.operands)))
    return float(np.abs(sizes).max(initial=0.0, where=np.isfinite(sizes)))


def ends_of_steps(run: Run) -> BoolArray:
    """Return which recorded times are ends of steps, where methods conserve what they do, shape (n_times,).

    All of them, where the steps followed a tolerance, which holds between them, too.
    """
    step, kept = run.options["step"], run.data.trajectory
    if step is None or isinstance(kept, StepTrajectory) or not run.times.size:
        return np.ones(run.times.size, dtype=bool)
    counts = (run.times - run.times[0]) / step
    near = np.abs(counts - np.round(counts)) <= _ROUNDED * (1.0 + np.abs(counts))
    found: BoolArray = near | (run.times == run.ending.time)
    return found


def drift_of(run: Run, quantity: str) -> float:
    """Return the largest drift of a quantity at the ends of steps."""
    return float(np.abs(drifts(run, quantity)[ends_of_steps(run)]).max(initial=0.0))


def lowest_of(run: Run, state: str) -> tuple[float, float]:
    """Return the smallest recorded value of a state, and when it had it."""
    values: Any = run[state]
    if not values.size:
        raise RunError(
            "nothing was recorded", name=state, location="lowest", expected="a run of some times", given="none"
        )
    index = int(values.argmin())
    return float(values[index]), float(run.times[index])
