"""The solution as data: either every step as a polynomial, or only the states at asked-for times."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, IntArray
from unhurried_heron.errors import RunError


class Jumps(NamedTuple):
    """Where the solution jumps: ``times`` (n_jumps,) in the order of the run, and the states just ``before``."""

    times: Array
    before: Array

    def of(self, indices: Any) -> Jumps:
        """Return the jumps of some states; None: of all."""
        return self if indices is None or not self.times.size else Jumps(self.times, self.before[:, indices])

    def put_before(self, times: Array, values: Array) -> Array:
        """Put the states before the jumps in place of those after them."""
        if self.times.size:
            order = np.argsort(self.times)
            index = np.clip(np.searchsorted(self.times[order], times), 0, self.times.size - 1)
            here = self.times[order][index] == times
            values[here] = self.before[order][index[here]]
        return values

    def beside(self, times: Array, before: Any, interval: tuple[float, float]) -> Array:
        """Return times at jumps as just before or just after them: what a known time decides is asked there.

        Parameters
        ----------
        times : ndarray, shape (n_times,)
        before : bool or ndarray of bool, shape (n_times,)
            Whether just before a jump at the time, not after.
        interval : (float, float)
            From when to when.

        Returns
        -------
        ndarray
        """
        if not (np.any(before) or self.times.size):
            return times
        onwards = np.copysign(np.inf, interval[1] - interval[0])
        after = np.where(np.isin(times, self.times), np.nextafter(times, onwards), times)
        found: Array = np.where(before, np.nextafter(times, -onwards), after)
        return found


# Times that are looked up without joining the pieces of the steps.
_FEW = 10
NO_JUMPS = Jumps(np.empty(0), np.empty((0, 0)))


@dataclass(frozen=True)
class StepTrajectory:
    """Every accepted step as a polynomial.

    Attributes
    ----------
    pieces : tuple
        The steps as they came from the march, joined when they are first looked at.
    end_time : float
        Where the run ended: at the end of the last step, or at an event within it.
    end_state : ndarray, shape (n_states,)
    nonnegative : ndarray of int, or None
        The states that are taken for zero where a polynomial falls below it.
    """

    pieces: tuple[tuple[Array, Array, Array], ...]
    end_time: float
    end_state: Array
    jumps: Jumps = NO_JUMPS
    nonnegative: Any = None

    @cached_property
    def starts(self) -> Array:
        """Where each step begins, shape (n_steps,)."""
        return np.concatenate([np.empty(0), *(starts for starts, _, _ in self.pieces)])

    @cached_property
    def steps(self) -> Array:
        """How long each step is, negative for a run backwards, shape (n_steps,)."""
        return np.concatenate([np.empty(0), *(steps for _, steps, _ in self.pieces)])

    @cached_property
    def coefficients(self) -> Array:
        """State = sum of coefficients[d] theta^d, theta = (t - start) / step; shape (n_steps, degree + 1, n_states)."""
        if not self.pieces:
            return np.empty((0, 1, self.end_state.size))
        joined: Array = np.concatenate([each for _, _, each in self.pieces])
        object.__setattr__(self, "pieces", ((self.starts, self.steps, joined),))
        return joined

    def _coefficients_of(self, rows: Any) -> Array:
        """Return those of some steps, in rising order, without joining the pieces."""
        ends = np.cumsum([starts.size for starts, _, _ in self.pieces])
        parts = np.split(rows, np.searchsorted(rows, ends[:-1]))
        firsts = (0, *ends[:-1].tolist())
        found = [each[part - first] for (_, _, each), part, first in zip(self.pieces, parts, firsts, strict=True)]
        return np.concatenate(found)

    def _kept(self, states: Array, indices: Any = None) -> Array:
        """Take states that are never negative for zero where they are below it, in place."""
        if self.nonnegative is not None and self.nonnegative.size:
            own = self.nonnegative if indices is None else np.flatnonzero(np.isin(indices, self.nonnegative))
            states[:, own] = np.maximum(states[:, own], 0.0)
        return states

    @cached_property
    def _rows(self) -> IntArray:
        """Where among the starts and the end a row is put before a jump, shape (n_jumps,)."""
        sign = 1.0 if not self.steps.size or self.steps[0] > 0.0 else -1.0
        return np.searchsorted(sign * self.starts, sign * self.jumps.times)

    @cached_property
    def times(self) -> Array:
        """Times of the accepted steps, both ends included, and those of jumps twice, shape (n_rows,)."""
        ends = np.append(self.starts, self.end_time)
        return np.insert(ends, self._rows, self.jumps.times) if self.jumps.times.size else ends

    @cached_property
    def states(self) -> Array:
        """States at the times, before and after each jump, shape (n_rows, n_states)."""
        states = self._kept(np.vstack([self.coefficients[:, 0, :], self.end_state]))
        return np.insert(states, self._rows, self.jumps.before, axis=0) if self.jumps.times.size else states

    @cached_property
    def are_before(self) -> BoolArray:
        """Which rows stand just before a jump, shape (n_rows,)."""
        found = np.zeros(self.times.size, dtype=bool)
        found[self._rows + np.arange(self.jumps.times.size)] = True
        return found

    def largest(self) -> Array:
        """Return the largest size of each state at the steps, shape (n_states,), without joining the pieces."""
        sizes = [np.abs(coefficients[:, 0, :]).max(axis=0) for _, _, coefficients in self.pieces if len(coefficients)]
        largest: Array = np.maximum.reduce([np.abs(self.end_state), *sizes])
        return largest

    def at(self, times: Array, *, before: bool = False, indices: Any = None) -> Array:
        """Evaluate at times within the run, shape (n_times, n_states); ``before``: just before jumps at these times.

        ``indices``: the states that are wanted, by default all; no others are evaluated.

        Parameters
        ----------
        times : ndarray, shape (n_times,)
        before : bool, optional
            Whether just before jumps at these times.
        indices : sequence of int, or None, optional
            The states that are wanted; None for all.

        Returns
        -------
        ndarray

        Raises
        ------
        RunError
            A time lies outside the run.
        """
        from unhurried_heron.kernels.machine_code.loading import evaluate_at

        times = np.ascontiguousarray(times)
        start = self.starts[0] if self.starts.size else self.end_time
        low, high = min(start, self.end_time), max(start, self.end_time)
        outside = ~((times >= low) & (times <= high))
        if outside.any():
            raise RunError(
                "a time lies outside the run",
                name="t",
                location="run.at",
                expected=f"times from {low:.12g} to {high:.12g}; run.extend(to=…) goes on",
                given=f"{times[outside][0]:.12g}",
            )
        end = self.end_state if indices is None else self.end_state[indices]
        out = np.empty((times.size, end.size))
        if not self.starts.size:
            out[:] = end
            return out
        if self.steps[0] > 0:
            index = np.searchsorted(self.starts, times, side="right") - 1
        else:
            index = np.searchsorted(-self.starts, -times, side="right") - 1
        if len(self.pieces) > 1 and _FEW * times.size < self.starts.size:
            rows, index = np.unique(index, return_inverse=True)
            starts, steps, coefficients = self.starts[rows], self.steps[rows], self._coefficients_of(rows)
        else:
            starts, steps, coefficients = self.starts, self.steps, self.coefficients
        if indices is not None:
            coefficients = np.ascontiguousarray(coefficients[:, :, indices])
        evaluate_at(starts, steps, coefficients, index, times, out)
        out[times == self.end_time] = end
        self._kept(out, indices)
        return self.jumps.of(indices).put_before(times, out) if before else out


@dataclass(frozen=True)
class RecordedTrajectory:
    """States at the times that were asked for, as far as the run came.

    Attributes
    ----------
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)
    end_time, end_state
        Where the run ended.
    wanted : int
        How many of the times were asked for; where the run ended may stand after them. -1: all.
    """

    times: Array
    states: Array
    end_time: float
    end_state: Array
    jumps: Jumps = NO_JUMPS
    wanted: int = -1

    @property
    def are_before(self) -> BoolArray:
        """Which rows stand just before a jump: none of what was asked for."""
        return np.zeros(self.times.size, dtype=bool)

    def largest(self) -> Array:
        """Return the largest size of each state at the recorded times, shape (n_states,)."""
        largest: Array = np.maximum(np.abs(self.end_state), np.abs(self.states).max(axis=0, initial=0.0))
        return largest

    def at(self, times: Array, *, before: bool = False, indices: Any = None) -> Array:
        """Refuse: the steps were not kept.

        Parameters
        ----------
        times : ndarray, shape (n_times,)
        before : bool, optional
            Whether just before jumps at these times.
        indices : sequence of int, or None, optional
            The states that are wanted; None for all.

        Returns
        -------
        ndarray

        Raises
        ------
        RunError
            Always, but for times that were recorded.
        """
        order = np.argsort(self.times)
        index = np.clip(np.searchsorted(self.times[order], times), 0, max(self.times.size - 1, 0))
        if self.times.size and np.array_equal(self.times[order][index], times):
            found: Array = self.states[order][index]
            found = self.jumps.put_before(times, found) if before else found
            return found if indices is None else found[:, indices]
        raise RunError(
            "this run kept only the times it was asked to record",
            name="t",
            location="run.at",
            expected='a recorded time; integrate with record="steps" to evaluate anywhere',
            given=f"{times[0]:.12g}" if times.size else "no time",
        )


Trajectory = StepTrajectory | RecordedTrajectory


def grown_at_end(trajectory: Trajectory, last: float) -> tuple[int, float, float] | None:
    """Return the state that grew most in the last share of the time: its index, its largest size before, and its size.

    None where nothing was kept from before, or the end is not finite.
    """
    times, end = trajectory.times, np.abs(trajectory.end_state)
    before = np.abs(trajectory.states[np.abs(times - trajectory.end_time) >= last * np.ptp(times)])
    if times.size < 2 or not before.size or not np.isfinite(end).any():
        return None
    grown = np.nan_to_num(end, nan=0.0, posinf=0.0) / np.maximum(before.max(axis=0), 1e-300)
    index = int(grown.argmax())
    return index, float(before[:, index].max()), float(end[index])
