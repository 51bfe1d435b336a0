"""Requests for what goes on where a part of a run ended."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.event_continuation import continued_event, event_counts, events_at_end, final_modes
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.formulas.layout import Values
from unhurried_heron.model.model import Model
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run


def remaining_budget(budget: Budget, part: Run) -> Budget:
    """Return what a part of a run leaves of the budget."""
    tally = part.tally
    used = {"steps": tally.accepted + tally.refused, "rate_evaluations": tally.rate_evaluations}
    # The seconds of a budget are those of the whole call.
    rest = {name: max(getattr(budget, name) - count, 1) for name, count in used.items() if getattr(budget, name)}
    return replace(budget, **rest)


def continuation_request(request: RunRequest, run: Run, model: Model, events: tuple[Any, ...]) -> RunRequest:
    """Ask for what goes on where a run ended.

    Parameters
    ----------
    request : RunRequest
    run : Run
    model : Model
    events : tuple of Event

    Returns
    -------
    RunRequest
    """
    problem, trajectory = request.problem, run.data.trajectory
    counts = [*event_counts(run), *[0] * len(events)]
    met = tuple(continued_event(event, counts[k], run) for k, event in enumerate(events))
    assembled = replace(
        problem.assembled,
        model=model,
        values={**problem.assembled.values, **final_modes(run)},
        initial=Values(problem.model.layout, trajectory.end_state),
        interval=(trajectory.end_time, problem.interval[1]),
    )
    times = request.times
    if times is not None:
        sign = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
        times = times[sign * times > sign * trajectory.end_time]
    begun = Problem(problem.user_input, assembled)
    return replace(request, problem=begun, events=met, times=times, met=events_at_end(run), first=None,
                   continues=True)  # fmt: skip
