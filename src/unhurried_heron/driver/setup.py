"""From what is asked of a run to a march that is ready to be driven."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array, Records
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.jacobians import differenced_in_groups, jacobian_entries, with_jacobian
from unhurried_heron.codegen.part_rates import with_parts
from unhurried_heron.codegen.system import NativeSystem, native_system
from unhurried_heron.codegen.tracing import Tracer
from unhurried_heron.deadline import check_deadline
from unhurried_heron.driver.decays import STEPS_TO_BEGIN, decays_at_start, decays_left, depends_on_time
from unhurried_heron.driver.drive import Driver
from unhurried_heron.driver.implied_rates import with_implied_rates
from unhurried_heron.driver.layout import lay_out, member_of, stiff_member
from unhurried_heron.driver.layout_pool import give_back, key_of, take
from unhurried_heron.driver.march import March
from unhurried_heron.driver.run_request import Prepared, RunRequest
from unhurried_heron.driver.slide_detection import SOON
from unhurried_heron.driver.sliding import MAX_UNANSWERED
from unhurried_heron.driver.time_sources import time_sources
from unhurried_heron.errors import MethodError, OptionError, excerpt
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.family import Member, SetupRequest
from unhurried_heron.families.linear_choice import (
    INCOMPLETE,
    MANY_SPARSE,
    MAX_FULL,
    Entries,
    choose_linear,
    entries_with,
    most_entries,
    refuse_large,
)
from unhurried_heron.families.registry import family_of
from unhurried_heron.families.stiffness_switching import COST_OF_STABILISED, near_border
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.stiffness_switching_work import FIRST_STEPS, STIFF_STEP_COST
from unhurried_heron.methods.method import capabilities
from unhurried_heron.model.narrow import parts_of
from unhurried_heron.model.sliding import surfaces_of

_NO_TIMES: Final = np.empty(0)
# Looks in a row, over some 600 steps, at which stability limits a march that ends where it changes: as many steps cost
# about what a stiff method takes for a whole run, so that a change costs no more than twice as much as a better one.
_LIMITED_FOR: Final = 48


def set_up(request: RunRequest, kind: str, *, stops: bool = False) -> Driver:
    """Set a march to its start and return what drives it.

    Parameters
    ----------
    request : RunRequest
    kind : str
        Of linear algebra.
    stops : bool, optional
        Whether it must be able to stop on its way, even if this run does not.

    Returns
    -------
    Driver
    """
    march, late = None, frozenset[int]()
    while march is None:
        prepared = _prepared(request, kind, late)
        if stops and not prepared.stops:
            prepared = prepared._replace(
                stops=True, key=(*prepared.base, True, *prepared.key[len(prepared.base) + 1 :])
            )
        march = None if request.trace else take(request, prepared.key)
        if march is None:
            march = _laid_out(request, kind, prepared)
        if not _begin(march, request, prepared):
            late |= march.too_many()
            give_back(request, march)
            march = None
    return Driver(march, request)


def _laid_out(request: RunRequest, kind: str, prepared: Prepared) -> March:
    """Lay out a march.

    Parameters
    ----------
    request : RunRequest
    kind : str
        Of linear algebra.
    prepared : Prepared

    Returns
    -------
    March
    """
    problem, family, tracer = request.problem, family_of(request.method), None
    check_deadline()
    native = native_system(problem, request.events, held=request.held, run_switches=prepared.sources.switches)
    native = with_implied_rates(native, request)
    check_deadline()
    if request.trace:
        tracer = Tracer(problem.model.layout.size)
        native = replace(native, rates=tracer.before(native.rates))
    if family.implicit:
        native = jacobian_for(request, native, kind, time_derivative=family.time_derivative)
    if tracer is not None and native.implicit and native.explicit:
        native = replace(native, implicit=tracer.before(native.implicit), explicit=tracer.before(native.explicit))
    march = lay_out(request, native, prepared.scales, kind, stops=prepared.stops)
    march.key, march.tracer = prepared.key, tracer
    if tracer is not None:
        tracer.around = march.state_of_march
    if request.hands_over:
        march.change_at_last(near_border(family.members(request.method, request.relative)[0]), _LIMITED_FOR)
    if family.second_later:
        march.find_other = lambda: _second_method(request, march)
    return march


def _begin(march: March, request: RunRequest, prepared: Prepared) -> bool:
    """Put a march where a run begins; it may have been used before. False where a switch has too many known times.

    Parameters
    ----------
    march : March
    request : RunRequest
    prepared : Prepared

    Returns
    -------
    bool
    """
    problem = request.problem
    if march.snapshot_of is not prepared.base:
        _write_snapshot(march.snapshot, request, seen=march.watch.m > 0)
        march.snapshot_of = prepared.base
    if request.adapts and march.native.n_arguments:
        found = parts_of(problem.model.narrow, problem.parameters)
        march.snapshot["n_parts"] = len(found)
        march.system.parts[: len(found)] = found
    if not march.begin(problem, prepared.sources):
        return False
    _begin_stabilised(march, request)
    if request.continues:
        # a later part of a run goes on with the widths and the roots of the one before
        slots = march.native.context.slots
        for slot, value in {**request.widths, **request.roots}.items():
            if slot in slots:
                march.native.context.array[slots[slot]] = value
    start, end = problem.interval
    room = np.empty if request.sink is None else request.sink.memory
    march.record(_NO_TIMES if request.times is None else request.times, math.copysign(math.inf, end - start), room)
    for event, before, _ in request.met:
        _note_departure(march, event, before)
    return True


def _prepared(request: RunRequest, kind: str, late: frozenset[int]) -> Prepared:
    """Return what a march is set up for, as it was for the same request before where that still holds.

    Parameters
    ----------
    request : RunRequest
    kind : str
        Of linear algebra.
    late : frozenset of int
        Indices of switches that have too many known times.

    Returns
    -------
    Prepared
    """
    problem, family, known = request.problem, family_of(request.method), request.prepared
    if known is not None and known.problem is problem and not late:
        return known
    if known is not None and not known.by_state:
        scales = known.scales
    else:
        state = problem.assembled.initial.array
        scales = family.scale(request.method, request.relative, request.absolute, state, not request.adapts)
    by_state = not (request.adapts and family.scale.__module__.startswith("unhurried_heron."))
    sources = known.sources if known and known.sources.constant and not late else time_sources(request, late)
    located = tuple(each.times is None for each in sources.switches.all)
    stops = sources.stops or any(located) or any(event.then is not None for event in request.events)
    base = known.base if known and scales is known.scales else key_of(request, scales, kind)
    found = Prepared(problem, scales, by_state, sources, stops, base, (*base, stops, *located))
    if not late:
        object.__setattr__(request, "prepared", found)
    return found


def _begin_stabilised(march: March, request: RunRequest) -> None:
    """Let a large system whose modes only decay, and often, begin with a stabilised method, which costs no more."""
    if march.find_other is not None:
        decays = decays_at_start(request, march)
        if decays is None:
            return
        march.find_other, march.stiff_first = lambda: _second_method(request, march, decays), True
    if march.stiff_first:
        march.change()
        march.own.limits[FIRST_STEPS] = STEPS_TO_BEGIN
        # the first step is chosen for it
        march.control["started"], march.control["estimate_order"] = 0, march.pair[1].estimate_order


def _note_departure(march: March, event: int, before: Array) -> None:
    """Let a function that stood at zero where another run ended, and was left there, not be found again at once.

    Parameters
    ----------
    march : March
    event : int
        Its index.
    before : ndarray, shape (n_states,)
        The state before it happened.
    """
    states = np.array([before, march.system.state])
    found = evaluate_rows(march.native.events[event], np.full(2, march.last("time")), states)
    if len(found) == 2 and abs(found[1, 0]) <= 2.0 * abs(found[0, 0]):
        march.watch.values[0, event] = 0.0


def _second_method(request: RunRequest, march: March, decays: float | None = None) -> Member | None:
    """Lay out the stiff method of a pair; None where the system is too large for it.

    Parameters
    ----------
    request : RunRequest
    march : March
    decays : float, optional
        How often the fastest mode decays until the end, where that is known, and that there is no narrow band.

    Returns
    -------
    Member or None
    """
    chosen: Any = request.method
    smooth, method = family_of(chosen).members(chosen, request.relative)
    try:
        kind = linear_kind(replace(request, method=method)) if decays is None else INCOMPLETE
    except MethodError:
        return None
    if kind in ("sparse", "krylov", INCOMPLETE) and march.system.n >= MANY_SPARSE:
        rtol = float(request.relative.min(where=request.relative > 0.0, initial=1.0))
        method = chosen.of_large(rtol)
        # who names linear algebra wants an implicit method
        free = request.linear is None and request.preconditioner is None
        if free and any(rtol >= each.rtol for each in chosen.decaying):
            decays = decays_left(request.problem, march) if decays is None else decays
            method = chosen.of_decays(rtol, decays, in_time=depends_on_time(request.problem)) or method
        march.pair = (smooth, method)
        march.own.orders[1], march.own.limits[FIRST_STEPS] = method.order, family_of(method).first_steps
    if not family_of(method).implicit:
        march.own.limits[STIFF_STEP_COST] = COST_OF_STABILISED
        scales = ErrorScale(request.relative, request.absolute)
        demand = SetupRequest(
            march.system.n, march.control, scales, False, None, None, request.controller, request.problem
        )
        member = member_of(method, request, demand)
        march.own.radius[0] = address(member.work.bundle.stretch["radius"])
        return member
    native = jacobian_for(request, march.native, kind, time_derivative=family_of(method).time_derivative)
    return stiff_member(request, march, method, native, kind)


def jacobian_for(request: RunRequest, native: NativeSystem, kind: str, *, time_derivative: bool) -> NativeSystem:
    """Return a system with the Jacobian that an implicit method needs, for a kind of linear algebra.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
    kind : str
        Of linear algebra: "dense", "banded" or "sparse".
    time_derivative : bool
        Whether the time derivative of the rates is wanted, too.

    Returns
    -------
    NativeSystem
    """
    full = kind == "dense" and not differenced_in_groups(request.problem)
    matrix = kind != "krylov"
    if family_of(request.method).additive:
        native = with_parts(native, request.problem)
    return with_jacobian(
        native,
        request.problem,
        time_derivative=time_derivative,
        held=request.held,
        full=full,
        matrix=matrix,
    )


def _write_snapshot(control: Records, request: RunRequest, *, seen: bool) -> None:
    """Write what the control record of every march of a request begins with.

    Parameters
    ----------
    control : ndarray of CONTROL, shape (1,)
    request : RunRequest
    seen : bool
        Whether functions are watched.
    """
    table = control["table"].copy()
    control[:] = np.zeros(1, dtype=control.dtype)
    control["table"] = table
    control["most_in_place"] = SOON
    control["rests_to_leave"] = 0 if surfaces_of(request.problem.model) else MAX_UNANSWERED
    control["adaptive"] = int(request.adapts)
    control["order"] = request.method.order
    control["estimate_order"] = request.method.estimate_order
    control["bad_component"] = control["guard"] = -1
    control["largest_step"] = request.longest
    control["every_step"] = int(request.times is None)
    kept = request.adapts or request.trace or request.ledger or request.times is None
    model = request.problem.model
    kept = kept or bool(model.manifold or getattr(model.rates, "implied", None))
    control["strides"] = int(not kept and not seen and family_of(request.method).strides)
    given = request.first if request.fixed is None else request.fixed
    control["step"] = 0.0 if given is None else given


def linear_kind(request: RunRequest) -> str:
    """Return the linear algebra of a run, which suits the size and the pattern of the problem.

    Raises
    ------
    OptionError
        Linear algebra is wanted of a method that has none, or does not suit the problem.
    MethodError
        Full matrices would be too large.
    """
    problem, method, wanted, preconditioner = request.problem, request.method, request.linear, request.preconditioner
    n = problem.model.layout.size
    if not family_of(method).implicit:
        named = wanted if wanted is not None else preconditioner
        if named is not None and capabilities(method).changes_method:
            # refused now where its stiff method could not have it later
            linear_kind(replace(request, method=family_of(method).members(method, request.relative)[-1]))
        elif named is not None:
            raise OptionError(
                f"{method.name} solves no linear systems",
                name="linear" if wanted is not None else "preconditioner",
                location="linear" if wanted is not None else "preconditioner",
                expected="an implicit method by name, or no choice of linear algebra",
                given=excerpt(named),
            )
        return "dense"
    wants = wanted is not None or preconditioner is not None
    most = most_entries(n, wanted, preconditioner)
    known = None
    if n > MAX_FULL or wants:
        known = jacobian_entries(problem, held=request.held, most=most, additive=family_of(method).additive)
    entries = known and entries_with(Entries(*known), problem.model.mass)
    kind = choose_linear(n, entries, wanted, preconditioner, fixed=not request.adapts)
    if kind == "dense":
        refuse_large(method.name, n)
    return kind
