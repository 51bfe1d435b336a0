"""Newton's method for a cycle: by shooting over one segment of it, or over several where differences grow much.

H. B. Keller, *Numerical Methods for Two-Point Boundary-Value Problems* (1992), chapter 2; U. M. Ascher,
R. M. M. Mattheij and R. D. Russell, *Numerical Solution of Boundary Value Problems for Ordinary Differential Equations*
(1995), chapter 4.
"""

from __future__ import annotations

import time as clock
from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.dynamics.return_map import ReturnMap
from unhurried_heron.errors import RunError
from unhurried_heron.problem.consistency import free_directions
from unhurried_heron.problem.problem import Problem

# Steps of Newton's method.
_MAX_STEPS: Final = 40
# Halvings of one that does not bring it nearer.
_MAX_HALVINGS: Final = 8
# A cycle is closed if its ends are no further apart than this share of how far it goes;
CLOSED: Final = 1e-6
# what is nearer than this is rounding, beside the tolerance of a march.
_ROUNDING: Final = 1e-9
# A cycle goes further than this share of its states; what does not is an equilibrium.
_MOVES: Final = 1e-5
# Singular values below this share are zero: along cycles that lie beside each other.
_SINGULAR: Final = 1e-9
# Differences grow on a segment by about this factor at most,
_GROWTH: Final = 30.0
# and there are no more segments than this.
_MAX_SEGMENTS: Final = 64


