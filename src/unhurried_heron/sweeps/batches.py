"""Batches of members: the unit of work of a sweep, in this process or in others."""

from __future__ import annotations

import functools
import hashlib
import pickle
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.sweeps.axes import ENDS, Axes
from unhurried_heron.sweeps.marching import Group, march
from unhurried_heron.sweeps.measures import Measure
from unhurried_heron.sweeps.outcome import Outcome, nothing_yet

# Bytes of what a batch records, at most.
_MAX_BYTES: Final = 32_000_000
# Members of a batch, at most.
_MAX_MEMBERS: Final = 16_384


@dataclass(frozen=True)
class Shared:
    """What all members of a sweep have in common.

    Attributes
    ----------
    problem : Problem
    method : str or Method
    options : mapping of str to object
        As of `integrate`, all of them.
    times : ndarray, shape (n_times,)
        At which is recorded.
    measures : tuple of Measure
    derived : bool
        Whether derived quantities are recorded, too.
    """

    problem: Problem
    method: str | Method
    options: Mapping[str, Any]
    times: Array
    measures: tuple[Measure, ...]
    derived: bool

    @property
    def columns(self) -> tuple[str, ...]:
        """What is recorded: states, and derived quantities where these are kept."""
        return (*self.problem.states, *(self.problem.derived if self.derived and self.times.size else ()))

    @property
    def batch_size(self) -> int:
        """How many members a batch has."""
        row = 8 * max(1, self.times.size * len(self.columns) + len(self.problem.states))
        return max(1, min(_MAX_MEMBERS, _MAX_BYTES // row))

    def nothing_yet(self, count: int) -> Outcome:
        """Return what is kept of members that did not march yet."""
        return nothing_yet(count, self.times.size, len(self.columns), len(self.problem.states), len(self.measures))

    def march(self, axes: Axes, members: slice, threads: int | None) -> Outcome:
        """Let some members march.

        Parameters
        ----------
        axes : Axes
        members : slice
        threads : int or None
            How many march at once; None: as many as there are processors.

        Returns
        -------
        Outcome
        """
        count, groups = members.stop - members.start, list(self._groups(axes, members, threads))
        if len(groups) == 1 and groups[0][2].size == self.times.size:
            # all members are one group, in its order
            whole = march(groups[0][1])
            return whole._replace(recorded=whole.recorded[:, : self.times.size])
        found = self.nothing_yet(count)
        events: list[tuple[Any, Any, Any, Any]] = []
        for own, group, inside in groups:
            part = march(group)
            found.take(own, part, inside)
            events.append((own[part.event_members], part.event_which, part.event_times, part.event_states))
        return found.with_events(events)

    def _groups(self, axes: Axes, members: slice, threads: int | None) -> Iterator[tuple[IntArray, Group, IntArray]]:
        """Yield members that differ in parameters and starting values alone: their indices, and those of their times.

        Parameters
        ----------
        axes : Axes
        members : slice
        threads : int or None

        Yields
        ------
        (ndarray of int64, Group, ndarray of int64)
        """
        settings, ends, parameters, initial = (
            axes.columns(kind, members=members) for kind in ("option", "interval", "parameter", "state")
        )
        keys = [*zip(*settings.values(), *ends.values(), strict=True)]
        whole = np.arange(members.stop - members.start)
        for key in dict.fromkeys(keys) or [()]:
            own = np.array([k for k, each in enumerate(keys) if each == key], dtype=np.int64) if keys else whole
            chosen = dict(zip(settings, key, strict=False))
            interval = [*self.problem.interval]
            for name, end in zip(ends, key[len(settings) :], strict=True):
                interval[ENDS[name]] = float(end)
            inside = np.flatnonzero((self.times >= min(interval)) & (self.times <= max(interval)))
            record = self.times[inside] if inside.size else np.array([interval[1]])
            method = str(chosen.pop("method")) if "method" in chosen else self.method
            some = {**self.options, **{name: float(value) for name, value in chosen.items()}, "record": record}
            with quietly():
                here = self.problem.with_(interval=(interval[0], interval[1])) if ends else self.problem
            given, begun = ({name: each[own] for name, each in columns.items()} for columns in (parameters, initial))
            yield own, Group(here, method, some, given, begun, self.measures, self.derived, threads), inside


class Batch(NamedTuple):
    """Members that march in one call, perhaps elsewhere.

    ``shared``: what all batches share, pickled, and the ``digest`` of it, by which a process keeps what it made of it;
    ``axes``: of these members alone, ``size`` of them; ``threads``.
    """

    shared: bytes
    digest: str
    axes: Axes
    size: int
    threads: int | None


def batches_of(shared: Shared, axes: Axes, threads: int | None) -> Iterator[tuple[slice, Batch]]:
    """Yield the batches of a sweep, with the members they are.

    Parameters
    ----------
    shared : Shared
    axes : Axes
    threads : int or None

    Yields
    ------
    (slice, Batch)
    """
    content = pickle.dumps(shared)
    digest = hashlib.sha256(content).hexdigest()
    for members in slices_of(axes.count, shared.batch_size):
        yield members, Batch(content, digest, axes.flat(members), members.stop - members.start, threads)


def slices_of(count: int, size: int) -> Iterator[slice]:
    """Yield slices of equal size that cover a number of members; the last may be shorter."""
    yield from (slice(first, min(first + size, count)) for first in range(0, count, size))


@functools.lru_cache(maxsize=4)
def _kept(digest: str, content: bytes) -> Shared:
    """Return what batches share: machine code that belongs to it is made once in a process."""
    shared: Shared = pickle.loads(content)
    return shared


def march_batch(batch: Batch) -> Outcome:
    """Let a batch march; whoever has it can call this, in any process."""
    return _kept(batch.digest, batch.shared).march(batch.axes, slice(0, batch.size), batch.threads)


def shared_of(batch: Batch) -> Shared:
    """Return what a batch shares with the others."""
    return _kept(batch.digest, batch.shared)
