"""From a march that has ended to the `Run` that the user gets."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from operator import attrgetter
from typing import Any, Final

import numpy as np

from unhurried_heron.deadline import seconds_allowed
from unhurried_heron.driver.diagnostics import quiet_states, stability_limit
from unhurried_heron.driver.drive import Driver
from unhurried_heron.driver.ending_causes import cause_of, fastest_state
from unhurried_heron.driver.endings import ending_of
from unhurried_heron.driver.layout_pool import give_back
from unhurried_heron.driver.march import March
from unhurried_heron.driver.recorder import recorded
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.families.linear_choice import in_words
from unhurried_heron.families.registry import family_of
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.kernels.memory.control import LEDGER, Reason
from unhurried_heron.kernels.stiffness_switching_work import StiffnessSwitchingWork
from unhurried_heron.model.model import Model
from unhurried_heron.model.time_derivatives import can_break
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Tally
from unhurried_heron.run.event_log import EMPTY_EVENT_LOG, EventLog
from unhurried_heron.run.run import Run
from unhurried_heron.run.run_data import RunData
from unhurried_heron.run.trace import Trace
from unhurried_heron.run.trajectory import NO_JUMPS, Jumps, StepTrajectory, Trajectory
from unhurried_heron.text import endings as text
from unhurried_heron.text.ending_facts import Leaps, QuietStates, StabilityLimit, Stop

# Numbers that are kept twice at known jumps, before and after.
_MAX_NUMBERS: Final = 10_000_000
_BY_EVENT: Final = (Reason.EVENT, Reason.ACCUMULATING, Reason.ACTION_FAILED)
_FAILURES: Final = (Reason.NOT_FINITE, Reason.STEP_TOO_SMALL, Reason.NEWTON_FAILED, Reason.POLE)
_COUNTED = [name for name in Tally.__dataclass_fields__ if name != "seconds"]
_counts = attrgetter(*_COUNTED)


def with_ending_of_whole(request: RunRequest, run: Run, limit: StabilityLimit | None) -> Run:
    """Return a run of several parts with what is to be said of the whole of it.

    Parameters
    ----------
    request : RunRequest
    run : Run
    limit : StabilityLimit or None
        Of the last part whose steps were limited by stability.

    Returns
    -------
    Run
    """
    ending = run.ending
    if not ending.as_requested:
        return run
    sentences = [] if ending.limited_until is not None else [text.stability_limit(limit)]
    sentences.append(ending.advice)
    if request.adapts:
        sentences.append(text.noise(quiet_states(request.problem, run.data.trajectory, request.absolute)))
    until = ending.limited_until if limit is None or ending.limited_until is not None else limit.until
    return replace(run, ending=replace(ending, advice=" ".join(filter(None, sentences)), limited_until=until))


def build_run(
    request: RunRequest, driver: Driver, reason: Reason, kind: str, further: Callable[[Run, float], Run]
) -> Run:
    """Return the run of a march that has ended.

    Parameters
    ----------
    request : RunRequest
    driver : Driver
    reason : Reason
    kind : str
        Of linear algebra.
    further : callable
        What goes on with the run to another time.

    Returns
    -------
    Run
    """
    march, problem = driver.march, request.problem
    event_log = driver.event_log()
    trajectory = _with_known_jumps(driver.trajectory(event_log), march, problem)
    # Examining the end of the run may call the rates, and these calls count.
    left = march.left()
    ending = ending_of(_stop(request, driver, reason, trajectory, event_log, left), problem, request.method)
    if march.last("rate_evaluations") != left.rate_evaluations:
        left = march.left()
    counts = dict(zip(_COUNTED, _counts(left), strict=True))
    options = {**request.options}
    if family_of(request.method).implicit:
        options |= in_words(kind, request.preconditioner, march.last("stood_in"))
    elif march.linear_kind and counts["changes"]:
        options |= in_words(march.linear_kind, request.preconditioner, march.last("stood_in"))
    members = march.pair or family_of(request.method).members(request.method, request.relative)
    selection = _selection(tuple(each.name for each in members), driver) if members else ""
    if reason in (Reason.REACHED_END, Reason.EVENT) and not request.trace:
        give_back(request, march)
    return Run(
        problem=problem,
        method=request.method.name,
        options=options,
        ending=ending,
        tally=Tally(**counts, seconds=driver.seconds),
        method_selection=selection,
        data=RunData(
            trajectory=trajectory,
            events=request.events,
            event_log=event_log,
            ledger=driver.ledger(),
            switch_log=driver.crossed(),
            methods=members or (request.method,),
            continuation=further,
            trace=Trace(*march.tracer.arrays()) if march.tracer else None,
        ),
    )


def limit_of_part(request: RunRequest, driver: Driver) -> StabilityLimit | None:
    """Return where stability limited the steps of a part of a run, which is judged as a whole later."""
    if not request.adapts or (driver.slide is None and not request.continues):
        return None
    return stability_limit(driver.march, request.method, driver.looks)


def _with_known_jumps(trajectory: Trajectory, march: March, problem: Problem) -> Trajectory:
    """Return a trajectory with two rows at the known times at which derived quantities may jump.

    Parameters
    ----------
    trajectory : Trajectory
    march : March
    problem : Problem

    Returns
    -------
    Trajectory
    """
    switches = march.native.beyond.switches if march.native.beyond and march.parts.cross else ()
    jumping = [k for k, each in enumerate(switches) if each.kind == "jump" and each.times is not None]
    if not jumping or not isinstance(trajectory, StepTrajectory) or not trajectory.starts.size:
        return trajectory
    model = problem.model
    if not model.remembered(("derived quantities jump",), lambda: _may_jump(model)):
        return trajectory
    start, end = float(trajectory.starts[0]), trajectory.end_time
    known = march.known_times(march.crossing.n_events + np.array(jumping))
    times = np.setdiff1d(known, trajectory.jumps.times)
    times = times[(times > min(start, end)) & (times < max(start, end))]
    if not 0 < times.size * trajectory.end_state.size <= _MAX_NUMBERS:
        return trajectory
    before = trajectory.at(times)
    if trajectory.jumps.times.size:
        times, before = np.append(trajectory.jumps.times, times), np.vstack([trajectory.jumps.before, before])
    order = np.argsort(times if end > start else -times, kind="stable")
    return replace(trajectory, jumps=Jumps(times[order], before[order]))


def _may_jump(model: Model) -> bool:
    return any(can_break(node) or names_in(node) & measured_names(model.inputs) for node in model.formulas.values())


def run_without_march(request: RunRequest, further: Callable[[Run, float], Run]) -> Run:
    """Return the run of a march whose budget was used up before it was laid out: its start."""
    problem, times = request.problem, request.times
    start, state = problem.interval[0], problem.start.copy()
    stop = Stop(Reason.PAUSED, start, budget=seconds_allowed())
    nothing: Trajectory = StepTrajectory((), start, state, nonnegative=request.nonnegative)
    if times is not None:
        nothing = recorded(times, np.empty((0, state.size)), 0, start, state, NO_JUMPS)
    return Run(
        problem=problem,
        method=request.method.name,
        options={**request.options},
        ending=ending_of(stop, problem, request.method),
        tally=Tally(**dict.fromkeys(_COUNTED, 0), seconds=0.0),
        data=RunData(
            trajectory=nothing,
            events=request.events,
            event_log=EMPTY_EVENT_LOG,
            ledger=np.empty(0, dtype=LEDGER) if request.ledger else None,
            methods=(request.method,),
            continuation=further,
        ),
    )


def _noise(request: RunRequest, driver: Driver, trajectory: Trajectory, left: Any) -> QuietStates | Leaps | None:
    """Return what is doubtful about the size of states, or of steps; None of a part of a run, or without steps.

    Parameters
    ----------
    request : RunRequest
    driver : Driver
    trajectory : Trajectory
    left : namedtuple
        What the march left in its control record.

    Returns
    -------
    QuietStates | Leaps or None
    """
    if request.continues or driver.slide is not None or not left.accepted:
        return None
    if request.adapts:
        return quiet_states(request.problem, trajectory, request.absolute)
    count = left.leaps
    return Leaps(count, left.leap_time) if count else None


def _stop(
    request: RunRequest,
    driver: Driver,
    reason: Reason,
    trajectory: Trajectory,
    event_log: EventLog,
    left: Any,
) -> Stop:
    """Return why and where a march stopped, as facts.

    Parameters
    ----------
    request : RunRequest
    driver : Driver
    reason : Reason
    trajectory : Trajectory
    event_log : EventLog
    left : namedtuple
        What the march left in its control record.

    Returns
    -------
    Stop
    """
    bad, by = left.bad_component, left.stopped_by
    stopped = request.events[by].name if by < len(request.events) else ""
    return Stop(
        reason=reason,
        time=left.time,
        steps=left.accepted,
        fixed=not request.adapts,
        interrupted=driver.interrupted,
        budget=driver.exhausted,
        event=stopped if stopped and reason in _BY_EVENT else "",
        switch=_endless_switch(driver, stopped) if reason is Reason.SWITCHING else "",
        towards=event_log.accumulates_at(by) if reason is Reason.ACCUMULATING else math.nan,
        component=_state_or_parameter(request, bad),
        bad_time=left.bad_time,
        cause=cause_of(request.problem, driver.march, trajectory) if reason in _FAILURES else None,
        fastest=fastest_state(request.problem, driver.march) if reason is Reason.COLLAPSED else "",
        left=driver.left,
        held=request.held,
        limit=stability_limit(driver.march, request.method, driver.looks) if request.adapts else None,
        noise=_noise(request, driver, trajectory, left),
    )


def _state_or_parameter(request: RunRequest, index: int) -> str:
    """Return the name of a state, or of a parameter, which stand after the states; nothing below 0."""
    layout, parameters = request.problem.model.layout, request.problem.model.parameters
    if index < 0:
        return ""
    return layout.name_of(index) if index < layout.size else parameters[index - layout.size]


def _endless_switch(driver: Driver, event: str) -> str:
    """Say what goes back and forth without end."""
    crossed = driver.crossed()
    return f"event '{event}'" if event else f"switch '{crossed.texts[int(crossed.which[-1])]}'"


def _selection(members: tuple[str, ...], driver: Driver) -> str:
    """Return a sentence on which methods were taken, and why."""
    work = driver.march.own
    steps = [(name, int(count)) for name, count in zip(members, work.taken, strict=True) if count]
    if not isinstance(work, StiffnessSwitchingWork):
        return text.selection_among_orders(steps)
    changes = driver.march.last("changes")
    return text.selection_by_stiffness(steps, work.when[:changes].tolist(), changes)
