"""What is kept of a march: every step, or only the states at asked-for times."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.run.trajectory import NO_JUMPS, Jumps, RecordedTrajectory, StepTrajectory


class StepRecorder:
    """Keeps every accepted step as its polynomial."""

    def __init__(self) -> None:
        self._chunks: list[tuple[Array, Array, Array]] = []

    def take(self, output: Any, count: int) -> bool:
        """Keep the first ``count`` steps: the buffers themselves where they are mostly full, else a copy.

        Returns whether the buffers were kept, so that the march needs new ones.
        """
        steps = (output.starts[:count], output.steps[:count], output.coefficients[:count])
        whole = bool(2 * count > output.starts.size)
        self._chunks.append(steps if whole else (steps[0].copy(), steps[1].copy(), steps[2].copy()))
        return whole

    def trajectory(
        self, end_time: float, end_state: Array, jumps: Jumps = NO_JUMPS, nonnegative: Any = None
    ) -> StepTrajectory:
        """Return the steps, still in their pieces.

        Parameters
        ----------
        end_time : float
            Where the run ended.
        end_state : ndarray, shape (n_states,)
            Where the run ended.
        jumps : Jumps, optional
        nonnegative : ndarray of int64, or None, optional
            States that are never negative.

        Returns
        -------
        StepTrajectory
        """
        return StepTrajectory(tuple(self._chunks), end_time, end_state, jumps, nonnegative)


def recorded(
    times: Array, states: Array, count: int, end_time: float, end_state: Array, jumps: Jumps
) -> RecordedTrajectory:
    """Return the first of the times asked for, and where the run ended if it came to some only.

    Parameters
    ----------
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)
    count : int
        How many of them were reached.
    end_time : float
        Where the run ended.
    end_state : ndarray, shape (n_states,)
        Where the run ended.
    jumps : Jumps

    Returns
    -------
    RecordedTrajectory
    """
    reached, found = times[:count], states[:count]
    if count < times.size and not (count and reached[-1] == end_time):
        reached, found = np.append(reached, end_time), np.vstack([found, end_state])
    return RecordedTrajectory(reached, found, end_time, end_state, jumps, count)
