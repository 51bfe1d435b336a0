"""A run carried out, and one that goes on where another ended."""

from __future__ import annotations

import functools
import warnings
from dataclasses import fields, replace
from typing import Any

import numpy as np

from unhurried_heron.errors import DoubtWarning, RunError
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.march.asked import Asked
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, Tally
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import NO_JUMPS, Jumps, StepTrajectory
from unhurried_heron.units.quantities import number_in
from unhurried_heron.words.event import Event, Going

_OPPOSITE: dict[str, Going] = {"up": "down", "down": "up", "either": "either"}


def carried_out(asked: Asked, progress: bool | None, on_interrupt: str) -> Run:
    """Lay out a march, drive it and return its run.

    Raises
    ------
    KeyboardInterrupt
    Exception
        Whatever the user's functions raise.
    """
    # what compiles is loaded when something runs
    from unhurried_heron.march.harvest import harvest
    from unhurried_heron.march.launch import launch, linear_kind
    from unhurried_heron.march.progress import ProgressBar

    kind = linear_kind(asked)
    driver = launch(asked, kind)
    bar = ProgressBar(progress, asked.problem.title or asked.method.name, *asked.problem.interval)
    try:
        reason = driver.drive(bar)
    finally:
        bar.close()
    # also where the run was just done: a loop over short runs must not swallow Ctrl-C
    if driver.ctrl_c and on_interrupt == "raise":
        raise KeyboardInterrupt
    return harvest(asked, driver, reason, kind, functools.partial(extended, asked, progress, on_interrupt))


def extended(asked: Asked, progress: bool | None, on_interrupt: str, run: Run, to: float) -> Run:
    """Return a run that goes on to a time beyond its end, or, backwards, before its start."""
    trajectory: Any = run._trajectory
    start = float(trajectory.times[0])
    backwards = (to - trajectory.end_time) * (trajectory.end_time - start) < 0.0
    begin = start if backwards else trajectory.end_time
    problem = _moved(run, trajectory.states[0] if backwards else trajectory.end_state, (begin, to))
    if backwards and any(event.then is not None for event in run._watched):
        raise RunError("what events changed cannot be taken back", name="to", place="run.extend",
                       expected="a time after the end, where events change the model", given=f"{to:.12g}")  # fmt: skip
    turned = _turned if backwards else functools.partial(_onwards, run)
    events = tuple(turned(place, event) for place, event in enumerate(run._watched))
    more = carried_out(replace(asked, problem=problem, events=events), progress, on_interrupt)
    if backwards:
        return _joined(run, _reversed(more, start, trajectory.states[0]), run, run.ending)
    return _joined(run, run, more, more.ending)


def _moved(run: Run, state: Any, interval: tuple[float, float]) -> Problem:
    """Return the problem from another state on, and with the parameters that events left."""
    modes = run._happened.modes_at(np.array([run._trajectory.end_time]), False)[0] if run.modes else ()
    with warnings.catch_warnings():
        # of closed forms that begin elsewhere
        warnings.simplefilter("ignore", DoubtWarning)
        return run.problem.with_(
            initial=dict(zip(run.problem.states, state.tolist(), strict=True)),
            interval=interval,
            parameters={name: float(value) for name, value in zip(run.modes, modes, strict=True)},
        )


def _joined(run: Run, first: Run, second: Run, ending: Ending) -> Run:
    """Return two runs as one, of which ``run`` was there before the other."""
    one: Any = first._trajectory
    other: Any = second._trajectory
    start, more = float(one.times[0]), second if first is run else first
    problem = (
        run.problem.with_(interval=(start, more.problem.interval[1]))
        if first is run
        else _moved(run, one.states[0], (start, run.problem.interval[1]))
    )
    rows = 0 if first._ledger is None else len(first._ledger)
    happened = first._happened.followed_by(second._happened)
    kept = [each for each in (one.jumps, other.jumps) if each.times.size]
    jumps = Jumps(*(np.concatenate(each) for each in zip(*kept, strict=True))) if kept else NO_JUMPS
    counts = {each.name: getattr(run.tally, each.name) + getattr(more.tally, each.name) for each in fields(Tally)}
    return replace(
        run,
        problem=problem,
        ending=ending,
        tally=Tally(**counts),
        _trajectory=StepTrajectory((*one.pieces, *other.pieces), other.end_time, other.end_state, jumps),
        _happened=happened,
        _watched=run._watched,
        _ledger=np.concatenate([first._ledger, second._ledger]) if rows else None,
        _crossed=first._crossed.followed_by(second._crossed, rows),
        chosen=f"{run.chosen} Then it {more.chosen}" if run.chosen else "",
    )


def _turned(_: int, event: Event) -> Event:
    """Return the event as it is met in the other direction of time."""
    return replace(event, going=_OPPOSITE[event.going], stop=False, stop_after=None)


def _onwards(run: Run, place: int, event: Event) -> Event:
    """Return the event as it is met by what goes on after a run: its counts and its period go on, too."""
    seen = int((run._happened.which == place).sum())
    left: dict[str, Any] = {}
    if event.at_most is not None:
        left = {"at_most": event.at_most - seen} if event.at_most > seen else {"only_if": "1 < 0", "at_most": None}
    if event.stop_after is not None and event.stop_after > seen:
        left["stop_after"] = event.stop_after - seen
    if event.every is not None:
        (start, _), unit = run.problem.interval, run.problem.units.get(TIME, "")
        first = event.first
        if first is None:
            sign = np.sign(run._trajectory.end_time - start)
            first = start + sign * number_in(event.every, unit, f"the event '{event.name}', every")
        left["first"] = first
    return replace(event, **left) if left else event


def _reversed(run: Run, end_time: float, end_state: Any) -> Run:
    """Return a run backwards as if it had come forwards to where it began."""
    trajectory: Any = run._trajectory
    coefficients = trajectory.coefficients
    degree = coefficients.shape[1] - 1
    # p(1 - theta), by powers of theta
    powers = np.zeros((degree + 1, degree + 1))
    for d in range(degree + 1):
        powers[: d + 1, d] = np.polynomial.polynomial.polypow([1.0, -1.0], d)
    # a step that a switch or the end cut short ends there, on the polynomial of the whole
    ends = np.append(trajectory.starts[1:], trajectory.end_time)
    steps = ends - trajectory.starts
    shares = (steps / trajectory.steps)[:, None] ** np.arange(degree + 1)
    turned = np.einsum("ed,idk->iek", powers, coefficients * shares[:, :, None])[::-1].copy()
    starts, steps = ends[::-1].copy(), -steps[::-1]
    count = 0 if run._ledger is None else len(run._ledger)
    return replace(
        run,
        _trajectory=StepTrajectory(((starts, steps, turned),), float(end_time), end_state),
        _happened=run._happened.reversed(),
        _ledger=None if run._ledger is None else run._ledger[::-1].copy(),
        _crossed=run._crossed.reversed(count),
    )
