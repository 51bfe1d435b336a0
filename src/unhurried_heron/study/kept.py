"""What should stay as it is along a run: how far conserved quantities drift, and how low states fall."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.errors import RunError
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array, StepTrajectory

# ends of steps differ by no more than rounding from whole numbers of them
_ROUNDED = 1e-12


def values_of(run: Run, quantity: str) -> Array:
    """Return a state, derived quantity or formula at the recorded times, shape (n_times,)."""
    if quantity in run.columns:
        return run[quantity]
    # what compiles is loaded when something runs
    from unhurried_heron.native.rows import evaluate_rows
    from unhurried_heron.native.system import native_asked

    modes = run._modes(run.times, run._trajectory.are_before)
    found = evaluate_rows(native_asked(run.problem, quantity), run.times, run.states, modes)
    values = np.full(run.times.size, np.nan)
    values[: len(found)] = found[:, 0]
    return values


def drifts(run: Run, quantity: str) -> Array:
    """Return how far a quantity has moved from its start, relative to its largest size (absolute where that is zero).

    Where events change something, it may: the drift is counted from each change on.
    """
    values = values_of(run, quantity)
    base = np.full(values.size, values[0] if values.size else np.nan)
    sign, before = np.sign(run.ending.time - run.problem.interval[0]), run._trajectory.are_before
    for time in run._happened.times.tolist():
        after = np.flatnonzero((sign * (run.times - time) >= 0.0) & ~before)
        if after.size:
            base[after] = values[after[0]]
    size = float(np.abs(values).max(initial=0.0))
    moved: Array = (values - base) / (size if size > 0.0 else 1.0)
    return moved


def ends_of_steps(run: Run) -> Any:
    """Return which recorded times are ends of steps, where methods conserve what they do, shape (n_times,).

    All of them, where the steps followed a tolerance, which holds between them, too.
    """
    step, kept = run.options["step"], run._trajectory
    if step is None or isinstance(kept, StepTrajectory) or not run.times.size:
        return np.ones(run.times.size, dtype=bool)
    counts = (run.times - run.times[0]) / step
    found = np.abs(counts - np.round(counts)) <= _ROUNDED * (1.0 + np.abs(counts))
    return found | (run.times == run.ending.time)


def drift_of(run: Run, quantity: str) -> float:
    """Return the largest drift of a quantity at the ends of steps."""
    return float(np.abs(drifts(run, quantity)[ends_of_steps(run)]).max(initial=0.0))


def lowest_of(run: Run, state: str) -> tuple[float, float]:
    """Return the smallest recorded value of a state, and when it had it."""
    values: Any = run[state]
    if not values.size:
        raise RunError("nothing was recorded", name=state, place="lowest", expected="a run of some times", given="none")
    place = int(values.argmin())
    return float(values[place]), float(run.times[place])
