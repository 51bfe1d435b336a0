"""Letting the members of a sweep march: in compiled code, on all processors, where they can; else one by one."""

from __future__ import annotations

import os
import time
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.driver.checked_request import checked_request
from unhurried_heron.driver.member_times import member_values
from unhurried_heron.driver.options import able_with_mass, taken_by
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.kernels.memory.sweep import COUNTED
from unhurried_heron.methods.method import Method
from unhurried_heron.model.action import modes_of
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import RecordedTrajectory
from unhurried_heron.study.attempts import Attempt, attempt_run
from unhurried_heron.sweeps.measures import QUESTIONS, Measure, final_values, of_extent
from unhurried_heron.sweeps.modes import at_times, beside_jumps
from unhurried_heron.sweeps.outcome import Outcome, nothing_yet
from unhurried_heron.sweeps.starts import starts_of

if TYPE_CHECKING:
    from unhurried_heron.driver.member_loops import Members

# Fewer members than this for each thread are not worth laying out a march for it.
_FEW: Final = 16
_REACHED: Final = int(Reason.REACHED_END)
_STOPPED: Final = int(Reason.EVENT)


@dataclass(frozen=True)
class Group:
    """Members that differ in parameters and starting values alone.

    Attributes
    ----------
    problem : Problem
        With the interval of all of them.
    method : str or Method
    options : mapping of str to object
        As of `integrate`, all of them.
    parameters, initial : mapping of str to ndarray, shape (n_members,)
        What differs.
    measures : tuple of Measure
    derived : bool
        Whether derived quantities are recorded, too.
    threads : int or None
        How many march at once; None: as many as there are processors.
    """

    problem: Problem
    method: str | Method
    options: Mapping[str, Any]
    parameters: Mapping[str, Array]
    initial: Mapping[str, Array]
    measures: tuple[Measure, ...]
    derived: bool
    threads: int | None

    @property
    def count(self) -> int:
        """How many members there are."""
        columns = [*self.parameters.values(), *self.initial.values()]
        return len(columns[0]) if columns else 1

    def values_of(self, member: int) -> tuple[dict[str, float], dict[str, float]]:
        """Return the parameters and starting values of a member."""
        return (
            {name: float(each[member]) for name, each in self.parameters.items()},
            {name: float(each[member]) for name, each in self.initial.items()},
        )

    def run(self, member: int, **options: Any) -> Attempt:
        """Run a member by itself."""
        parameters, initial = self.values_of(member)
        usual = {name: value for name, value in self.options.items() if name not in ("progress", "on_interrupt")}
        return attempt_run(self.problem, self.method, parameters=parameters, initial=initial, **{**usual, **options})


