"""What happened along a run: events, the states before and after, parameters they changed, and switches crossed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, IntArray
from unhurried_heron.equality import ByValue
from unhurried_heron.run.trajectory import NO_JUMPS, Jumps

_PER_EVENT = ("times", "which", "before", "after", "modes", "acting")


@dataclass(frozen=True, eq=False)
class EventLog(ByValue):
    """The events of a run, in the order they happened.

    Attributes
    ----------
    times : ndarray, shape (n_events,)
    which : ndarray of int64, shape (n_events,)
        The event, by its index among those that were looked for.
    before, after : ndarray, shape (n_events, n_states)
    modes : ndarray, shape (n_events, n_modes)
        Values of the parameters that events change, afterwards.
    acting : ndarray of bool, shape (n_events,)
        Whether it is one that changes something.
    names : tuple of str
        These parameters.
    start : ndarray, shape (n_modes,)
        Their values at the start.
    sign : float
        The direction of the run.
    assigned : tuple of str
        Those parameters that assignments name.
    """

    times: Array
    which: IntArray
    before: Array
    after: Array
    modes: Array
    acting: BoolArray
    names: tuple[str, ...]
    start: Array
    sign: float = 1.0
    assigned: tuple[str, ...] = ()

    @cached_property
    def _kept(self) -> list[int]:
        """The parameters that events changed; of those that a function may change, only the ones that it did change."""
        moved = (self.modes != self.start).any(axis=0)
        return [k for k, name in enumerate(self.names) if moved[k] or name in self.assigned]

    @cached_property
    def changed_modes(self) -> tuple[str, ...]:
        """Names of the parameters that events changed."""
        return tuple(self.names[k] for k in self._kept) if self.names else ()

    @property
    def levels(self) -> Array:
        """What these parameters were at the start and after each event, shape (n_events + 1, n_told)."""
        found: Array = np.vstack([self.start, self.modes])[:, self._kept]
        return found

    def only(self, own: Any) -> EventLog:
        """Return some of the events."""
        return replace(self, **{name: getattr(self, name)[own] for name in _PER_EVENT})

    def jumps(self) -> Jumps:
        """Return the times at which the solution jumps, once each, and the states just before."""
        if not self.acting.any():
            return NO_JUMPS
        times = self.times[self.acting]
        first = np.flatnonzero(np.append(True, np.diff(times) != 0.0))
        return Jumps(times[first], self.before[self.acting][first])

    def modes_at(self, times: Array, before: Any) -> Array:
        """Return what the parameters were at times, shape (n_times, n_modes); ``before``: where just before a jump."""
        jumped = self.times[self.acting]
        table = np.vstack([self.start, self.modes[self.acting]])[:, self._kept]
        left = np.searchsorted(self.sign * jumped, self.sign * times, side="left")
        right = np.searchsorted(self.sign * jumped, self.sign * times, side="right")
        found: Array = table[np.where(before, left, right)]
        return found

    def followed_by(self, later: EventLog) -> EventLog:
        """Return both as of one run, which begins as this one does."""
        if not self.times.size or not later.times.size:
            return replace(later, start=self.start) if later.times.size else self
        joined: dict[str, Any] = {
            name: np.concatenate([getattr(self, name), getattr(later, name)]) for name in _PER_EVENT
        }
        return replace(self, **joined)

    def reversed(self) -> EventLog:
        """Return the events, which change nothing, as they are met from the other end."""
        return replace(self.only(slice(None, None, -1)), sign=-self.sign)

    def accumulates_at(self, event: int) -> float:
        """Return the time towards which an event accumulates (Aitken's extrapolation of its last times)."""
        last = self.times[self.which == event][-3:]
        if last.size < 3:
            return float(self.times[-1])
        first, second = np.diff(last)
        return float(last[-1] + second * second / (first - second)) if first != second else float(last[-1])


_NONE, _NO_STATES = np.empty(0), np.empty((0, 0))
EMPTY_EVENT_LOG = EventLog(
    _NONE, np.empty(0, dtype=np.int64), _NO_STATES, _NO_STATES, _NO_STATES, np.empty(0, dtype=bool), (), _NONE
)


@dataclass(frozen=True, eq=False)
class SwitchLog(ByValue):
    """The switches that were crossed, in the order of the run.

    Attributes
    ----------
    times : ndarray, shape (n_crossings,)
    which : ndarray of int64, shape (n_crossings,)
        The switch, by its index in ``texts``.
    values : ndarray, shape (n_crossings,)
        What it took: 1 true, 0 false, or a whole number; NaN for what has no value.
    rows : ndarray of int64, shape (n_crossings,)
        The row of the ledger that ended there.
    texts : tuple of str
    slid : tuple of (int, int, str)
        Stretches of the ledger along a switch: the first row, the first row beyond, and what is said of them.
    """

    times: Array
    which: IntArray
    values: Array
    rows: IntArray
    texts: tuple[str, ...]
    slid: tuple[tuple[int, int, str], ...] = ()

    @classmethod
    def nothing(cls) -> SwitchLog:
        """Return what no run crossed."""
        none = np.empty(0, dtype=np.int64)
        return cls(np.empty(0), none, np.empty(0), none, ())

    def followed_by(self, later: SwitchLog, rows: int) -> SwitchLog:
        """Return both, of which the later begins after ``rows`` rows of the ledger."""
        indices = np.array([len(self.texts) + k for k in range(len(later.texts))], dtype=np.int64)
        return SwitchLog(
            np.concatenate([self.times, later.times]),
            np.concatenate([self.which, indices[later.which]]),
            np.concatenate([self.values, later.values]),
            np.concatenate([self.rows, later.rows + rows]),
            (*self.texts, *later.texts),
            (*self.slid, *((first + rows, beyond + rows, text) for first, beyond, text in later.slid)),
        )

    def reversed(self, rows: int) -> SwitchLog:
        """Return what was crossed as met from the other end of a ledger of ``rows`` rows."""
        slid = tuple((rows - beyond, rows - first, text) for first, beyond, text in self.slid[::-1])
        return SwitchLog(
            self.times[::-1].copy(), self.which[::-1].copy(), 1.0 - self.values[::-1], rows - 1 - self.rows[::-1],
            self.texts, slid,
        )  # fmt: skip

    def texts_by_row(self) -> dict[int, str]:
        """Return the texts of what was crossed, by the row of the ledger that ended there."""
        marks: dict[int, list[str]] = {}
        for row, which in zip(self.rows.tolist(), self.which.tolist(), strict=True):
            marks.setdefault(row, []).append(self.texts[which])
        along = {row: text for first, beyond, text in self.slid for row in range(first, beyond)}
        return along | {row: ", ".join(texts) for row, texts in marks.items()}
