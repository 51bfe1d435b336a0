"""Laying out what a march needs: the bundles that all share, and what its family adds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, IntArray, Records
from unhurried_heron.codegen.crossing_functions import going_codes
from unhurried_heron.codegen.signature import address
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.codegen.tracing import Tracer
from unhurried_heron.driver.landings import BEYOND, FIRST, Landings, crossing_of, table_part, with_landings
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.closed_form_starter import ClosedFormStarter
from unhurried_heron.families.column_colouring import groups_of_columns
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.family import Member, SetupRequest
from unhurried_heron.families.linear import Entries, LinearSolver, linear_solver
from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.machine_code.loading import Kernel
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.bundles import (
    CROSSING,
    OUTPUT,
    OWN,
    Crossing,
    Output,
    Parts,
    System,
    Watch,
    address_table,
)
from unhurried_heron.kernels.memory.control import CONTROL, LEDGER, MAX_IN_STEP, RECENT, SPARE, VALUE_ROWS
from unhurried_heron.kernels.memory.multistep_work import LINK_SIZE
from unhurried_heron.methods.method import Method
from unhurried_heron.model.narrow import MAX_PARTS

# steps to a chunk: enough to make a call cheap, few enough to stay in the processor's cache
CHUNK_STEPS = 1024
# Bytes of step polynomials that fit into the buffer before the march returns.
CHUNK_BYTES = 4_194_304
# Events that fit into the buffer at least.
EVENT_ROOM = 64
# counts beyond this are none that a run could reach
_MAX_COUNT = 2**62
# Changes of one function that a part of a step may hold at most,
_MANY_IN_STEP = 256
# as long as events and states together keep no more numbers than this.
_EVENT_NUMBERS = 20_000
# Attempts before the first look, where an earlier run has shown that they are quick.
_SHORT = 64


@dataclass
class March:
    """A march ready to run; all arrays are owned here.

    ``own`` is the bundle of its family, ``implicit`` whether an attempt solves linear systems, ``size`` how many bytes
    its bundles take, ``pace`` how many attempts are made before the driver looks (the first tells how long one takes),
    ``key`` what it was laid out for. ``find_other``: lays out the
    second of two methods, ``linear_kind`` tells the linear algebra of it, ``pair`` the two where they are not the usual
    ones.
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
    keep: tuple[Any, ...] = ()
    linear: LinearSolver | None = None
    members: tuple[Member, ...] = ()
    links: Any = None
    find_other: Callable[[], Member | None] | None = None
    linear_kind: str = ""
    table: IntArray = field(init=False)
    size: int = field(init=False)
    pace: int = 1
    key: tuple[Any, ...] = ()
    tracer: Tracer | None = None
    pair: tuple[Method, ...] = ()
    _records: list[tuple[Any, Any]] = field(init=False)

    def __post_init__(self) -> None:
        bundles = (self.system, self.watch, self.output, self.crossing, self.own)
        arrays = [each for bundle in bundles for each in bundle if isinstance(each, np.ndarray)]
        self.size = sum(array.nbytes for array in arrays)
        # a family's records as they were laid out
        owns = [self.own, *(member.work.bundle for member in self.members)]
        records = [each for own in owns for each in own if isinstance(each, np.ndarray) and each.dtype.names]
        self._records = [(record.view(np.uint8), record.copy().view(np.uint8)) for record in records]
        self.table = self._table_of(self.system, self.parts, self.own)
        self._tables: dict[int, Any] = {}
        for index, member in enumerate(self.members):
            self.link(index, member)

    def link(self, index: int, member: Member) -> None:
        """Let a member march by a table of its own, and tell its family where that is."""
        if id(member) not in self._tables:
            system = self.system._replace(rates_at_state=member.work.rates_at_state, **member.fields)
            parts = self.parts._replace(family=member.kernel.address)
            self._tables[id(member)] = self._table_of(system, parts, member.work.bundle)
        table = self._tables[id(member)]
        first = LINK_SIZE * index
        self.links[first : first + LINK_SIZE] = member.kernel.address, address(table), member.work.degree

    def change(self) -> None:
        """Put the other of two methods in place of the one that marches; leave it where there is none."""
        if self.find_other is not None:
            other = self.find_other()
            self.find_other = None
            if other is None:
                self.own.choice["allowed"] = 0
                return
            records = [each for each in other.work.bundle if isinstance(each, np.ndarray) and each.dtype.names]
            self._records += [(record.view(np.uint8), record.copy().view(np.uint8)) for record in records]
            self.members = (*self.members, other)
        load_kernels("stiffness_switching.changed")[0](self.table)
        self.link(0, self.members[int(self.own.choice["stiff"][0])])
        self.control["started"] = -1

    def _table_of(self, system: System, parts: Parts, own: Any) -> Any:
        return address_table(self.control, *system, *parts, *self.watch, *self.output, *self.crossing, *own)

    def renew(self) -> None:
        """Forget what a run before this one did, and of its pace all but that short runs need no second look."""
        self.pace = min(self.pace, _SHORT)
        self.control.view(np.uint8).fill(0)
        self.control["table"] = address(self.table)
        self.watch.counts[:] = 0
        self.watch.band[:] = self.watch.side[:] = 0.0
        for record, fresh in self._records:
            record[:] = fresh
        if len(self.members) > 1 and self.links.size == LINK_SIZE:
            self.link(0, self.members[0])

    def last(self, name: str) -> Any:
        """Return what the march left in a field of its control record, a plain number."""
        return self.control[name].item()

    def state_of_march(self) -> tuple[int, ...]:
        """Return what a trace keeps of a call, in the order of `run.trace`."""
        row = self.control[0]
        return tuple(int(row[name]) for name in ("purpose", "accepted", "refused", "stage", "member"))

    def record(self, times: Array, onward: float) -> None:
        """Record the state at these times, in memory of their own; ``onward``: the infinity it goes towards."""
        self.output.wanted[:-1], self.output.wanted[-1] = times, onward
        if times.size:
            self.output = self.output._replace(recorded=np.empty((times.size, self.system.n)))
            self.table[OUTPUT + Output._fields.index("recorded")] = address(self.output.recorded)
            if times[0] == self.control["time"][0]:
                self.output.recorded[0] = self.system.state
                self.control["next_wanted"] = 1

    def land(self, landings: Landings, interval: tuple[float, float]) -> None:
        """Take the known times of another run, where the march stops on its way."""
        self.control["end"] = interval[1]
        if self.parts.cross:
            self.crossing = with_landings(self.crossing, landings, interval)
            self.table[CROSSING + FIRST : CROSSING + BEYOND] = table_part(self.crossing)
            self.table[OWN - 1] = address(self.crossing.inner)
            self.control["end"] = self.crossing.times[0]

    def release(self) -> None:
        """Let go of what was recorded; `record` gives the next run memory of its own."""
        self.output = self.output._replace(recorded=np.empty((0, self.system.n)))

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

    def renew_output(self) -> None:
        """Take new buffers for the steps, because the present ones are being kept."""
        new = [np.empty_like(kept) for kept in (self.output.starts, self.output.steps, self.output.coefficients)]
        self.output = self.output._replace(starts=new[0], steps=new[1], coefficients=new[2])
        index = OUTPUT + Output._fields.index("starts")
        self.table[index : index + 3] = [address(array) for array in new]


