"""Members of a sweep: one march for all of them, which compiled code begins anew for each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.following_values import following_values
from unhurried_heron.codegen.signature import NativeFunction
from unhurried_heron.driver.layout_pool import give_back
from unhurried_heron.driver.march import March
from unhurried_heron.driver.member_times import MemberTimes, member_times, moving_names, stops_for
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.setup import linear_kind, set_up
from unhurried_heron.driver.step_measures import N_RESULTS, laid_out, quantities_in
from unhurried_heron.families.closed_form_starter import ClosedFormStarter
from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.machine_code.loading import Kernel
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.kernels.memory.sweep import FULL, N_COUNTED, ROOM, StepMeasures, Sweep
from unhurried_heron.model.functions import is_compiled
from unhurried_heron.model.rates import FunctionRates
from unhurried_heron.model.time_switches import RunSwitches
from unhurried_heron.problem.following import formulas_that_follow

# Attempts between two looks at whether to stop.
_SLICE: Final = 4096
# Attempts after which a member without a budget is left to a run by itself, which watches for steps that collapse.
_MOST: Final = 1_000_000
# A count that no march reaches.
_UNLIMITED: Final = 2**62
# Events that fit into the buffer of a loop at first.
_EVENT_ROOM: Final = 4096


# What there is of each member.
_BY_MEMBER: Final = ("recorded", "finals", "ends", "reasons", "counts", "measures")
# Steps between two looks at what is measured: few enough to stay in the processor's cache.
_STEPS: Final = 32


class FoundEvents(NamedTuple):
    """Events of members, in the order of members and then of time.

    ``members``, ``which`` int64 (n_events,): whose they are, and which of the events; ``times`` (n_events,), ``states``
    (n_events, n_states): the states before.
    """

    members: IntArray
    which: IntArray
    times: Array
    states: Array


class Members(NamedTuple):
    """What members of a sweep left.

    ``recorded`` (n_members, n_times, n_states): states at the times that are recorded, NaN beyond an end before;
    ``finals`` (n_members, n_states) and ``ends`` (n_members,): state and time at the end; ``reasons`` (n_members,):
    `Reason` of each, NO_ROOM where it must march by itself (known times cannot be told apart, or are too many);
    ``counts`` (n_members, len(COUNTED)): what each took; ``measures`` (n_members, n_quantities, 3): the smallest
    and the largest value and the integral of each quantity that was measured.
    """

    recorded: Array
    finals: Array
    ends: Array
    reasons: IntArray
    counts: IntArray
    measures: Array
    events: FoundEvents


def why_alone(request: RunRequest, moved: Collection[str]) -> str:
    """Return why members march one by one, by Python; empty where compiled code marches all.

    Parameters
    ----------
    request : RunRequest
    moved : collection of str
        The parameters in which they differ.

    Returns
    -------
    str
    """
    problem, model, family = request.problem, request.problem.model, family_of(request.method)
    if isinstance(model.rates, FunctionRates) and not is_compiled(model.rates.function.function):
        return "the rates are a Python function"
    if model.functions or any(event.called for event in request.events):
        return "events or derived quantities are Python functions"
    if request.times is None or request.ledger or request.trace:
        return "every step is kept"
    ours = family.scale.__module__.startswith("unhurried_heron.")
    if not ours or (family.implicit and not request.adapts):
        return "what the error scale allows follows from the starting values"
    if isinstance(request.starter, ClosedFormStarter):
        return "the closed forms that start it follow from the starting values"
    if formulas_that_follow(problem.assembled.definitions, moved, model) is None:
        return "a whole indexed state, or the structure of the problem, follows from what changes"
    return ""


def march_members(
    request: RunRequest, parameters: Array, initial: Array, moved: Collection[str], threads: int = 1,
    quantities: Sequence[str] = (),
) -> Members:  # fmt: skip
    """March all members of a sweep in compiled code, where `why_alone` finds nothing against it.

    Parameters
    ----------
    request : RunRequest
        Of the problem whose values change.
    parameters : ndarray, shape (n_members, n_parameters)
        In the order of the model; of those that follow from others any value.
    initial : ndarray, shape (n_members, n_states)
        Likewise.
    moved : collection of str
        The parameters in which the members differ, but for those that follow from them.
    threads : int, optional
        How many march at once, each a share of the members; what a member does is the same whatever their number.
    quantities : sequence of str, optional
        Formulas whose extremes and integrals are taken over the steps.

    Returns
    -------
    Members

    Raises
    ------
    KeyboardInterrupt
        The members that march are left.
    """
    n, count, kind = request.problem.model.layout.size, len(initial), linear_kind(request)
    found = Members(
        recorded=np.full((count, _times(request).size, n), np.nan),
        finals=np.full((count, n), np.nan),
        ends=np.full(count, np.nan),
        reasons=np.full(count, int(Reason.PAUSED)),
        counts=np.zeros((count, N_COUNTED), dtype=np.int64),
        measures=np.full((count, len(quantities), N_RESULTS), np.nan),
        events=_no_events(n),
    )
    bounds = np.linspace(0, count, max(1, min(threads, count)) + 1).astype(int)
    parts = [slice(*pair) for pair in zip(bounds[:-1], bounds[1:], strict=True)]
    # every thread has a march of its own, and all are laid out before the first begins
    stops = stops_for(request, moving_names(request, moved))
    marches = [set_up(request, kind, stops=stops).march for _ in parts]
    sources = marches[0].sources
    switches = RunSwitches() if sources is None else sources.switches
    times = member_times(request, switches, marches[0].initial, parameters, moved)
    found.reasons[times.alone != 0] = int(Reason.NO_ROOM)
    for march in marches:
        march.complete()
        march.let_follow(following_values(request.problem, moved, march.native.context))
        march.let_meet(times.listed, times.bounds)
        if quantities:
            march.keep_steps(_STEPS)
    loops, kept = [], []
    for march, part in zip(marches, parts, strict=True):
        own = found._replace(**{name: getattr(found, name)[part] for name in _BY_MEMBER})
        functions = quantities_in(request.problem, quantities, march.native.context) if quantities else ()
        measured = _measured(march, functions, own.measures)
        kept.append((functions, measured))
        loops.append(_laid_out(march, request, own, times.of(part), parameters[part], initial[part])._replace(
            step_measures=address_table(*measured)))  # fmt: skip
    (kernel,) = load_kernels("march.sweep.march_members")
    with ThreadPoolExecutor(len(parts)) as executor:
        running = [executor.submit(_march, kernel, *pair) for pair in zip(marches, loops, strict=True)]
        try:
            events = [each.result() for each in running]
        except BaseException:
            for loop in loops:
                loop.stop[0] = 1
            raise
    for march in marches:
        march.let_follow(None)
        march.sources = None
        give_back(request, march)
    events = [each._replace(members=each.members + part.start) for each, part in zip(events, parts, strict=True)]
    return found._replace(events=FoundEvents._make(map(np.concatenate, zip(*events, strict=True))))


def _measured(march: March, functions: Sequence[NativeFunction], results: Array) -> StepMeasures:
    """Return what takes the steps of a march into measures.

    Parameters
    ----------
    march : March
    functions : sequence of NativeFunction
    results : ndarray, shape (n_members, n_functions, 3)

    Returns
    -------
    StepMeasures
    """
    system, output = march.system, march.output
    nonnegative = np.asarray(system.nonnegative)[: system.n_nonnegative]
    return laid_out(functions, (output.starts, output.steps, output.coefficients), nonnegative, results)


def _no_events(n: int) -> FoundEvents:
    nothing = np.empty(0, dtype=np.int64)
    return FoundEvents(nothing, nothing, np.empty(0), np.empty((0, n)))


def _march(kernel: Kernel, march: March, sweep: Sweep) -> FoundEvents:
    """March the members of one loop to their endings, with more memory where they need it; return their events.

    Parameters
    ----------
    kernel : Kernel
        The loop.
    march : March
    sweep : Sweep

    Returns
    -------
    FoundEvents
    """
    found, table = [_no_events(march.system.n)], address_table(*sweep)
    while True:
        answer = kernel(table)
        count = int(sweep.n_found[0])
        kept = sweep.event_members, sweep.event_which, sweep.event_times, sweep.event_states
        found.append(FoundEvents._make(each[:count].copy() for each in kept))
        sweep.n_found[0] = 0
        if answer == ROOM:
            march.make_room_again()
            sweep = sweep._replace(data=march.initial_table)
        elif answer == FULL:
            # what one member needs may be more than there is
            sweep = sweep._replace(**_event_buffer(sweep.event_room * (1 if count else 4), march.system.n))
        else:
            break
        table = address_table(*sweep)
    return FoundEvents._make(map(np.concatenate, zip(*found, strict=True)))


def _event_buffer(room: int, n: int) -> dict[str, Any]:
    """Return memory for events, by the fields of `Sweep`."""
    return {
        "event_room": room,
        "event_times": np.empty(room),
        "event_states": np.empty((room, n)),
        "event_members": np.empty(room, dtype=np.int64),
        "event_which": np.empty(room, dtype=np.int64),
    }


def _times(request: RunRequest) -> Array:
    return np.empty(0) if request.times is None else request.times


def _laid_out(
    march: March, request: RunRequest, found: Members, own: MemberTimes, parameters: Array, initial: Array
) -> Sweep:
    """Lay out what the loop works on.

    Parameters
    ----------
    march : March
    request : RunRequest
    found : Members
        To be filled.
    own : MemberTimes
    parameters : ndarray, shape (n_members, n_parameters)
    initial : ndarray, shape (n_members, n_states)

    Returns
    -------
    Sweep
    """
    times, budget, system = _times(request), request.budget, march.system
    data: Any = march.initial_table
    return Sweep(
        initialise=march.initialise.address,
        march=march.kernel.address,
        data=data,
        table=march.table,
        next=np.zeros(1, dtype=np.int64),
        n_members=len(initial),
        parameters=np.ascontiguousarray(parameters, dtype=np.float64),
        initial=np.ascontiguousarray(initial, dtype=np.float64),
        n_own=own.sources.size,
        own_sources=own.sources,
        own_begins=own.begins,
        own_parts=own.parts,
        part_begins=own.part_begins,
        n_narrow=own.part_begins.size,
        parts=system.parts,
        alone=own.alone,
        n_times=times.size,
        at_start=int(times.size > 0 and times[0] == request.problem.interval[0]),
        recorded=found.recorded,
        finals=found.finals,
        ends=found.ends,
        reasons=found.reasons,
        counts=found.counts,
        **_event_buffer(_EVENT_ROOM if request.events else 0, system.n),
        n_found=np.zeros(1, dtype=np.int64),
        step_measures=np.zeros(1, dtype=np.int64),
        n_measures=found.measures[0].size if len(initial) else 0,
        measures=found.measures,
        attempts=budget.steps or _MOST,
        evaluations=budget.rate_evaluations or _UNLIMITED,
        slice=_SLICE,
        stop=np.zeros(1, dtype=np.int64),
    )
