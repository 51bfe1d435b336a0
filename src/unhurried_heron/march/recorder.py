"""Keeping what a march leaves in its buffers: every step, or only the states at asked-for times."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from unhurried_heron.kernels.machine_code.loading import evaluate_at
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.run.trajectory import Array, RecordedTrajectory, StepTrajectory, Trajectory


class Recorder(Protocol):
    """What the driver hands each chunk to."""

    def take(self, output: Any, count: int, reached: float) -> bool:
        """Keep what is needed of the first ``count`` steps, at least one; the run has reached the time ``reached``.

        Returns whether the buffers themselves were kept, so that the march needs new ones.
        """

    def trajectory(self, end_time: float, end_state: Array) -> Trajectory:
        """Return what was kept."""


class StepRecorder:
    """Keeps every accepted step as its polynomial."""

    def __init__(self) -> None:
        self._chunks: list[tuple[Array, Array, Array]] = []

    def take(self, output: Any, count: int, reached: float) -> bool:
        """Keep the buffers themselves where they are mostly full, else a copy of what is in them."""
        steps = (output.starts[:count], output.steps[:count], output.coefficients[:count])
        whole = bool(2 * count > output.starts.size)
        self._chunks.append(steps if whole else (steps[0].copy(), steps[1].copy(), steps[2].copy()))
        return whole

    def trajectory(self, end_time: float, end_state: Array) -> StepTrajectory:
        """Return the steps, still in their pieces."""
        return StepTrajectory(tuple(self._chunks), end_time, end_state)


class TimeRecorder:
    """Keeps the states at given times only, so that memory does not grow with the steps."""

    def __init__(self, times: Array, start: float, state: Array) -> None:
        self._times = times
        self._states = np.empty((times.size, state.size))
        self._done = 0
        # compiled or loaded now, so that it is not timed as marching
        load_kernels("march.polynomial.evaluate_rows")
        if times[0] == start:
            self._states[0] = state
            self._done = 1

    def take(self, output: Any, count: int, reached: float) -> bool:
        """Evaluate the recorded times that lie on the steps of a chunk."""
        sign = 1.0 if output.steps[0] > 0 else -1.0
        last = int(np.searchsorted(sign * self._times, sign * reached, side="right"))
        if last > self._done:
            times = self._times[self._done : last]
            starts = output.starts[:count]
            index = np.searchsorted(sign * starts, sign * times, side="left") - 1
            evaluate_at(
                starts,
                output.steps[:count],
                output.coefficients[:count],
                np.maximum(index, 0),
                times,
                self._states[self._done : last],
            )
            self._done = last
        return False

    def trajectory(self, end_time: float, end_state: Array) -> RecordedTrajectory:
        """Return the times that the run came to, without padding, and where it ended if it came to some only."""
        done = self._done
        times, states = self._times[:done], self._states[:done]
        if done and times[-1] == end_time:
            states[-1] = end_state
        elif done < self._times.size:
            times, states = np.append(times, end_time), np.vstack([states, end_state])
        return RecordedTrajectory(times, states, end_time, end_state)