class Shooting:
    """Newton's method for a cycle.

    Attributes
    ----------
    problem : Problem
    map : ReturnMap
    forced : bool
        Whether the time around is known.
    deadline : float
    """

    def __init__(self, problem: Problem, turn: ReturnMap, forced: bool, deadline: float) -> None:
        self.problem, self.map, self.forced, self.deadline = problem, turn, forced, deadline

    def closed(self, state: Array, length: float) -> tuple[Array, float, float]:
        """Return where the segments of a cycle begin, its length of time, and how far their ends are apart.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length : float

        Returns
        -------
        (ndarray of shape (n_segments, n_states), float, float)

        Raises
        ------
        RunError
        """
        begins = self._first(state, length)
        size = _sizes(self.map.moves(begins, length))
        best = np.inf
        for _ in range(_MAX_STEPS):
            ends, matrices = self._around(begins, length)
            apart = float(np.abs((ends - np.roll(begins, -1, axis=0)) / size).max())
            if apart <= _ROUNDING or (apart <= CLOSED and apart >= 0.5 * best):
                break
            best = apart
            steps, more = self._step(begins, ends, matrices, length, size)
            # a step changes the period by no more than half
            share = min(1.0, 0.5 * abs(length) / max(abs(more), 1e-300))
            for _ in range(_MAX_HALVINGS):
                trial, lasting = begins + share * steps, length + share * more
                there = self._ends(trial, lasting)
                if there is not None and np.abs((there - np.roll(trial, -1, axis=0)) / size).max() < max(apart, CLOSED):
                    break
                share *= 0.5
            else:
                break
            begins, length = trial, lasting
            if clock.perf_counter() > self.deadline:
                break
        ends, moves = self._around(begins, length)[0], self.map.moves(begins, length)
        apart = float(np.abs((ends - np.roll(begins, -1, axis=0)) / _sizes(moves)).max())
        self._refuse_none(begins[0], length, apart, moves)
        return begins, length, apart

    def _first(self, state: Array, length: float) -> Array:
        """Return where segments begin at first: along a march, onwards or, where it stays nearer, backwards.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length : float

        Returns
        -------
        ndarray, shape (n_segments, n_states)
        """
        size = _sizes(self.map.moves(state[None], length))
        ends = [None if way < 0.0 and self.forced else self.map.end(state, way * length) for way in (1.0, -1.0)]
        apart = [np.inf if end is None else float(np.abs((end - state) / size).max()) for end in ends]
        backwards = apart[1] < apart[0]
        sizes = np.abs(np.linalg.eigvals(self.map(state, -length if backwards else length)[1]))
        growth = 1.0 / max(float(sizes.min()), _SINGULAR**4) if backwards else float(sizes.max())
        segments = min(max(int(np.ceil(np.log(max(growth, 1.0)) / np.log(_GROWTH))), 1), _MAX_SEGMENTS)
        if segments == 1 or not backwards:
            return self.map.states(state, length, segments)
        back = self.map.states(state, -length, segments)
        return np.vstack([back[:1], back[:0:-1]])

    def multipliers(self, begins: Array, length: float) -> ComplexArray:
        """Return the Floquet multipliers, the largest first.

        Those of several segments are powers of eigenvalues of the matrix that has theirs in a circle, which loses
        nothing to rounding where some are large and others small.

        Parameters
        ----------
        begins : ndarray, shape (n_segments, n_states)
        length : float

        Returns
        -------
        ndarray of complex, shape (n_free,)
            As many as states are not told by constraints.
        """
        matrices = self._around(begins, length)[1]
        m, n = begins.shape
        around = np.zeros((m, n, m, n))
        for k, matrix in enumerate(matrices):
            around[(k + 1) % m, :, k, :] = matrix
        powers = list(np.linalg.eigvals(around.reshape(m * n, m * n)).astype(complex) ** m)
        values = np.empty(n, dtype=complex)
        for k in range(n):
            # each of them comes once for each segment
            largest = max(powers, key=abs)
            powers.sort(key=lambda each, largest=largest: abs(each - largest))  # type: ignore[misc]  # bound at once
            values[k] = np.mean(powers[:m])
            del powers[:m]
        # where a state is told by others, nothing depends on where it begins
        free = free_directions(self.problem, begins[0]).shape[1]
        return values[np.lexsort((values.imag, -np.abs(values)))][:free]

    def _around(self, begins: Array, length: float) -> tuple[Array, Array]:
        """Return where segments end, and the derivatives of that."""
        times, part = self._times(begins, length)
        found = [self.map(begin, part, time) for begin, time in zip(begins, times, strict=True)]
        return np.array([each[0] for each in found]), np.array([each[1] for each in found])

    def _ends(self, begins: Array, length: float) -> Array | None:
        """Return where segments end; None where a solution ends before."""
        times, part = self._times(begins, length)
        ends = [self.map.end(begin, part, time) for begin, time in zip(begins, times, strict=True)]
        return None if any(each is None for each in ends) else np.array(ends)

    def _times(self, begins: Array, length: float) -> tuple[list[float], float]:
        part, start = length / len(begins), self.problem.interval[0]
        return [start + k * part for k in range(len(begins))], part

    def _step(self, begins: Array, ends: Array, matrices: Array, length: float, size: Array) -> tuple[Array, float]:
        """Return the corrections of all segments, and of the time, in shares of sizes.

        Parameters
        ----------
        begins, ends : ndarray, shape (n_segments, n_states)
        matrices : ndarray, shape (n_segments, n_states, n_states)
        length : float
        size : ndarray, shape (n_states,)

        Returns
        -------
        (ndarray, float)
        """
        m, n = begins.shape
        whole, right = np.zeros((m * n + 1, m * n + 1)), np.zeros(m * n + 1)
        times, part = self._times(begins, length)
        for k in range(m):
            rows, ahead = slice(k * n, (k + 1) * n), ((k + 1) % m) * n
            whole[rows, k * n : (k + 1) * n] += matrices[k] * size / size[:, None]
            whole[rows, ahead : ahead + n] -= np.eye(n)
            right[rows] = (np.roll(begins, -1, axis=0)[k] - ends[k]) / size
            if not self.forced:
                rates = self.map.rates(times[k] + part, ends[k])
                whole[rows, m * n] = rates * length / (m * size)
        if self.forced:
            whole[m * n, m * n] = 1.0
        else:
            # the correction where it begins is normal to the cycle
            whole[m * n, :n] = self.map.rates(times[0], begins[0]) * length / size
        found = np.linalg.lstsq(whole, right, rcond=_SINGULAR)[0]
        return found[:-1].reshape(m, n) * size, float(length * found[-1])

    def _refuse_none(self, state: Array, length: float, apart: float, moves: Array) -> None:
        """Refuse what is no cycle.

        Parameters
        ----------
        state : ndarray, shape (n_states,)
        length, apart : float
        moves : ndarray, shape (n_states,)

        Raises
        ------
        RunError
        """
        named = zip(self.problem.states, state.tolist(), strict=True)
        where = ", ".join(f"{name} = {value:.6g}" for name, value in named)[:200]
        known = np.maximum(np.abs(state), np.abs(self.problem.start))
        still = bool((moves <= _MOVES * known).all())
        rates = self.map.rates(self.problem.interval[0], state)
        if still or not np.abs(rates * length / _sizes(moves)).max() > _MOVES:
            raise RunError("this leads to an equilibrium, and to no cycle", name="cycle", location="cycle",
                           expected="a solution that goes on moving; an equilibrium is found by steady(…)",
                           given=where)  # fmt: skip
        if not apart <= CLOSED:
            raise RunError("no cycle is found from there", name="cycle", location="cycle",
                           expected="states nearer to a cycle: near={…}, a longer interval, or more seconds=…",
                           given=f"ends that are {apart:.2g} of its size apart, from {where}")  # fmt: skip


def _sizes(moves: Array) -> Array:
    """Return how far states go, one where they stay."""
    return np.where(moves == 0.0, 1.0, moves)
