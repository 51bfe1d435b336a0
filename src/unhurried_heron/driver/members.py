"""Members of a sweep: one march for all of them, which compiled code begins anew for each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.following_values import following_values
from unhurried_heron.driver.layout_pool import give_back
from unhurried_heron.driver.lockstep import march_in_lockstep, takes_lockstep
from unhurried_heron.driver.member_loops import BY_MEMBER, FoundEvents, Members, Worker, no_events, shared
from unhurried_heron.driver.member_times import member_times, moving_names, stops_for
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.setup import linear_kind, set_up
from unhurried_heron.driver.step_measures import quantities_in
from unhurried_heron.families.closed_form_starter import ClosedFormStarter
from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.kernels.memory.sweep import COUNTED, N_COUNTED, N_RESULTS
from unhurried_heron.model.functions import is_compiled
from unhurried_heron.model.rates import FunctionRates
from unhurried_heron.model.time_switches import RunSwitches
from unhurried_heron.problem.following import formulas_that_follow, starts_follow, starts_of_members

# Parts that each thread takes, one after another.
_PARTS: Final = 4
# Steps between two looks at what is measured: few enough to stay in the processor's cache.
_STEPS: Final = 32


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
    if starts_follow(problem.assembled.definitions, model) and not starts_of_members(problem, moved):
        return "starting values follow from constraints"
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
    if len(initial) > 1 and not quantities and takes_lockstep(request, moved, len(initial)):
        return _in_lockstep(request, parameters, initial, moved, threads)
    return _one_after_the_other(request, parameters, initial, moved, threads, quantities)


def _one_after_the_other(
    request: RunRequest, parameters: Array, initial: Array, moved: Collection[str], threads: int,
    quantities: Sequence[str] = (),
) -> Members:  # fmt: skip
    """March members, each thread its share of them.

    Parameters
    ----------
    request : RunRequest
    parameters : ndarray, shape (n_members, n_parameters)
    initial : ndarray, shape (n_members, n_states)
    moved : collection of str
    threads : int
    quantities : sequence of str, optional

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
        recorded=np.full((count, 0 if request.times is None else request.times.size, n), np.nan),
        finals=np.full((count, n), np.nan),
        ends=np.full(count, np.nan),
        reasons=np.full(count, int(Reason.PAUSED)),
        counts=np.zeros((count, N_COUNTED), dtype=np.int64),
        measures=np.full((count, len(quantities), N_RESULTS), np.nan),
        events=no_events(n, 0),
    )
    threads = max(1, min(threads, count))
    bounds = np.linspace(0, count, min(count, threads * _PARTS if threads > 1 else 1) + 1).astype(int)
    parts = [slice(*pair) for pair in zip(bounds[:-1], bounds[1:], strict=True)]
    # every thread has a march of its own, and all are laid out before the first begins
    stops = stops_for(request, moving_names(request, moved))
    marches = [set_up(request, kind, stops=stops).march for _ in range(threads)]
    sources = marches[0].sources
    switches = RunSwitches() if sources is None else sources.switches
    times = member_times(request, switches, marches[0].initial, parameters, moved)
    found.reasons[times.alone != 0] = int(Reason.NO_ROOM)
    workers = []
    for march in marches:
        march.complete()
        march.let_follow(following_values(request.problem, moved, march.native.context))
        march.let_meet(times.listed, times.bounds)
        if quantities:
            march.keep_steps(_STEPS)
        functions = quantities_in(request.problem, quantities, march.native.context) if quantities else ()
        workers.append(Worker(march, request, functions))
    given = found, times, parameters, initial
    events = shared(workers, parts, lambda worker, part: worker.march_part(*given, part))
    for march in marches:
        march.let_follow(None)
        march.sources = None
        give_back(request, march)
    events = [each._replace(members=each.members + part.start) for each, part in zip(events, parts, strict=True)]
    return found._replace(events=FoundEvents._make(map(np.concatenate, zip(*events, strict=True))))


def _in_lockstep(
    request: RunRequest, parameters: Array, initial: Array, moved: Collection[str], threads: int
) -> Members:
    """March members that take the same steps, many at once; what goes wrong in a group marches one by one.

    Parameters
    ----------
    request : RunRequest
    parameters : ndarray, shape (n_members, n_parameters)
    initial : ndarray, shape (n_members, n_states)
    moved : collection of str
    threads : int

    Returns
    -------
    Members
    """
    # what the first takes, all take
    first = march_members(request, parameters[:1], initial[:1], moved)
    count = len(initial)
    found = first._replace(**{name: np.repeat(getattr(first, name), count, axis=0) for name in BY_MEMBER})  # type: ignore[arg-type]  # arrays alone
    steps = int(first.counts[0, COUNTED.index("accepted")])
    if first.reasons[0] == Reason.REACHED_END:
        found.finals[1:] = march_in_lockstep(request, parameters, initial, moved, steps, threads)[1:]
    else:
        found.finals[1:] = np.nan
    for k, time in enumerate(() if request.times is None else request.times.tolist()):
        found.recorded[:, k] = initial if time == request.problem.interval[0] else found.finals
    left = np.flatnonzero(~np.isfinite(found.finals).all(axis=1))
    if left.size:
        own = _one_after_the_other(request, parameters[left], initial[left], moved, threads)
        for name in BY_MEMBER:
            getattr(found, name)[left] = getattr(own, name)
    return found
