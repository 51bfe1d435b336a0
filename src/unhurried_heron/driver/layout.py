"""Laying out what a march needs: the bundles that all share, and what its family adds."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.codegen.crossing_functions import going_codes
from unhurried_heron.codegen.part_rates import rates_of
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.driver.crossing_layout import crossing_of
from unhurried_heron.driver.initial_data import lay_out_initial_data
from unhurried_heron.driver.manifold_layout import manifold_fields
from unhurried_heron.driver.march import CHUNK_STEPS, March
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.closed_form_starter import ClosedFormStarter
from unhurried_heron.families.error_scale import ErrorScale, Measure
from unhurried_heron.families.family import Member, SetupRequest
from unhurried_heron.families.linear import LinearDemand, LinearSolver, linear_solver
from unhurried_heron.families.linear_choice import Entries
from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.bundles import (
    Output,
    Parts,
    System,
    Watch,
)
from unhurried_heron.kernels.memory.control import CONTROL, LEDGER, MAX_IN_STEP, RECENT, SPARE, VALUE_ROWS
from unhurried_heron.methods.method import Method
from unhurried_heron.model.column_colouring import groups_of_columns
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.model.narrow import MAX_PARTS

# Bytes of step polynomials that fit into the buffer before the march returns.
CHUNK_BYTES = 4_194_304
# Events that fit into the buffer at least.
EVENT_ROOM = 64
# Counts above this cannot be reached by any run.
_MAX_COUNT = 2**62
# Changes of one function that a part of a step may hold at most,
_MANY_IN_STEP = 256
# as long as events and states together keep no more numbers than this.
_EVENT_NUMBERS = 20_000


def lay_out(request: RunRequest, native: NativeSystem, scales: ErrorScale, kind: str, *, stops: bool) -> March:
    """Allocate everything a march needs.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
        The problem, made callable.
    scales : ErrorScale
        Tolerances of the error estimate.
    kind : str
        The kind of linear algebra, for an implicit method.
    stops : bool
        Whether it stops on its way, at known times, switches or events that act.

    Returns
    -------
    March
    """
    state, family = request.problem.start, family_of(request.method)
    n, control = state.size, np.zeros(1, dtype=CONTROL)
    watch = _watch(native, request, n)
    beside = {"search": "march.events.search"} if watch.m else {}
    beside |= {"cross": "march.crossing.cross", "order": "march.known_order.put_in_order"} if stops else {}
    own, march, _, *others = load_kernels(
        family.kernel, "march.loop.march", "march.initialise.initialise", *beside.values(), *family.beside
    )
    entries = native.entries and Entries(*native.entries)
    mass = request.problem.model.mass
    wanted = LinearDemand(n, control, kind, mass=mass, fixed=not request.adapts, measure=Measure(state, scales),
                          once=family.time_derivative)  # fmt: skip
    solver = _linear(request, native, wanted) if family.implicit else None
    demand = SetupRequest(n, control, scales, not request.adapts, solver, request.starter, request.controller,
                          request.problem)  # fmt: skip
    whole = demand._replace(
        member=lambda method: member_of(method, request, demand),
        degree_of=lambda method: family_of(method).degree(method),
        parts=(native.implicit, native.explicit),
        rates_of=lambda indices: native.rates if request.trace else rates_of(native, request.problem, indices),
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
        *manifold_fields(native.manifold, n),
        *_groups(n, entries, native, full=kind == "dense"),
        int(kind == "krylov"),
        *_mass(n, mass),
    )
    system = System(*fields)
    found = dict(zip(beside, others, strict=False))
    parts = Parts(own.address, *(found[name].address if name in found else 0 for name in ("search", "cross")))
    output = _output(request, n, work.degree)
    crossing = crossing_of(request, native, stops=stops)
    order = found["order"].address if stops else 0
    initial = lay_out_initial_data(native, request.problem.model, crossing, order)
    return March(march, control, system, parts, watch, output, crossing, work.bundle, family.implicit, native,
                 initial, work.keep, solver, work.members, work.links)  # fmt: skip


def member_of(method: Any, request: RunRequest, demand: SetupRequest) -> Member:
    """Lay out what another family asks: a method, or what lays itself out.

    Parameters
    ----------
    method : Method or ClosedFormStarter
    request : RunRequest
    demand : SetupRequest

    Returns
    -------
    Member
    """
    if isinstance(method, ClosedFormStarter):
        return method.member(demand.n, *load_kernels("closed_form_starter.family"))
    family = family_of(method)
    (kernel,) = load_kernels(family.kernel)
    scales = family.scale(method, request.relative, request.absolute, request.problem.start, not request.adapts)
    work = family.lay_out(method, demand._replace(scales=scales))
    return Member(kernel, work, {"relative": scales.relative, "absolute": scales.absolute})


def stiff_member(request: RunRequest, march: March, method: Method, native: NativeSystem, kind: str) -> Member:
    """Lay out an implicit method beside a march that has had none.

    Parameters
    ----------
    request : RunRequest
    march : March
    method : Method
    native : NativeSystem
        The march's system with the Jacobian that it needs.
    kind : str
        Of linear algebra: "dense", "banded" or "sparse".

    Returns
    -------
    Member
    """
    n, entries = march.system.n, native.entries and Entries(*native.entries)
    scales = ErrorScale(request.relative, request.absolute)
    solver = _linear(request, native, LinearDemand(n, march.control, kind, measure=Measure(march.system.state, scales)))
    demand = SetupRequest(n, march.control, scales, False, solver, None, request.controller, request.problem)
    member = member_of(method, request, demand)
    names = System._fields[System._fields.index("rates") : System._fields.index("state")]
    fields_of_system = dict(zip(names, native.addresses(), strict=True))
    groups = System._fields[System._fields.index("n_groups") : System._fields.index("operator")]
    fields_of_system |= dict(zip(groups, _groups(n, entries, native, full=kind == "dense"), strict=True))
    fields_of_system["operator"] = int(kind == "krylov")
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
    """Return the groups of columns for differences, as `System` has them.

    Parameters
    ----------
    n : int
        Number of states.
    entries : Entries or None
        Where the Jacobian can be nonzero; None where that is not known.
    native : NativeSystem
    full : bool
        Whether the Jacobian is a full matrix.

    Returns
    -------
    tuple[Any, ...]
    """
    if entries is None or native.jacobian is not None:
        nothing = np.empty(0, dtype=np.int64)
        count = 0 if native.jacobian is None else n * n if full or entries is None else entries.rows.size
        return 0, count, nothing, nothing, nothing, nothing, np.empty(0)
    group = groups_of_columns(n, *entries)
    indices = entries.rows * n + entries.columns if full else np.arange(entries.rows.size)
    count = int(group.max(initial=-1)) + 1
    return count, entries.rows.size, group, entries.rows, entries.columns, indices, np.zeros(n)


def _linear(request: RunRequest, native: NativeSystem, demand: LinearDemand) -> LinearSolver:
    """Return the linear algebra of a run.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
    demand : LinearDemand
        What it is made for, but for what these tell.

    Returns
    -------
    LinearSolver
    """
    insists = request.linear is not None or request.preconditioner is not None
    wanted = demand._replace(
        entries=native.entries and Entries(*native.entries),
        rates=native.rates,
        product=native.product,
        preconditioner=request.preconditioner,
        layout=request.problem.model.layout,
        insists=insists,
    )
    return linear_solver(wanted)


def _mass(n: int, mass: MassMatrix | None) -> tuple[Any, ...]:
    """Return the mass matrix, as `System` has it."""
    if mass is None:
        nothing = np.empty(0, dtype=np.int64)
        return 0, 0, nothing, nothing, np.empty(0), np.empty(0)
    sizes = mass.sizes(n)
    return mass.rows.size, mass.constraints(n), *mass, sizes


def _watch(native: NativeSystem, request: RunRequest, n: int) -> Watch:
    """Allocate what the search for events works on.

    Parameters
    ----------
    native : NativeSystem
    request : RunRequest
    n : int
        Number of states.

    Returns
    -------
    Watch

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    events = request.events
    going, stop = going_codes(events, native.located)
    m, beyond = len(going), native.beyond
    if beyond is None:
        raise unforeseen("a march with crossings and without their functions")
    # A step may hold as many changes of each function as memory allows.
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
    """Allocate what a chunk of the march leaves.

    Parameters
    ----------
    request : RunRequest
    n : int
        Number of states.
    degree : int
        Degree of the step polynomial.

    Returns
    -------
    Output
    """
    room, times = int(min(CHUNK_STEPS, max(1, CHUNK_BYTES // (8 * (degree + 1) * n)))), request.times
    rows = 2 * room if request.ledger else 0
    # Where the state is recorded at given times, only the polynomial of the present step is kept.
    room, count = (room, 0) if times is None else (1, times.size)
    starts, steps, coefficients = np.empty(room), np.empty(room), np.empty((room, degree + 1, n))
    table, wanted, nothing, recent = (
        np.empty(rows, dtype=LEDGER),
        np.empty(count + 1),
        np.empty((0, n)),
        np.zeros(RECENT),
    )
    return Output(room, rows, (degree + 1) * n, starts, steps, coefficients, table, wanted, nothing, recent)
