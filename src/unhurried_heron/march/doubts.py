"""What a run should say of itself when it ends: steps held back by stability, states that are noise."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.kernels.memory.control import FOR_ESTIMATES
from unhurried_heron.march.layout import March
from unhurried_heron.methods.method import Method
from unhurried_heron.native.rows import evaluate_rows
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.trajectory import Array, RecordedTrajectory, Trajectory

# fewer steps than this are quick anyway
_MANY_STEPS: Final = 1000
_MOST_TURNS: Final = 20
_FEW: Final = 20
_NUDGE: Final = 1e-7
# a step chosen for its stability stays within this share of the limit
_LEAST, _MOST = 0.5, 2.0
_SHOWN: Final = 4


def held_back(march: March, method: Method) -> bool:
    """Whether a method's steps were as long as its stability allows at the end of the run.

    The fastest decay is found from differences of the rates, whose calls are counted: from all eigenvalues of a few
    states, by power iteration for many.
    """
    control = march.control
    if int(control["accepted"][0]) < _MANY_STEPS or not np.isfinite(limit := method.real_stability_limit):
        return False
    # the last step is cut to end where it should
    usual_step = float(np.median(np.abs(march.output.recent)))
    with np.errstate(all="ignore"):
        decay = _fastest_decay(march, float(control["time"][0]))
    return _LEAST * limit <= decay * usual_step <= _MOST * limit


def _fastest_decay(march: March, time: float) -> float:
    state, sign = march.system.state, float(np.sign(march.control["step"][0]))
    size = np.maximum(np.abs(state), march.system.absolute + march.system.relative * np.abs(state).max(initial=0.0))
    if state.size <= _FEW:
        rows = np.vstack([state, state + np.diag(_NUDGE * size)])
        found = _rates(march, time, rows)
        if found is None:
            return 0.0
        slopes = (found[1:] - found[0]) / (rows[1:] - state).diagonal()[:, None]
        return float((-sign * np.linalg.eigvals(slopes).real).max()) if np.isfinite(slopes).all() else 0.0
    base = _rates(march, time, state[None, :])
    direction = np.random.default_rng(0).standard_normal(state.size)
    decay = 0.0
    for _ in range(_MOST_TURNS):
        direction /= np.sqrt(np.mean(direction**2))
        moved = state + _NUDGE * direction * size
        found = _rates(march, time, moved[None, :])
        if base is None or found is None:
            return 0.0
        shift, answer = (moved - state) / size, (found[0] - base[0]) / size
        if not (np.isfinite(answer).all() and answer.any()):
            return 0.0
        decay = -sign * float(answer @ shift) / float(shift @ shift)
        direction = answer
    return decay


def _rates(march: March, time: float, states: Array) -> Array | None:
    """Return the rates at several states, shape (rows, n_states), or None where not all could be had."""
    march.control["purpose"] = FOR_ESTIMATES
    found = evaluate_rows(march.native.rates, np.full(len(states), time), states)
    for name in ("rate_evaluations", "for_estimates"):
        march.control[name] += min(len(found) + 1, len(states))
    if len(found) == len(states):
        return found
    stopped = march.native.rates.pending_error()
    if stopped is not None and not isinstance(stopped[0], Exception):
        # Ctrl-C and the like are meant, wherever they come
        raise stopped[0]
    return None


def noise(problem: Problem, trajectory: Trajectory, absolute: Array) -> str:
    """Return a sentence on the states that never came above ten times their absolute tolerance; empty without any."""
    largest = trajectory.largest()
    low = (largest > 0.0) & (largest < 10.0 * absolute)
    if not low.any():
        return ""
    quiet = np.flatnonzero(low)
    layout = problem.model.layout
    told = ", ".join(f"'{layout.name_of(int(k))}'" for k in quiet[:_SHOWN]) + (
        " and others" if quiet.size > _SHOWN else ""
    )
    worst = int(quiet[0])
    its = "its" if quiet.size == 1 else "their"
    seen = "at the recorded times " if isinstance(trajectory, RecordedTrajectory) else ""
    return (
        f"{told} never came above ten times {its} absolute tolerance {seen}(at most {largest[worst]:.2g}, "
        f"atol {absolute[worst]:.2g}): little or nothing of these values is certain. "
        "Give a smaller atol=…, by name where states differ in size."
    )
