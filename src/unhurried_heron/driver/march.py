"""A march: its bundles, their table of addresses, and what drives it."""

from __future__ import annotations

import struct
from collections import namedtuple
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, IntArray, Records
from unhurried_heron.codegen.following_values import Following
from unhurried_heron.codegen.runtime_data import parameter_values
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.codegen.tracing import Tracer
from unhurried_heron.driver.crossing_layout import known_rows
from unhurried_heron.driver.initial_data import with_records, with_sources
from unhurried_heron.driver.time_sources import TimeSources
from unhurried_heron.families.family import Member
from unhurried_heron.families.linear import LinearSolver
from unhurried_heron.kernels.machine_code.loading import Kernel, load_kernel
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.bundles import (
    CROSSING,
    N_LANDINGS,
    OUTPUT,
    RECORDED,
    Crossing,
    Output,
    Parts,
    System,
    Watch,
    address_table,
)
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.kernels.memory.initial_data import INITIAL, SOURCE_ITEM, SOURCE_KIND, STEPS, InitialData
from unhurried_heron.kernels.memory.links import LINK_SIZE
from unhurried_heron.kernels.stiffness_switching_work import PACE
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.assembly import AssembledProblem
from unhurried_heron.problem.problem import Problem

# The fields of a control record, which NumPy reads one by one more slowly.
_NAMES = CONTROL.names or ()
_UNPACK = struct.Struct("".join("d" if CONTROL[name] == np.float64 else "q" for name in _NAMES)).unpack
_Left: Any = namedtuple("_Left", _NAMES)  # type: ignore[misc]  # its fields are those of the record
# Attempts before the first look, where an earlier run has shown that they are quick.
_SHORT = 64

# Steps of a chunk: enough to make a call cheap, few enough to stay in the processor's cache.
CHUNK_STEPS = 1024


