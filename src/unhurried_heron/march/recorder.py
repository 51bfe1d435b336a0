"""Keeping what a march leaves in its buffers: every step, or only the states at asked-for times."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from unhurried_heron.run.trajectory import Array, RecordedTrajectory, StepTrajectory, Trajectory


class Recorder(Protocol):
    """What the driver hands each chunk to."""

    def take(self, output: Any, count: int, reached: float) -> None:
        """Keep what is needed of the first ``count`` steps; the run has reached the time ``reached``."""

    def trajectory(self, end_time: float, end_state: Array) -> Trajectory:
        """Return what was kept."""


class StepRecorder:
    """Keeps every accepted step as its polynomial."""

    def __init__(self) -> None:
        self._chunks: list[tuple[Array, Array, Array]] = []

    def take(self, output: Any, count: int, reached: float) -> None:
        """Copy the steps of a chunk."""
        if count:
            self._chunks.append(
                (
                    output.starts[:count].copy(),
                    output.steps[:count].copy(),
                    output.coefficients[:count].copy(),
                )
            )

    def trajectory(self, end_time: float, end_state: Array) -> StepTrajectory:
        """Join the chunks."""
        if not self._chunks:
            empty = np.empty(0)
            return StepTrajectory(empty, empty, np.empty((0, 1, end_state.size)), end_time, end_state)
        starts, steps, coefficients = (np.concatenate(parts) for parts in zip(*self._chunks, strict=True))
        return StepTrajectory(starts, steps, coefficients, end_time, end_state)


class TimeRecorder:
    """Keeps the states at given times only, so that memory does not grow with the steps."""

    def __init__(self, times: Array, start: float, state: Array) -> None:
        self._times = times
        self._states = np.empty((times.size, state.size))
        self._done = 0
        if times[0] == start:
            self._states[0] = state
            self._done = 1

    def take(self, output: Any, count: int, reached: float) -> None:
        """Evaluate the recorded times that lie on the steps of a chunk."""
        from unhurried_heron.kernels.polynomial import evaluate_at

        if not count:
            return
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

    def trajectory(self, end_time: float, end_state: Array) -> RecordedTrajectory:
        """Return the times that the run came to, without padding."""
        if self._done and self._times[self._done - 1] == end_time:
            self._states[self._done - 1] = end_state
        return RecordedTrajectory(self._times[: self._done], self._states[: self._done], end_time, end_state)
