"""Cycles: periodic solutions, by shooting with the variational equations, and how stable they are.

H. B. Keller, *Numerical Methods for Two-Point Boundary-Value Problems* (1992); R. Seydel, *Practical Bifurcation and
Stability Analysis* (2010), chapter 7.
"""

from __future__ import annotations

import time as clock
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.driver.concatenation import concatenated
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.dynamics.first_guess import first_guess
from unhurried_heron.dynamics.march_options import march_options
from unhurried_heron.dynamics.return_map import ReturnMap
from unhurried_heron.dynamics.search import is_forced
from unhurried_heron.dynamics.shooting import CLOSED, Shooting
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import OptionError
from unhurried_heron.input.rules import POSITIVE
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.extent import extent
from unhurried_heron.run.run import Run
from unhurried_heron.text.cycle_document import cycle_document
from unhurried_heron.text.document import Document
from unhurried_heron.units.quantities import number_in

# Rates at one phase differ by no more than this share where they repeat.
_REPEATS: Final = 1e-9
# How far from one a multiplier must be for linear theory to tell, beside the error of that which is one.
_TOLD: Final = 1e-6
# Relative tolerance of the march.
_RTOL: Final = 1e-10
# How many times around a march may have gone.
_MAX_TIMES: Final = 12
# Times at which a run is looked at.
_POINTS: Final = 1000


@dataclass(frozen=True, eq=False)
class Cycle(ByValue):
    """A periodic solution.

    Attributes
    ----------
    problem : Problem
    period : float
    state : ndarray, shape (n_states,)
        On the cycle, where its run begins.
    multipliers : ndarray of complex, shape (n_states,), with constraints fewer
        Floquet multipliers, by which small differences grow in a period; the largest first. Without forcing one of
        them is one, along the cycle.
    stable : bool or None
        Whether what begins nearby comes nearer; None where linear theory does not tell.
    error : float
        How far its ends are apart, as a share of how far it goes.
    run : Run
        Once around.
    """

    problem: Problem = field(repr=False)
    period: float
    state: Array
    multipliers: ComplexArray
    stable: bool | None
    error: float
    run: Run = field(repr=False)

    def __getitem__(self, name: str) -> float:
        """Return the value of a state where the run begins, by its name."""
        return float(self.state[self.problem.states.index(name)])

    @property
    def named(self) -> dict[str, float]:
        """The states where the run begins, by name."""
        return dict(zip(self.problem.states, self.state.tolist(), strict=True))

    def extent(self, quantity: str) -> tuple[float, float]:
        """Return between which values a state or derived quantity goes.

        Parameters
        ----------
        quantity : str
            Or a formula of them.

        Returns
        -------
        (float, float)
            The smallest and the largest.
        """
        return extent(self.run, quantity)

    def document(self) -> Document:
        """What it is like."""
        return cycle_document(self)

    def __str__(self) -> str:
        return str(self.document())


def cycle(
    problem: Problem, near: Mapping[str, Any] | Cycle | None = None, *, period: float | str | None = None,
    seconds: float = 20.0, method: str = "auto", **options: Any,
) -> Cycle:  # fmt: skip
    r"""Find a cycle: a solution that returns to where it was, with its period and Floquet multipliers.

    A march goes on until it comes back to where it was, or begins near a state that is given; Newton's method closes
    the cycle, stable or not, with derivatives from the variational equations (by differences where the rates jump or
    events act).

    Parameters
    ----------
    problem : Problem
    near : mapping of str to float, or Cycle, optional
        States near the cycle, for one that no march comes to; or a cycle of another parameter.
    period : float or str, optional
        Of the forcing, also with a unit; required where the rates depend on the time. Else a guess.
    seconds : float
        How long it may take.
    method : str
    **options
        As for `integrate`.

    Returns
    -------
    Cycle

    Raises
    ------
    OptionError
        The rates depend on the time, and there is no period, or it is not theirs; or an option is not for the caller.
    RunError
        The solution does not come back, rests, or its cycle is not found.

    Examples
    --------
    >>> swing = Problem.from_text("x' = v\nv' = (1 - x^2)*v - x", initial={"x": 1, "v": 0}, interval=(0, 30))
    >>> found = cycle(swing)
    >>> f"{found.period:.6f} {found.stable}"
    '6.663287 True'
    """
    refuse_no_problem(problem, "cycle")
    problem.refuse_open()
    POSITIVE(seconds, "seconds", "cycle")
    begun = clock.perf_counter()
    settings = {"rtol": _RTOL, **march_options(options, "cycle"), "method": method}
    unit = problem.units.get("t", "")
    known = None if period is None else number_in(period, unit, "period") if isinstance(period, str) else period
    if known is not None:
        POSITIVE(known, "period", "cycle")
    timed = any(event.at is not None or event.every is not None for event in problem.events)
    forced = is_forced(problem) or timed
    onwards = float(np.sign(problem.interval[1] - problem.interval[0]))
    if isinstance(near, Cycle):
        known = near.period if known is None else known
        near = near.named
    if forced:
        _refuse_other_period(problem, known, timed=timed)
    with np.errstate(all="ignore"):
        here, guess = first_guess(problem, near, None if known is None else onwards * known, forced, seconds, settings)
        shooting = Shooting(here, ReturnMap(here, settings), forced, begun + seconds)
        begins, length, error = shooting.closed(here.start, guess)
        if not forced:
            begins, length = _shortest(here, begins, length, settings)
        values = shooting.multipliers(begins, length)
    run = _around(here, begins, length, settings)
    return Cycle(here, abs(length), begins[0], values, _stable(values, forced=forced), error, run)