def lay_out(request: RunRequest, native: NativeSystem, scales: ErrorScale, kind: str, *, stops: bool) -> March:
    """Allocate everything a march needs.

    Parameters
    ----------
    native : NativeSystem
        The problem, made callable.
    scales : ErrorScale
        Tolerances of the error estimate.
    kind : str
        The kind of linear algebra, for an implicit method.
    stops : bool
        Whether it stops on its way, at known times, switches or events that act.
    """
    state, family = request.problem.start, family_of(request.method)
    n, control = state.size, np.zeros(1, dtype=CONTROL)
    watch = _watch(native, request, n)
    beside = {"search": "march.events.search"} if watch.m else {}
    beside |= {"cross": "march.crossing.cross"} if stops else {}
    own, march, *others = load_kernels(family.kernel, "march.loop.march", *beside.values(), *family.beside)
    entries = native.entries and Entries(*native.entries)
    solver = linear_solver(n, control, kind, entries, fixed=not request.adapts) if family.implicit else None
    demand = SetupRequest(n, control, scales, not request.adapts, solver, request.starter, request.controller)
    whole = demand._replace(
        member=lambda method: member_of(method, request, demand),
        degree_of=lambda method: family_of(method).degree(method),
    )
    work = family.lay_out(request.method, whole)
    vectors = (state, work.rates_at_state, np.zeros(n), scales.relative, scales.absolute)
    kept = request.nonnegative
    fields: Any = (
        n,
        *native.addresses(),
        *vectors,
        *_guards(native, n),
        kept.size,
        kept,
        *_groups(n, entries, native, full=kind == "dense"),
    )
    system = System(*fields)
    found = dict(zip(beside, others, strict=False))
    parts = Parts(own.address, *(found[name].address if name in found else 0 for name in ("search", "cross")))
    output = _output(request, n, work.degree)
    crossing = crossing_of(request, native, stops=stops)
    return March(march, control, system, parts, watch, output, crossing, work.bundle, family.implicit, native,
                 work.keep, solver, work.members, work.links)  # fmt: skip


def member_of(method: Any, request: RunRequest, demand: SetupRequest) -> Member:
    """Lay out what another family asks: a method, or what lays itself out."""
    if isinstance(method, ClosedFormStarter):
        return method.member(demand.n, *load_kernels("closed_form_starter.family"))
    family = family_of(method)
    (kernel,) = load_kernels(family.kernel)
    scales = family.scale(method, request.relative, request.absolute, request.problem.start, not request.adapts)
    work = family.lay_out(method, demand._replace(scales=scales))
    return Member(kernel, work, {"relative": scales.relative, "absolute": scales.absolute})


