"""A run carried out, and one that goes on where another ended."""

from __future__ import annotations

import functools
from contextlib import suppress
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.deadline import OutOfTimeError, done_within
from unhurried_heron.driver.concatenation import concatenated, time_reversed
from unhurried_heron.driver.event_continuation import (
    continued_event,
    event_counts,
    events_at_end,
    final_modes,
    reversed_event,
)
from unhurried_heron.driver.handing_over import handed_over
from unhurried_heron.driver.options import able_with_mass, hands_over, taken_by
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import ConstraintError, RunError
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run


class _Tools(NamedTuple):
    """What a run needs of modules that compile, which are loaded only when something runs."""

    build_run: Any
    limit_of_part: Any
    run_without_march: Any
    with_ending_of_whole: Any
    linear_kind: Any
    set_up: Any
    Part: Any
    continue_sliding: Any
    ProgressBar: Any


@functools.cache
def _tools() -> _Tools:
    from unhurried_heron.driver.build_run import build_run, limit_of_part, run_without_march, with_ending_of_whole
    from unhurried_heron.driver.setup import linear_kind, set_up
    from unhurried_heron.driver.slide import Part
    from unhurried_heron.driver.sliding import continue_sliding
    from unhurried_heron.text.progress import ProgressBar

    return _Tools(build_run, limit_of_part, run_without_march, with_ending_of_whole, linear_kind, set_up, Part,
                  continue_sliding, ProgressBar)  # fmt: skip


def execute(request: RunRequest, progress: bool | None, on_interrupt: str, spent: float = 0.0) -> Run:
    """Lay out a march, drive it and return its run; along a switch to which both sides lead back it slides.

    Parameters
    ----------
    request : RunRequest
    progress : bool or None
        Whether a progress bar is shown; None: in a terminal only.
    on_interrupt : str
        "raise" or "return": what Ctrl-C does.
    spent : float, optional
        Seconds that reading the request took, which count to the budget, too.

    Returns
    -------
    Run

    Raises
    ------
    KeyboardInterrupt
    Exception
        Whatever the user's functions raise.
    """
    tools = _tools()
    # what a problem is put in for its method is no concern of the run
    given = request.problem
    if request.sink is not None:
        # what is on disk is of one march
        request = replace(request, method=able_with_mass(request.method, given, request.relative))
    problem = taken_by(request.method, given)
    if problem is not given:
        request = replace(request, problem=problem, hands_over=hands_over(request.method, given))

    def once(request: RunRequest) -> Any:
        """Return the run of a single march."""
        further = functools.partial(extended, request, progress, on_interrupt)
        try:
            kind = tools.linear_kind(request)
            driver = tools.set_up(request, kind)
        except OutOfTimeError:
            return tools.Part(tools.run_without_march(request, further), None, 0, None, {}, {}, False)
        bar = tools.ProgressBar(progress, request.problem.title or request.method.name, *request.problem.interval)
        try:
            reason = driver.drive(bar)
        finally:
            bar.close()
        # Ctrl-C is raised even if the run was just finished: a loop over short runs must not swallow it.
        if driver.ctrl_c and not driver.call_host() and on_interrupt == "raise":
            raise KeyboardInterrupt
        in_parts = driver.slide is not None or request.continues
        roots, widths = (driver.root_values(), driver.widths()) if in_parts else ({}, {})
        run = tools.build_run(request, driver, reason, kind, further)
        limit = tools.limit_of_part(request, driver)
        stopped = driver.march.last("stopped_by")
        return tools.Part(run, driver.slide, stopped, limit, roots, widths, driver.hands_over)

    with done_within(request.budget.seconds, spent):
        first = once(request)
        whole: Run = first.run
        if first.slide is not None:
            whole, limit = tools.continue_sliding(request, first, first.slide, once)
            whole = tools.with_ending_of_whole(request, whole, limit)
        if first.hands_over:
            whole, limit = handed_over(request, given, first, once)
            whole = tools.with_ending_of_whole(request, whole, limit)
        return whole if problem is given else replace(whole, problem=given)


def extended(request: RunRequest, progress: bool | None, on_interrupt: str, run: Run, to: float) -> Run:
    """Return a run that goes on to a time beyond its end, or, backwards, before its start.

    Parameters
    ----------
    request : RunRequest
    progress : bool or None
        Whether a progress bar is shown; None: in a terminal only.
    on_interrupt : str
        "raise" or "return": what Ctrl-C does.
    run : Run
    to : float
        The new end, or a time before the start.

    Returns
    -------
    Run

    Raises
    ------
    RunError
        Events that act cannot be followed backwards.
    """
    trajectory: Any = run.data.trajectory
    start = float(trajectory.times[0])
    backwards = (to - trajectory.end_time) * (trajectory.end_time - start) < 0.0
    begin = start if backwards else trajectory.end_time
    if backwards and any(event.then is not None for event in run.data.events):
        raise RunError("what events changed cannot be taken back", name="to", location="run.extend",
                       expected="a time after the end, where events change the model", given=f"{to:.12g}")  # fmt: skip
    problem = _problem_from(run, trajectory.states[0] if backwards else trajectory.end_state, (begin, to))
    seen = event_counts(run)
    events = tuple(
        reversed_event(e) if backwards else continued_event(e, seen[k], run) for k, e in enumerate(run.data.events)
    )
    met = () if backwards else events_at_end(run)
    more = execute(replace(request, problem=problem, events=events, met=met), progress, on_interrupt)
    if backwards:
        whole = _problem_from(run, more.data.trajectory.end_state, (float(to), run.problem.interval[1]))
        return concatenated(run, whole, (time_reversed(more, start, trajectory.states[0]), run), run.ending)
    whole = run.problem.with_(interval=(start, more.problem.interval[1]))
    selection = f"{run.method_selection} Then it {more.method_selection}" if run.method_selection else ""
    return concatenated(run, whole, (run, more), more.ending, method_selection=selection)


def _problem_from(run: Run, state: Any, interval: tuple[float, float]) -> Problem:
    """Return the problem from another state on, and with the parameters that events left.

    Parameters
    ----------
    run : Run
    state : ndarray, shape (n_states,)
    interval : (float, float)
        From when to when.

    Returns
    -------
    Problem
    """
    with quietly():
        # The warning on closed forms that begin elsewhere is meant for users.
        values = dict(zip(run.problem.states, np.asarray(state).tolist(), strict=True))
        with suppress(ConstraintError):
            return run.problem.with_(initial=values, interval=interval, parameters=final_modes(run))
        # a march meets constraints within its tolerance
        return beginning_near(run.problem, np.asarray(state), final_modes(run), interval=interval)