@dataclass
class March:
    """A march ready to run; all arrays are owned here.

    ``own`` is the bundle of its family, ``implicit`` whether an attempt solves linear systems, ``size`` how many bytes
    its bundles take, ``recorded`` the states at times that were asked for, of the present run,
    ``pace`` how many attempts are made before the driver looks (the first tells how long one takes),
    ``key`` what it was laid out for, ``initial`` what it begins with, ``snapshot_of`` the request (by what its marches
    are laid out for) whose control record is in that, ``sources`` the known times. ``find_other``: lays out the
    second of two methods, ``linear_kind`` tells the linear algebra of it, ``pair`` the two where they are not the usual
    ones, ``stiff_first`` whether the run begins with it.
    """

    kernel: Kernel
    control: Records
    system: System
    parts: Parts
    watch: Watch
    output: Output
    crossing: Crossing
    own: Any
    implicit: bool
    native: NativeSystem
    initial: InitialData
    keep: tuple[Any, ...] = ()
    linear: LinearSolver | None = None
    members: tuple[Member, ...] = ()
    links: Any = None
    find_other: Callable[[], Member | None] | None = None
    linear_kind: str = ""
    stiff_first: bool = False
    table: IntArray = field(init=False)
    size: int = field(init=False)
    pace: int = 1
    key: tuple[Any, ...] = ()
    tracer: Tracer | None = None
    pair: tuple[Method, ...] = ()
    snapshot_of: tuple[Any, ...] | None = None
    sources: TimeSources | None = None
    recorded: Array = field(init=False)
    _following: Following | None = field(init=False, default=None)
    _begins: AssembledProblem | None = field(init=False, default=None)
    _records: list[tuple[Any, Any]] = field(init=False)

    def __post_init__(self) -> None:
        bundles = (self.system, self.watch, self.output, self.crossing, self.own)
        arrays = [each for bundle in bundles for each in bundle if isinstance(each, np.ndarray)]
        self.size = sum(array.nbytes for array in arrays)
        self.recorded = self.output.recorded
        self.table = self._table_of(self.system, self.parts, self.own)
        self._tables: dict[int, Any] = {}
        for index, member in enumerate(self.members):
            self.link(index, member)
        # what a run changes, as it was laid out
        owns = [self.own, *(member.work.bundle for member in self.members)]
        self.snapshot = np.zeros_like(self.control)
        self.snapshot["table"] = address(self.table)
        self._records = [(self.control, self.snapshot), *_records_in(*owns)]
        self._begin_with(with_records(self.initial, self.table, self._records))
        self.initialise = load_kernel("march.initialise.initialise")

    def _begin_with(self, initial: InitialData) -> None:
        self.initial, self.initial_table = initial, address_table(*initial)

    def link(self, index: int, member: Member) -> None:
        """Let a member march by a table of its own, and tell its family where that is."""
        if id(member) not in self._tables:
            system = self.system._replace(rates_at_state=member.work.rates_at_state, **member.fields)
            parts = self.parts._replace(family=member.kernel.address)
            self._tables[id(member)] = self._table_of(system, parts, member.work.bundle)
        table = self._tables[id(member)]
        first = LINK_SIZE * index
        self.links[first : first + LINK_SIZE] = member.kernel.address, address(table), member.work.degree

    def complete(self) -> bool:
        """Lay out the other of two methods, if that was not done; False where there is none, and never a change."""
        if self.find_other is None:
            return len(self.members) > 1
        other, self.find_other = self.find_other(), None
        if other is None:
            for record in (self.own.choice, *(fresh for record, fresh in self._records if record is self.own.choice)):
                record["allowed"] = 0
            return False
        self._records += _records_in(other.work.bundle)
        self._begin_with(with_records(self.initial, self.table, self._records))
        self.link(len(self.members), other)
        self.members = (*self.members, other)
        return True

    def change(self) -> None:
        """Lay out the other of two methods and let it march; go on as before where there is none."""
        if self.complete():
            load_kernels("stiffness_switching.changed")[0](self.table)

    def change_at_last(self, pace: float, wait: int) -> None:
        """Let the first of two methods change when it has been limited by stability for long.

        Parameters
        ----------
        pace : float
            h times an eigenvalue beyond which a step is limited.
        wait : int
            Looks at which it is so in a row.
        """
        self.own.limits[PACE] = pace
        for record in (self.own.choice, *(fresh for record, fresh in self._records if record is self.own.choice)):
            record["wait"] = -wait

    def _table_of(self, system: System, parts: Parts, own: Any) -> Any:
        """Return the table of addresses by which a kernel marches.

        Parameters
        ----------
        system : System
        parts : Parts
        own : NamedTuple
            The family's bundle.

        Returns
        -------
        Any
        """
        return address_table(self.control, *system, *parts, *self.watch, *self.output, *self.crossing, *own)

    def begin(self, problem: Problem, sources: TimeSources) -> bool:
        """Put the march where a run begins, forgetting a run before but for the pace that long runs do not reach.

        Parameters
        ----------
        problem : Problem
        sources : TimeSources
            What is met at known times.

        Returns
        -------
        bool
            False where a switch has too many known times.
        """
        beyond = self.native.beyond
        self.pace = min(self.pace, _SHORT)
        if sources is not self.sources and beyond is not None:
            self._begin_with(with_sources(self.initial, sources, beyond, self.crossing.n_events))
            self.sources = sources
            if self.initial.listed.size > self.initial.room:
                self._make_room(self.initial.listed.size + self.initial.room)
        if problem.assembled is not self._begins:
            self._begins, data = problem.assembled, self.initial
            data.parameters[:] = parameter_values(problem)
            data.interval[:2] = problem.assembled.interval
            self.initial = data._replace(initial=problem.assembled.initial.array)
            self.initial_table[INITIAL] = address(self.initial.initial)
        needed = self.initialise(self.initial_table)
        while needed > 0:
            self._make_room(needed + needed // 4)
            needed = self.initialise(self.initial_table)
        return needed == 0

    def make_room_again(self) -> None:
        """Take more memory for known times, as the values demand that were given to the march last."""
        needed = self.initialise(self.initial_table)
        self._make_room(needed + needed // 4)

    def let_follow(self, following: Following | None) -> None:
        """Work out values that follow from parameters where the march begins, from now on; None: no more."""
        nothing = np.empty(0), np.empty(0, dtype=np.int64)
        function = (0, 0) if following is None else (following.function.address, following.function.context_address)
        values, targets = nothing if following is None else (np.empty(following.targets.size), following.targets)
        self._following = following
        self._begin_with(
            self.initial._replace(
                n_following=targets.size,
                following=function[0],
                following_context=function[1],
                following_values=values,
                following_targets=targets,
            )
        )

    def let_meet(self, listed: Array, bounds: Array) -> None:
        """List other known times and bounds; the sources tell which of them a run meets.

        Parameters
        ----------
        listed, bounds : ndarray, shape (n_listed,)
        """
        self._begin_with(self.initial._replace(listed=listed, bounds=bounds))

    def too_many(self) -> frozenset[int]:
        """Return the switches that may have too many known times: those that pass whole numbers, and what follows."""
        sources = self.initial.sources
        return frozenset((sources[sources[:, SOURCE_KIND] == STEPS, SOURCE_ITEM] - self.crossing.n_events).tolist())

    def _make_room(self, room: int) -> None:
        """Take memory for more known times."""
        rows = known_rows(room, limited=bool(self.crossing.limited))
        self.crossing = self.crossing._replace(**rows)
        for name, value in rows.items():
            own = isinstance(value, np.ndarray)
            self.table[CROSSING + Crossing._fields.index(name)] = address(value) if own else value
            self.size += value.nbytes if own else 0
        self._begin_with(self.initial._replace(room=room))

    def known_times(self, items: Array) -> Array:
        """Return the known times of the present run at which one of some items happens, in its order.

        Parameters
        ----------
        items : ndarray of int64
            Events, or n_events and a switch.

        Returns
        -------
        ndarray, shape (n_times,)
        """
        count = int(self.table[CROSSING + N_LANDINGS])
        begins = self.crossing.begins[: count + 1]
        landing = np.repeat(np.arange(count), np.diff(begins))
        found: Array = self.crossing.times[np.unique(landing[np.isin(self.crossing.items[: begins[-1]], items)])]
        return found

    def last(self, name: str) -> Any:
        """Return what the march left in a field of its control record, a plain number."""
        return self.control[name].item()

    def left(self) -> Any:
        """Return all that the march left in its control record, a namedtuple of plain numbers."""
        return _Left._make(_UNPACK(self.control.data))

    def state_of_march(self) -> tuple[int, ...]:
        """Return what a trace keeps of a call, in the order of `run.trace`."""
        row = self.control[0]
        return tuple(int(row[name]) for name in ("purpose", "accepted", "refused", "stage", "member"))

    def record(self, times: Array, onward: float, room: Callable[[tuple[int, int]], Array] = np.empty) -> None:
        """Record the state at these times.

        Parameters
        ----------
        times : ndarray, shape (n_times,)
        onward : float
            The infinity it goes towards.
        room : callable, optional
            Returns memory of a shape.
        """
        self.output.wanted[-1] = onward
        if times.size:
            self.output.wanted[:-1] = times
            self.recorded = room((times.size, self.system.n))
            self.table[RECORDED] = address(self.recorded)
            if times[0] == self.control["time"][0]:
                self.recorded[0] = self.system.state
                self.control["next_wanted"] = 1

    def release(self) -> None:
        """Let go of what was recorded; `record` gives the next run memory of its own."""
        self.recorded = self.output.recorded

    def chunk(self) -> int:
        """March on until the kernel returns; its reason.

        Raises
        ------
        BaseException
            The linear algebra went wrong.
        """
        reason = self.kernel(self.table)
        error = self.linear and self.linear.pending()
        if error:
            raise error
        return reason

    def keep_steps(self, room: int) -> None:
        """Keep the steps of the runs that follow, a number of them between two looks, and not only the present one."""
        terms, n = self.output.coefficients.shape[1:]
        steps: dict[str, Any] = {
            "starts": np.empty(room),
            "steps": np.empty(room),
            "coefficients": np.empty((room, terms, n)),
        }
        self.output = self.output._replace(room=room, **steps)
        self.table[OUTPUT + Output._fields.index("room")] = room
        for name, array in steps.items():
            self.table[OUTPUT + Output._fields.index(name)] = address(array)
        self.snapshot["every_step"], self.snapshot["strides"] = 1, 0
        # the next run of the request writes its own again
        self.snapshot_of = None

    def renew_output(self) -> None:
        """Take new buffers for the steps, because the present ones are being kept."""
        new = [np.empty_like(kept) for kept in (self.output.starts, self.output.steps, self.output.coefficients)]
        self.output = self.output._replace(starts=new[0], steps=new[1], coefficients=new[2])
        index = OUTPUT + Output._fields.index("starts")
        self.table[index : index + 3] = [address(array) for array in new]


def _records_in(*bundles: Any) -> list[tuple[Array, Array]]:
    """Return the records of bundles, each with a copy."""
    arrays = [each for bundle in bundles for each in bundle if isinstance(each, np.ndarray) and each.dtype.names]
    return [(record, record.copy()) for record in arrays]
