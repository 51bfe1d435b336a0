"""Runs that follow each other, as one; and one that came from the other end, turned round."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, Tally
from unhurried_heron.run.run import Run
from unhurried_heron.run.run_data import RunData
from unhurried_heron.run.trace import Trace
from unhurried_heron.run.trajectory import NO_JUMPS, Jumps, RecordedTrajectory, StepTrajectory, Trajectory


def concatenated(
    run: Run, problem: Problem, runs: tuple[Run, Run], ending: Ending, *, method_selection: str | None = None
) -> Run:
    """Return two runs, of which the second follows the first, as one of a problem.

    Parameters
    ----------
    run : Run
        What all else is taken from.
    problem : Problem
        That of the whole.
    runs : (Run, Run)
    ending : Ending
    method_selection : str, optional
        What a method that chooses took, in a sentence.

    Returns
    -------
    Run
    """
    first, second = runs
    counts = {each.name: getattr(first.tally, each.name) + getattr(second.tally, each.name) for each in fields(Tally)}
    counts["fill"] = max(first.tally.fill, second.tally.fill)
    return replace(
        run,
        problem=problem,
        ending=ending,
        tally=Tally(**counts),
        method_selection=run.method_selection if method_selection is None else method_selection,
        data=_concatenated_data(run.data, first, second),
    )


def _concatenated_data(data: RunData, first: Run, second: Run) -> RunData:
    """Return the data of two runs, of which the second follows the first, as those of one.

    Parameters
    ----------
    data : RunData
        What all else is taken from.
    first : Run
    second : Run

    Returns
    -------
    RunData
    """
    one, other = first.data, second.data
    kept = one.ledger is not None and other.ledger is not None
    return replace(
        data,
        trajectory=_concatenated_trajectory(one.trajectory, other.trajectory),
        event_log=one.event_log.followed_by(other.event_log),
        ledger=np.concatenate([one.ledger, other.ledger]) if kept else None,
        trace=_concatenated_trace(first, second),
        switch_log=one.switch_log.followed_by(other.switch_log, 0 if one.ledger is None else len(one.ledger)),
    )


def _concatenated_trajectory(one: Trajectory, other: Trajectory) -> Trajectory:
    jumps = _concatenated_jumps(one.jumps, other.jumps)
    if isinstance(one, StepTrajectory) and isinstance(other, StepTrajectory):
        return StepTrajectory(
            _of_one_degree((*one.pieces, *other.pieces)), other.end_time, other.end_state, jumps, one.nonnegative
        )
    count = one.times.size if isinstance(one, StepTrajectory) or one.wanted < 0 else one.wanted
    times = np.concatenate([one.times[:count], other.times])
    states = np.concatenate([one.states[:count], other.states])
    wanted = other.times.size if isinstance(other, StepTrajectory) or other.wanted < 0 else other.wanted
    return RecordedTrajectory(times, states, other.end_time, other.end_state, jumps, count + wanted)


def _of_one_degree(pieces: tuple[tuple[Array, Array, Array], ...]) -> tuple[tuple[Array, Array, Array], ...]:
    """Return the steps of several methods with polynomials of the highest of their degrees."""
    most = max((each.shape[1] for _, _, each in pieces), default=0)
    return tuple(
        (starts, steps, np.pad(each, ((0, 0), (0, most - each.shape[1]), (0, 0)))) if each.shape[1] < most
        else (starts, steps, each) for starts, steps, each in pieces
    )  # fmt: skip


def _concatenated_trace(first: Run, second: Run) -> Trace | None:
    if first.data.trace is None or second.data.trace is None:
        return None
    return first.data.trace.followed_by(second.data.trace, first.tally.accepted, first.tally.refused)


def _concatenated_jumps(one: Jumps, other: Jumps) -> Jumps:
    kept = [each for each in (one, other) if each.times.size]
    return Jumps(*(np.concatenate(each) for each in zip(*kept, strict=True))) if kept else NO_JUMPS


def time_reversed(run: Run, end_time: float, end_state: Array) -> Run:
    """Return a run backwards as if it had come forwards to where it began.

    Parameters
    ----------
    run : Run
    end_time : float
        Where the run ended.
    end_state : ndarray, shape (n_states,)
        Where the run ended.

    Returns
    -------
    Run
    """
    trajectory: Any = run.data.trajectory
    coefficients = trajectory.coefficients
    degree = coefficients.shape[1] - 1
    # p(1 - theta), by powers of theta
    powers = np.zeros((degree + 1, degree + 1))
    for d in range(degree + 1):
        powers[: d + 1, d] = np.polynomial.polynomial.polypow([1.0, -1.0], d)
    # A step that a switch or the end cut short ends there, on the polynomial of the whole step.
    ends = np.append(trajectory.starts[1:], trajectory.end_time)
    steps = ends - trajectory.starts
    shares = (steps / trajectory.steps)[:, None] ** np.arange(degree + 1)
    turned = np.einsum("ed,idk->iek", powers, coefficients * shares[:, :, None])[::-1].copy()
    starts, steps = ends[::-1].copy(), -steps[::-1]
    ledger = run.data.ledger
    return run.with_data(
        trajectory=replace(
            trajectory, pieces=((starts, steps, turned),), end_time=float(end_time), end_state=end_state, jumps=NO_JUMPS
        ),
        event_log=run.data.event_log.reversed(),
        ledger=None if ledger is None else ledger[::-1].copy(),
        switch_log=run.data.switch_log.reversed(0 if ledger is None else len(ledger)),
    )
