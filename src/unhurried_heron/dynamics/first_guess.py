"""About where a cycle is, and how long it takes: where a march comes back to where it was."""

from __future__ import annotations

import time as clock
from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.errors import OptionError, RunError, excerpt
from unhurried_heron.problem.consistency import beginning_near, is_constrained
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.columns import modes_at
from unhurried_heron.run.run import Run

# A solution comes back where it is within this share of how far it goes; where it comes nearer later, that counts.
_BACK: Final = 0.05
# How often the time of the march to a cycle is doubled.
_DOUBLINGS: Final = 12
# Times at which a run is looked at.
_POINTS: Final = 1000


def first_guess(
    problem: Problem, near: Any, period: float | None, forced: bool, seconds: float, settings: dict[str, Any]
) -> tuple[Problem, float]:
    """Return the problem as it begins near a cycle, and about how long that takes.

    Parameters
    ----------
    problem : Problem
    near : object
    period : float or None
        With the sign of the interval.
    forced : bool
    seconds : float
    settings : dict

    Returns
    -------
    (Problem, float)

    Raises
    ------
    OptionError, RunError
    """
    start, end = problem.interval
    with quietly():
        if near is not None:
            if not isinstance(near, Mapping):
                raise OptionError("this is no state near a cycle", name="near", location="cycle",
                                  expected="values of states by name, or a Cycle", given=excerpt(near))  # fmt: skip
            if not is_constrained(problem):
                problem = problem.with_(initial={**problem.initial, **near})
            else:
                problem = beginning_near(problem, problem.start, {}, near)
            if period is not None:
                return problem, period
        if forced and period is not None:
            # the phase of the forcing stays
            turns = max(np.ceil((end - start) / period), 1.0)
            run = _run(problem.with_(interval=(start, start + turns * period)), settings, seconds)
            return _at(problem, run, run.data.trajectory.end_time), period
        length, spent = end - start, clock.perf_counter()
        for _ in range(_DOUBLINGS):
            run = _run(problem.with_(interval=(start, start + length)), settings, seconds)
            found = _returns(run, first=near is not None)
            if found is not None:
                return _at(problem, run, found[0]), period or found[1]
            if clock.perf_counter() - spent > seconds:
                break
            length *= 2.0
    raise RunError("the solution does not come back to where it was", name="cycle", location="cycle",
                   expected="one that repeats itself; or states near a cycle: near={…}",
                   given=f"{run.ending}, {run.final_numbers}"[:300])  # fmt: skip


def _run(problem: Problem, settings: dict[str, Any], seconds: float) -> Run:
    """Return a run to the end.

    Parameters
    ----------
    problem : Problem
    settings : dict
    seconds : float

    Returns
    -------
    Run

    Raises
    ------
    RunError
        It ends before.
    """
    run = integrate(problem, budget={"seconds": seconds}, **settings)
    if not run.ending.as_requested:
        raise RunError("the solution ends before it comes back", name="cycle", location="cycle",
                       expected="a solution that goes on", given=str(run.ending)[:200])  # fmt: skip
    return run


def _at(problem: Problem, run: Run, time: float) -> Problem:
    """Return the problem as it is at a time of a run, with the parameters that events have changed.

    Parameters
    ----------
    problem : Problem
    run : Run
    time : float

    Returns
    -------
    Problem
    """
    state = run.data.trajectory.at(np.array([time]))[0]
    changed = modes_at(run, np.array([time]))
    modes = {} if changed is None else dict(zip(run.modes, changed[1][0].tolist(), strict=True))
    return beginning_near(problem, state, {**problem.parameters, **modes})


def _returns(run: Run, *, first: bool) -> tuple[float, float] | None:
    """Return a time at which a run is where it will be, or was, and after how long; None where it does not come back.

    Parameters
    ----------
    run : Run
    first : bool
        Whether the state where it begins counts, and not where it ends.

    Returns
    -------
    (float, float), or None
    """
    begin, end = run.problem.interval[0], run.data.trajectory.end_time
    times = np.unique(np.concatenate([run.times, np.linspace(begin, end, _POINTS)]))
    times = times if end > begin else times[::-1]
    at = begin if first else end
    states = run.data.trajectory.at(times)
    # what came before the second half may be a transient
    half = states if first else states[times.size // 2 :]
    sizes = np.ptp(half, axis=0)
    sizes[sizes == 0.0] = 1.0
    here = states[0 if first else -1]
    rates = np.sign(end - begin) * run.problem.rates_at(at, here) / sizes**2
    above = (states - here) @ rates
    rising = np.flatnonzero((above[:-1] < 0.0) & (above[1:] >= 0.0))
    rising = rising[rising > 0] if first else rising[rising < times.size - 2]
    if not rising.size:
        return None
    shares = above[rising] / (above[rising] - above[rising + 1])
    when = times[rising] + shares * (times[rising + 1] - times[rising])
    apart = np.abs((run.data.trajectory.at(when) - here) / sizes).max(axis=1)
    changed = modes_at(run, np.append(when, at))
    if changed is not None:
        apart[(changed[1][:-1] != changed[1][-1]).any(axis=1)] = np.inf
    near = np.flatnonzero(apart <= max(_BACK, 2.0 * float(apart.min())))
    if not near.size or not np.isfinite(apart[near]).all():
        return None
    which = when[near[0] if first else near[-1]]
    return float(at), float(abs(which - at) * np.sign(end - begin))
