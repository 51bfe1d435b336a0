"""What is kept of the members of a sweep, as arrays."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.kernels.memory.sweep import COUNTED
from unhurried_heron.run.ending import EndingReason

# Texts as long as the longest reason.
_ENDING: Final = f"<U{max(len(each.value) for each in EndingReason)}"
# The ending of a member that did not march.
NOT_RUN: Final = "not run"
# What there is of each member.
_BY_MEMBER: Final = ("finals", "measures", "ends", "endings", "whys", "counts", "alone")


class Outcome(NamedTuple):
    """What is kept of the members of a sweep.

    Attributes
    ----------
    recorded : ndarray, shape (n_members, n_times, n_columns)
        States, and derived quantities where these are kept; NaN beyond an early end.
    finals : ndarray, shape (n_members, n_states)
        NaN where the end was not reached, nor an event that stops.
    measures : ndarray, shape (n_members, n_measures)
        Likewise.
    ends : ndarray, shape (n_members,)
        When each ended.
    endings : ndarray of str, shape (n_members,)
        The reason of each.
    whys : ndarray of object, shape (n_members,)
        In words where a member failed.
    counts : ndarray of int64, shape (n_members, n_counts)
        The tally, in the order of `COUNTED`.
    alone : ndarray of object, shape (n_members,)
        Why a member marched by itself, and not in compiled code with the others; empty where it did not.
    event_members, event_which : ndarray of int64, shape (n_events,)
        Of each event that happened, whose it was, and which.
    event_times : ndarray, shape (n_events,)
    event_states : ndarray, shape (n_events, n_states)
        The states before.
    """

    recorded: Array
    finals: Array
    measures: Array
    ends: Array
    endings: Any
    whys: Any
    counts: IntArray
    alone: Any
    event_members: IntArray
    event_which: IntArray
    event_times: Array
    event_states: Array

    def take(self, members: Any, part: Outcome, times: Any = None) -> None:
        """Take what is kept of some members, but for their events.

        Parameters
        ----------
        members : slice or ndarray of int64
        part : Outcome
        times : ndarray of int64, optional
            Which of the times theirs are; all where none are given.
        """
        if times is None:
            self.recorded[members] = part.recorded
        else:
            self.recorded[np.ix_(members, times)] = part.recorded[:, : times.size]
        for name in _BY_MEMBER:
            getattr(self, name)[members] = getattr(part, name)

    def with_events(self, parts: list[tuple[Any, Any, Any, Any]]) -> Outcome:
        """Return it with events, in the order of members and times.

        Parameters
        ----------
        parts : list of (ndarray, ndarray, ndarray, ndarray)
            Members, which, times and states.

        Returns
        -------
        Outcome
        """
        if not parts:
            return self
        members, which, times, states = map(np.concatenate, zip(*parts, strict=True))
        if (np.diff(members) >= 0).all():
            return self._replace(event_members=members, event_which=which, event_times=times, event_states=states)
        order = np.argsort(members, kind="stable")
        return self._replace(
            event_members=members[order], event_which=which[order], event_times=times[order], event_states=states[order]
        )


def nothing_yet(count: int, times: int, columns: int, states: int, measures: int) -> Outcome:
    """Return what is kept of members that did not march yet.

    Parameters
    ----------
    count : int
        Of members.
    times, columns, states, measures : int
        How many there are of each.

    Returns
    -------
    Outcome
    """
    indices = np.empty(0, dtype=np.int64)
    return Outcome(
        recorded=np.full((count, times, columns), np.nan),
        finals=np.full((count, states), np.nan),
        measures=np.full((count, measures), np.nan),
        ends=np.full(count, np.nan),
        endings=np.full(count, "", dtype=_ENDING),
        whys=np.full(count, "", dtype=object),
        counts=np.zeros((count, len(COUNTED)), dtype=np.int64),
        alone=np.full(count, "", dtype=object),
        event_members=indices,
        event_which=indices,
        event_times=np.empty(0),
        event_states=np.empty((0, states)),
    )