def stiff_member(request: RunRequest, march: March, method: Method, native: NativeSystem, kind: str) -> Member:
    """Lay out an implicit method beside a march that has had none.

    ``native`` is the march's system with the Jacobian that it needs.
    """
    n, entries = march.system.n, native.entries and Entries(*native.entries)
    solver = linear_solver(n, march.control, kind, entries, fixed=False)
    member = member_of(
        method,
        request,
        SetupRequest(
            n, march.control, ErrorScale(request.relative, request.absolute), False, solver, None, request.controller
        ),
    )
    names = System._fields[System._fields.index("rates") : System._fields.index("state")]
    fields_of_system = dict(zip(names, native.addresses(), strict=True))
    groups = System._fields[System._fields.index("n_groups") :]
    fields_of_system |= dict(zip(groups, _groups(n, entries, native, full=kind == "dense"), strict=True))
    march.native, march.linear, march.linear_kind = native, solver, kind
    return member._replace(fields={**member.fields, **fields_of_system})


def _guards(native: NativeSystem, n: int) -> tuple[Any, ...]:
    """Return the guards of the rates, as `System` has them."""
    function = native.guards
    if function is None:
        return 0, 0, 0, np.zeros(0), 0, np.zeros(0)
    count, more = function.n_outputs, native.n_arguments
    guarded, parts = np.zeros(2 * count + n), np.zeros((MAX_PARTS if more else 0, 4))
    return count - more, function.address, function.context_address, guarded, more, parts


def _groups(n: int, entries: Entries | None, native: NativeSystem, *, full: bool) -> tuple[Any, ...]:
    """Return the groups of columns for differences, as `System` has them."""
    if entries is None or native.jacobian is not None:
        nothing = np.empty(0, dtype=np.int64)
        return 0, 0, nothing, nothing, nothing, nothing, np.empty(0)
    group = groups_of_columns(n, entries)
    indices = entries.rows * n + entries.columns if full else np.arange(entries.rows.size)
    count = int(group.max(initial=-1)) + 1
    return count, entries.rows.size, group, entries.rows, entries.columns, indices, np.zeros(n)


def _watch(native: NativeSystem, request: RunRequest, n: int) -> Watch:
    events = request.events
    going, stop = going_codes(events, native.located)
    m, beyond = len(going), native.beyond
    if beyond is None:
        raise unforeseen("a march with crossings and without their functions")
    # as many changes of each in one step as memory allows
    most = max(MAX_IN_STEP, min(_MANY_IN_STEP, _EVENT_NUMBERS // max(n * m, 1)))
    room = max(EVENT_ROOM, 2 * (most + SPARE) * m) if m else 0
    acting = int(any(beyond.actions))
    conditions, derivatives, speeds = tables = np.zeros((3, m, 2), dtype=np.int64)
    for table, functions in zip(tables, (beyond.conditions, beyond.derivatives, beyond.speeds), strict=True):
        for k, each in enumerate(functions):
            table[k] = (each.address, each.context_address) if each else (0, 0)
    limits = np.zeros((2, m), dtype=np.int64)
    limits[:, : len(events)] = [
        [min(each.at_most or 0, _MAX_COUNT) for each in events],
        [min(each.stop_after or 0, _MAX_COUNT) for each in events],
    ]
    return Watch(
        m,
        room,
        most,
        native.event_addresses(),
        conditions,
        derivatives,
        speeds,
        going,
        stop,
        beyond.breaks,
        np.zeros(m),
        np.zeros(m),
        request.relative.copy(),
        request.absolute.copy(),
        limits[0],
        limits[1],
        counts=np.zeros(m, dtype=np.int64),
        values=np.full((VALUE_ROWS, m), np.nan),
        times=np.zeros(room),
        which=np.zeros(room, dtype=np.int64),
        states=np.zeros((room, n)),
        trial=np.zeros(n),
        acting=acting,
        after=np.zeros((acting * room, n)),
        context=native.context.array,
        n_modes=len(beyond.modes),
        mode_slots=np.array(beyond.modes, dtype=np.int64),
        modes=np.zeros((acting * room, len(beyond.modes))),
    )


def _output(request: RunRequest, n: int, degree: int) -> Output:
    room, times = int(min(CHUNK_STEPS, max(1, CHUNK_BYTES // (8 * (degree + 1) * n)))), request.times
    rows = 2 * room if request.ledger else 0
    # only the present step's where the state is recorded at given times
    room, count = (room, 0) if times is None else (1, times.size)
    starts, steps, coefficients = np.empty(room), np.empty(room), np.empty((room, degree + 1, n))
    table, wanted, nothing, recent = (
        np.empty(rows, dtype=LEDGER),
        np.empty(count + 1),
        np.empty((0, n)),
        np.zeros(RECENT),
    )
    return Output(room, rows, (degree + 1) * n, starts, steps, coefficients, table, wanted, nothing, recent)