def _refuse_other_period(problem: Problem, period: float | None, *, timed: bool) -> None:
    """Refuse a period that the rates do not repeat after.

    Parameters
    ----------
    problem : Problem
    period : float or None
    timed : bool
        Whether events come at known times.

    Raises
    ------
    OptionError
    """
    if period is None:
        what = "events come at known times" if timed else "the rates depend on the time"
        raise OptionError(f"{what}, so that their period must be known", name="period", location="cycle",
                          expected='period=…, as in period="24 h"', given="none")  # fmt: skip
    start = problem.interval[0]
    times = start + period * np.linspace(0.0, 1.0, 7)
    states = np.tile(problem.start, (7, 1))
    now, later = problem.rates_at(times, states), problem.rates_at(times + period, states)
    if np.abs(later - now).max() > _REPEATS * np.abs(now).max() + _REPEATS:
        raise OptionError("the rates do not repeat after that time", name="period", location="cycle",
                          expected="the period of the forcing", given=f"{period:g}")  # fmt: skip


def _shortest(problem: Problem, begins: Array, length: float, settings: dict[str, Any]) -> tuple[Array, float]:
    """Return a cycle that is not several times around.

    Parameters
    ----------
    problem : Problem
    begins : ndarray, shape (n_segments, n_states)
    length : float
    settings : dict

    Returns
    -------
    (ndarray, float)
    """
    start, run = problem.interval[0], _around(problem, begins, length, settings)
    size = np.ptp(run.data.trajectory.at(np.linspace(start, start + length, _POINTS)), axis=0)
    size[size == 0.0] = 1.0
    for times in range(_MAX_TIMES, 1, -1):
        there = run.data.trajectory.at(np.array([start + length / times]))[0]
        if np.abs((there - begins[0]) / size).max() <= 10.0 * CLOSED:
            when = start + length / times * np.arange(len(begins)) / len(begins)
            return run.data.trajectory.at(when), length / times
    return begins, length


def _around(problem: Problem, begins: Array, length: float, settings: dict[str, Any]) -> Run:
    """Return a run once around.

    Parameters
    ----------
    problem : Problem
    begins : ndarray, shape (n_segments, n_states)
        Where its segments begin.
    length : float
    settings : dict

    Returns
    -------
    Run
    """
    start, runs = problem.interval[0], list[Run]()
    edges = np.linspace(start, start + length, len(begins) + 1).tolist()
    with quietly():
        for k, begin in enumerate(begins):
            here = beginning_near(problem, begin, {}).with_(interval=(edges[k], edges[k + 1]))
            runs.append(integrate(here, **settings))
        whole = beginning_near(problem, begins[0], {}).with_(interval=(start, start + length))
    run = runs[0]
    for each in runs[1:]:
        run = concatenated(run, whole, (run, each), each.ending)
    return run


def _stable(multipliers: ComplexArray, *, forced: bool) -> bool | None:
    """Return whether a cycle is stable; None where linear theory does not tell."""
    sizes, slack = np.abs(multipliers), _TOLD
    if not forced and sizes.size:
        along = int(np.argmin(np.abs(multipliers - 1.0)))
        slack = max(slack, 10.0 * float(abs(multipliers[along] - 1.0)))
        sizes = np.delete(sizes, along)
    largest = float(sizes.max(initial=0.0))
    return None if abs(largest - 1.0) <= slack else largest < 1.0
