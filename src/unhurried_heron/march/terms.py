"""Why a march failed: a term of the equations near a pole, the end of a domain, 0/0; or a state that blows up."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.march.layout import March
from unhurried_heron.native.rows import evaluate_rows
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.quotients import what_to_write, zero_denominator
from unhurried_heron.run.trajectory import StepTrajectory, Trajectory

# a formula that has come down to this share of what it was at the start is near to zero
_NEAR_ZERO: Final = 1e-3
# a state that grows so many times in so small a share of the time leaves all bounds
_UNBOUNDED, _LAST = 1e3, 1e-3
# a rate that would change its state so many times in the time that has passed leaves all bounds
_STEEP: Final = 1e6


def cause_of(problem: Problem, march: March, trajectory: Trajectory) -> str:
    """Return a sentence on why a march failed: a term of the rates, or a state that leaves all bounds; or nothing."""
    found = _term_of(problem, march)
    if found or not march.last("adaptive"):
        # fixed steps beyond a method's stability leave all bounds by themselves
        return found
    with np.errstate(all="ignore"):
        return _unbounded(problem, march, trajectory) or _unbounded_rate(problem, march)


def _unbounded_rate(problem: Problem, march: March) -> str:
    """Name the state whose rate has become very large for its size, if one has."""
    state, slope, time = march.system.state, march.system.slope, march.last("time")
    elapsed = abs(time - problem.interval[0])
    if not (np.isfinite(state).all() and np.isfinite(slope).all()) or not elapsed or not slope.size:
        return ""
    shares = np.abs(slope) * elapsed / np.maximum(np.abs(state), march.system.absolute)
    worst = int(shares.argmax())
    if shares[worst] < _STEEP:
        return ""
    name, toward = problem.model.layout.name_of(worst), f"t = {time:.6g}"
    return (f"The rate of state '{name}' leaves all bounds towards {toward}: it is {slope[worst]:.3g} there. End the "
            "run earlier, or stop it by an event.")  # fmt: skip


def fastest_state(problem: Problem, march: March) -> str:
    """Return the name of the state that changes most for its size where a march stands."""
    size = np.maximum(np.abs(march.system.state), march.system.absolute)
    with np.errstate(all="ignore"):
        shares = np.nan_to_num(np.abs(march.system.slope) / size)
    return problem.model.layout.name_of(int(shares.argmax())) if shares.size else ""


def _unbounded(problem: Problem, march: March, trajectory: Trajectory) -> str:
    """Name the state that grows most in the last bit of the time, if it grows very much."""
    if not isinstance(trajectory, StepTrajectory) or not trajectory.starts.size:
        return ""
    time, starts = march.last("time"), trajectory.starts
    before = np.abs(time - starts) >= _LAST * abs(time - problem.interval[0])
    rows = [coefficients[:, 0, :] for _, _, coefficients in trajectory.pieces]
    earlier = np.abs(np.concatenate(rows)[before]).max(axis=0, initial=0.0)
    state = np.abs(march.system.state)
    if not before.any() or not np.isfinite(state).all():
        return ""
    grown = state / np.maximum(earlier, 1e-300)
    worst = int(grown.argmax())
    if grown[worst] < _UNBOUNDED:
        return ""
    name, toward = problem.model.layout.name_of(worst), f"t = {time:.6g}"
    return (
        f"State '{name}' leaves all bounds towards {toward}: it is {march.system.state[worst]:.3g} there, and was at "
        f"most {earlier[worst]:.3g} in size until shortly before. End the run earlier, or stop it by an event."
    )


def _term_of(problem: Problem, march: March) -> str:
    """Return a sentence on the term of the rates that has no value, or soon none, where a march failed; or nothing."""
    begins = march.last("time") == problem.interval[0]
    if begins and (zero := zero_denominator(problem, problem.interval[0], problem.start)):
        return f"At the start '{zero}' is zero. {what_to_write(zero)}"
    time = march.last("bad_time")
    if not begins and (zero := zero_denominator(problem, time, march.system.trial)):
        return f"At t = {time:.10g} '{zero}' is zero. {what_to_write(zero)}"
    watched: tuple[Any, ...] = problem.model.guards
    if not watched or march.native.guards is None:
        return ""
    refused = march.last("guard")
    if 0 <= refused < len(watched):
        return str(watched[refused].advice)
    rows = np.vstack([problem.start, march.system.state])
    found = np.abs(evaluate_rows(march.native.guards, np.array([problem.interval[0], march.last("time")]), rows))
    if len(found) < 2:
        return ""
    with np.errstate(all="ignore"):
        share = found[1] / np.maximum(found[0], found[1])
    near = int(np.nanargmin(share)) if np.isfinite(share).any() else -1
    close = near >= 0 and (share[near] < _NEAR_ZERO or found[1, near] == 0.0)
    return str(watched[near].advice) if close else ""