def march(group: Group) -> Outcome:
    """Let the members of a group march.

    Parameters
    ----------
    group : Group

    Returns
    -------
    Outcome
    """
    # what compiles is loaded only when something runs
    from unhurried_heron.driver.members import march_members

    parameters, initial = group.values_of(0)
    with quietly():
        base = group.problem.with_(parameters=parameters, initial=initial)
    checked = checked_request(base, group.method, time.perf_counter(), **group.options)
    # all members march as one would
    method = able_with_mass(checked.method, base, checked.relative)
    request = replace(checked, method=method, problem=taken_by(method, base))
    model, times = base.model, _times(request)
    columns = len(base.states) + (len(base.derived) if group.derived else 0)
    found = nothing_yet(group.count, times.size, columns, len(base.states), len(group.measures))
    why = _why_alone(group, request)
    found.alone[:] = why
    events: list[tuple[Any, Any, Any, Any]] = []
    left = np.arange(group.count)
    quantities = tuple(dict.fromkeys(
        about for measure in group.measures for question, about in measure.questions if QUESTIONS[question].of_steps
    ))  # fmt: skip
    starts: Array | None = None
    if not why:
        rows = np.tile([base.parameters[name] for name in model.parameters], (group.count, 1))
        starts = starts_of(base, group.parameters, group.initial, rows)
        why = "" if starts is not None else "starting values follow from constraints, and not all have one solution"
        found.alone[:] = why
    if starts is not None:
        threads = group.threads or min(os.cpu_count() or 1, 1 + group.count // _FEW)
        members = march_members(request, rows, starts, group.parameters, threads, quantities)
        done, own = _take(group, request, members, found, quantities, rows), members.events
        kept = done[own.members]
        events.append((own.members[kept], own.which[kept], own.times[kept], own.states[kept]))
        left = np.flatnonzero(~done)
        found.alone[left] = "what happens in it takes a run by itself"
    for member in left.tolist():
        events += _take_run(group, member, found)
    return found.with_events(events)


def _times(request: RunRequest) -> Array:
    return np.empty(0) if request.times is None else request.times


def _why_alone(group: Group, request: RunRequest) -> str:
    """Return why members march by themselves; empty where compiled code marches all."""
    from unhurried_heron.driver.members import why_alone

    why = why_alone(request, group.parameters)
    if why:
        return why
    if request.budget.seconds is not None:
        return "a budget of seconds is for one run"
    # what compiles is loaded only when something runs
    from unhurried_heron.driver.step_measures import is_plain

    problem, modes = request.problem, modes_of(request.problem.model, request.events, request.problem.units)
    if any(measure.function is not None for measure in group.measures):
        return "a measure is a Python function"
    taken = [
        about for measure in group.measures for question, about in measure.questions if QUESTIONS[question].of_steps
    ]
    # what steps are asked follows from parameters as they are where the march stands
    if not all(is_plain(problem, each, modes) for each in taken):
        return "a quantity of steps follows from parameters that events change"
    quantities = [*(problem.derived if group.derived else ()), *(
        about for measure in group.measures for question, about in measure.questions if not QUESTIONS[question].of_event
    )]  # fmt: skip
    if not all(is_plain(problem, each, ()) for each in quantities):
        return "quantities are Python functions, or complex"
    return ""


def _take(
    group: Group, request: RunRequest, members: Members, found: Outcome, quantities: tuple[str, ...], rows: Array
) -> Any:
    """Take what compiled code left of members that came to their ends.

    Parameters
    ----------
    group : Group
    request : RunRequest
    members : Members
    found : Outcome
        Is filled.
    quantities : tuple of str
        Which were measured.
    rows : ndarray, shape (n_members, n_parameters)
        Parameters; of those that follow from others any values.

    Returns
    -------
    ndarray of bool, shape (n_members,)
        Which they were.
    """
    problem, n = request.problem, len(request.problem.states)
    done = (members.reasons == _REACHED) | (members.reasons == _STOPPED)
    # where all came to their ends, nothing needs to be picked out
    own: Any = slice(None) if done.all() else done
    found.recorded[own, :, :n] = members.recorded[own]
    found.finals[own], found.ends[own] = members.finals[own], members.ends[own]
    found.counts[own] = members.counts[own]
    found.endings[own] = EndingReason.END.value
    found.endings[members.reasons == _STOPPED] = EndingReason.EVENT.value
    changing = _changing(group, problem, rows[own])
    if group.derived and problem.derived and done.any():
        times = beside_jumps(request, members, done)
        then = at_times(request, members, done, changing, np.tile(_times(request), (int(done.sum()), 1)))
        found.recorded[own, :, n:] = _derived(problem, times, members.recorded[done], then)
    last = at_times(request, members, done, changing, members.ends[done][:, None]) if group.measures else changing
    extents = _extents(members, done, quantities, abs(members.ends[done] - problem.interval[0]))
    for k, measure in enumerate(group.measures):
        answers = [extents[question] if question in extents else
                   _answer(problem, members, done, question, last) for question in measure.questions]  # fmt: skip
        values = {name: problem.parameters[name] for name in problem.model.parameters}
        values |= {problem.model.parameters[index]: changing[1][:, j] for j, index in enumerate(changing[0])}
        found.measures[own, k] = measure.put_together(answers, values)
    return done


def _extents(members: Members, done: Any, quantities: tuple[str, ...], times: Array) -> dict[tuple[str, str], Array]:
    """Return the answers to questions about steps.

    Parameters
    ----------
    members : Members
    done : ndarray of bool, shape (n_members,)
    quantities : tuple of str
    times : ndarray, shape (n_done,)
        How long each member marched.

    Returns
    -------
    dict of (str, str) to ndarray, shape (n_done,)
    """
    from unhurried_heron.driver.step_measures import Extent, extents_of

    found, answers = extents_of(members.measures[done]), dict[tuple[str, str], Array]()
    for k, quantity in enumerate(quantities):
        extent = Extent(*(each[:, k] for each in found))
        answers |= {(question, quantity): answer for question, answer in of_extent(extent, times).items()}
    return answers


def _changing(group: Group, problem: Problem, rows: Array) -> tuple[IntArray, Array]:
    """Return the indices of parameters that differ between members, and their values.

    Parameters
    ----------
    group : Group
    problem : Problem
    rows : ndarray, shape (n_members, n_parameters)

    Returns
    -------
    (ndarray of int64, ndarray of shape (n_members, n_changing))
    """
    model, values = problem.model, member_values(problem, rows, group.parameters)
    names = [name for name in model.parameters if np.ndim(values[name])]
    indices = np.array([model.parameters.index(name) for name in names], dtype=np.int64)
    return indices, np.column_stack([values[name] for name in names]) if names else np.empty((len(rows), 0))


def _derived(problem: Problem, times: Array, recorded: Array, changing: tuple[IntArray, Array]) -> Array:
    """Return derived quantities of members at recorded times.

    Parameters
    ----------
    problem : Problem
    times : ndarray, shape (n_members, n_times)
    recorded : ndarray, shape (n_members, n_times, n_states)
    changing : (ndarray of int64, ndarray of shape (n_members, n_times, n_changing))

    Returns
    -------
    ndarray, shape (n_members, n_times, n_derived)
    """
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_derived

    count, size = recorded.shape[:2]
    values = changing[0], changing[1].reshape(count * size, -1)
    flat = recorded.reshape(count * size, recorded.shape[2])
    found: Array = evaluate_rows(native_derived(problem), times.ravel(), flat, values)
    return found.reshape(count, size, -1)


def _answer(
    problem: Problem, members: Members, done: Any, question: tuple[str, str], changing: tuple[IntArray, Array]
) -> Array:
    """Return the answers of members to a question that takes no steps.

    Parameters
    ----------
    problem : Problem
    members : Members
    done : ndarray of bool, shape (n_members,)
    question : (str, str)
        What is asked, and about what.
    changing : (ndarray of int64, ndarray of shape (n_done, 1, n_changing))
        Parameters at the end.

    Returns
    -------
    ndarray, shape (n_done,)
    """
    kind, about = question
    if kind == "final":
        values = changing[0], changing[1][:, 0, :]
        return final_values(problem, about, members.ends[done], members.finals[done], values)
    index = [event.name for event in problem.events].index(about)
    own = members.events.which == index
    whose: Any = members.events.members[own]
    times: Any = members.events.times[own]
    counts = np.bincount(whose, minlength=done.size)
    if kind == "count":
        many: Array = counts[done].astype(np.float64)
        return many
    first = np.searchsorted(whose, np.arange(done.size))
    last = first + counts - 1
    found, enough = np.full(done.size, np.nan), counts > int(kind == "period")
    if kind == "time_of":
        found[enough] = times[first[enough]]
    else:
        found[enough] = np.abs(times[last[enough]] - times[first[enough]]) / (counts[enough] - 1)
    answers: Array = found[done]
    return answers


def _take_run(group: Group, member: int, found: Outcome) -> list[tuple[Any, Any, Any, Any]]:
    """Run a member by itself and take what it left.

    Parameters
    ----------
    group : Group
    member : int
    found : Outcome
        To be filled.

    Returns
    -------
    list of (ndarray, ndarray, ndarray, ndarray)
        Its events.
    """
    attempt = group.run(member)
    run = attempt.run
    if run is None:
        found.endings[member], found.whys[member] = "error", attempt.why
        return []
    _take_values(group, run, found, member)
    if attempt.done and any(measure.of_steps for measure in group.measures):
        run = group.run(member, record="steps").run or run
    if attempt.done:
        found.finals[member] = run.data.trajectory.end_state
        found.measures[member] = [measure.of(run) for measure in group.measures]
    else:
        found.whys[member] = attempt.why
    log = run.data.event_log
    return [
        (
            np.full(log.times.size, member),
            log.which,
            log.times,
            log.before.reshape(log.times.size, -1 if log.times.size else found.finals.shape[1]),
        )
    ]


def _take_values(group: Group, run: Run, found: Outcome, member: int) -> None:
    """Take what a run recorded.

    Parameters
    ----------
    group : Group
    run : Run
    found : Outcome
        To be filled.
    member : int
    """
    n, ending = len(run.problem.states), run.ending
    count = run.data.trajectory.wanted if isinstance(run.data.trajectory, RecordedTrajectory) else 0
    count = run.times.size if count < 0 else count
    found.recorded[member, :count, :n] = run.states[:count]
    if group.derived:
        for k, name in enumerate(run.problem.derived):
            found.recorded[member, :count, n + k] = run[name][:count]
    found.ends[member], found.endings[member] = ending.time, ending.reason.value
    found.counts[member] = [getattr(run.tally, name) for name in COUNTED]
