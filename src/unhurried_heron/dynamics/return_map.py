"""Where a solution is after some time, and how that depends on where it begins."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.dynamics.variational import jumps_of, with_vectors
from unhurried_heron.errors import RunError
from unhurried_heron.problem.consistency import beginning_near, derivative_at, is_constrained
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run

# The step of a difference between runs, as a share of how far the states go: beside the tolerance of the march, and
# beside what is not linear.
_DIFFERENCE: Final = 1e-5
# Times that tell how far the states go.
_POINTS: Final = 200


class ReturnMap:
    """A march over some time, with its derivative by where it begins.

    Attributes
    ----------
    problem : Problem
    settings : dict
        Options of its marches.
    """

    def __init__(self, problem: Problem, settings: dict[str, Any]) -> None:
        self.problem, self.settings = problem, settings
        self._n, self._whole = problem.model.layout.size, not is_constrained(problem)
        jumps = jumps_of(problem) or not self._whole
        self._vectors = None if jumps else with_vectors(problem, self._n)
        self._size: Array | None = None

    def rates(self, time: float, state: Array) -> Array:
        """Return the derivatives of the states, shape (n_states,), at a time and state."""
        return derivative_at(self.problem, time, state)

    def moves(self, begins: Array, length: float) -> Array:
        """Return how far each state goes on the way.

        Parameters
        ----------
        begins : ndarray, shape (n_segments, n_states)
            Where each part of the way begins.
        length : float
            Of all of it.

        Returns
        -------
        ndarray, shape (n_states,)
        """
        part, start, count = length / len(begins), self.problem.interval[0], max(_POINTS // len(begins), 2)
        parts = [self._run(self.problem, begin, part, start + k * part, record=count).states
                 for k, begin in enumerate(begins)]  # fmt: skip
        moves: Array = np.ptp(np.vstack(parts), axis=0)
        self._size = np.where(moves == 0.0, 1.0, moves)
        return moves

    def states(self, state: Array, length: float, count: int) -> Array:
        """Return where the solution is at equal steps of time from where it begins.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length : float
        count : int

        Returns
        -------
        ndarray, shape (count, n_states)
        """
        if count == 1:
            return np.reshape(state, (1, -1))
        return self._run(self.problem, state, length, record=count + 1).states[:count]

    def end(self, state: Array, length: float, start: float | None = None) -> Array | None:
        """Return where the solution is after a time.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length : float
        start : float, optional
            When it begins; by default as the problem does.

        Returns
        -------
        ndarray, shape (n_states,), or None
            None where it ends before.
        """
        try:
            return self._run(self.problem, state, length, start).data.trajectory.end_state
        except RunError:
            return None

    def __call__(self, state: Array, length: float, start: float | None = None) -> tuple[Array, Array]:
        """Return where the solution is after a time, and the derivatives of that.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length : float
        start : float, optional
            When it begins; by default as the problem does.

        Returns
        -------
        (ndarray, ndarray), shapes (n_states,) and (n_states, n_states)

        Raises
        ------
        RunError
        """
        n = self._n
        if self._vectors is not None:
            begin = np.concatenate([state, np.eye(n).ravel()])
            end = self._run(self._vectors, begin, length, start).data.trajectory.end_state
            return end[:n], end[n:].reshape(n, n).T
        middle = self._run(self.problem, state, length, start).data.trajectory.end_state
        size = np.ones(n) if self._size is None else self._size
        matrix = np.empty((n, n))
        for k in range(n):
            move = np.zeros(n)
            move[k] = _DIFFERENCE * size[k]
            ends = [self._run(self.problem, each, length, start).data.trajectory.end_state
                    for each in (state + move, state - move)]  # fmt: skip
            matrix[:, k] = (ends[0] - ends[1]) / (2.0 * move[k])
        return middle, matrix

    def _run(self, problem: Problem, state: Array, length: float, start: float | None = None, record: int = 2) -> Run:
        start = problem.interval[0] if start is None else start
        interval, initial = (start, start + length), None
        with quietly():
            if self._whole:
                initial = dict(zip(problem.states, state.tolist(), strict=True))
            else:
                # what constraints tell follows
                problem = beginning_near(problem, state, {})
            run = integrate(problem, initial=initial, interval=interval, record=record, **self.settings)
        if not run.ending.as_requested:
            raise RunError("a solution near the cycle ends on its way", name="cycle", location="cycle",
                           expected="solutions that go on", given=str(run.ending)[:200])  # fmt: skip
        return run
