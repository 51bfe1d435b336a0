"""What `integrate` is asked, checked and put together: a request for a run."""

from __future__ import annotations

import time
from contextlib import suppress
from typing import Any, Final

from unhurried_heron.deadline import OutOfTimeError, done_within
from unhurried_heron.driver.budget import budget_of
from unhurried_heron.driver.options import (
    able_with_mass,
    check_fits,
    refuse_control,
    refuse_unfit,
    step_for_count,
    steps_wanted,
    taken_by,
)
from unhurried_heron.driver.recorded_times import record_times
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.starter import started_by
from unhurried_heron.driver.tolerances import tolerances
from unhurried_heron.families.controller import controller_for
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.input_field import as_tuple
from unhurried_heron.input.rules import NOTHING, ON_INTERRUPT, TRUTH
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method, in_use
from unhurried_heron.problem.consistency import refuse_higher_index
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.watched_events import watched_events

_MAYBE: Final = NOTHING | TRUTH
# Lists of events, given to runs, that are remembered as checked.
_MAX_CHECKED = 16


def checked_request(problem: Problem, method: str | Method, begun: float, **options: Any) -> RunRequest:
    """Return the request for a run.

    Parameters
    ----------
    problem : Problem
    method : str or Method
    begun : float
        When the call began, by the clock of the budget.
    **options : object
        As of `integrate`, all of them.

    Returns
    -------
    RunRequest

    Raises
    ------
    MethodError, OptionError
        The method is unknown or unfit, or an option is unusable.
    OpenParameterError
        Parameters are still open.
    """
    chosen = find_method(method)
    rtol, atol, step, count = (options[name] for name in ("rtol", "atol", "step", "count"))
    check_fits(chosen, step if count is None else 1.0, rtol, atol)
    controller = controller_for(options["step_control"])
    ON_INTERRUPT(options["on_interrupt"], "on_interrupt")
    for name in ("local_extrapolation", "ledger", "progress"):
        _MAYBE(options[name], name)
    TRUTH(options["switches"], "switches")
    TRUTH(options["trace"], "trace")
    extra, limits = as_tuple(options["events"], "events"), budget_of(options["budget"])
    problem.refuse_open()
    step = step_for_count(problem, step, count)
    relative, absolute = tolerances(problem, rtol, atol)
    named = ("linear", "preconditioner", "step_control", "local_extrapolation")
    chosen = able_with_mass(chosen, problem, relative, free=all(options[name] is None for name in named))
    refuse_higher_index(problem)
    taken = taken_by(chosen, problem)
    refuse_unfit(chosen, taken)
    fixed, first, longest = steps_wanted(
        problem, step=step, starting_step=options["starting_step"], largest_step=options["largest_step"]
    )
    acting = in_use(chosen, fixed=fixed is not None, local_extrapolation=options["local_extrapolation"])
    refuse_control(acting, options["step_control"], fixed=fixed is not None)
    times = record_times(problem, options["record"])
    watched = with_events(problem.events, extra)
    if extra:
        # A run whose time is used up here ends before its first step, as one does that is laid out too late.
        with suppress(OutOfTimeError), done_within(limits.seconds, time.perf_counter() - begun):
            _check_once(problem, watched)
    return RunRequest(
        problem=problem,
        method=acting,
        events=watched,
        relative=relative,
        absolute=absolute,
        fixed=fixed,
        first=first,
        longest=longest,
        record=options["record"],
        times=times,
        ledger=times is None if options["ledger"] is None else options["ledger"],
        held=options["switches"],
        budget=limits,
        linear=options["linear"],
        preconditioner=options["preconditioner"],
        local_extrapolation=options["local_extrapolation"],
        starter=started_by(taken, acting, options["starter"]),
        controller=controller,
        trace=options["trace"],
    )


def _check_once(problem: Problem, events: tuple[Any, ...]) -> None:
    """Check events as a problem's own were checked; a loop over short runs gives the same ones again and again."""
    checked, key = problem.checked, tuple(map(id, events))
    if key not in checked:
        watched_events(events, problem.assembled, ErrorCollector())
        if len(checked) >= _MAX_CHECKED:
            checked.clear()
        # Objects that the key names by their identity are kept alive with it.
        checked[key] = events


def with_events(own: tuple[Event, ...], extra: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return a problem's events and others, of which each takes the place of one that has its name."""
    events: list[Any] = list(own)
    indices = {event.name: index for index, event in enumerate(own)}
    for event in extra:
        index = indices.pop(event.name, None) if isinstance(event, Event) else None
        if index is None:
            events.append(event)
        else:
            events[index] = event
    return tuple(events)
