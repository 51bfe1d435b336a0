"""Something to measure errors against: the problem's closed forms, or far tighter runs of unrelated methods."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.recorded_times import Record
from unhurried_heron.errors import OptionError, excerpt, unforeseen
from unhurried_heron.families.registry import reference_methods
from unhurried_heron.methods.catalogue import DEFAULT, FOR_STIFF
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.run import Run
from unhurried_heron.study.attempts import Attempt, attempt_run, raise_common_error

# The factor by which a reference is tighter than the tightest run, and the tolerance that it always meets.
_TIGHTER: Final = 1e-3
# The tightest relative tolerance of a reference,
_TIGHTEST: Final = 1e-13
# and the loosest.
_LOOSEST: Final = 1e-12
# Seconds that a reference may take.
_SECONDS: Final = 20.0
# Seconds that a second reference may take at least.
_MIN_SECONDS: Final = 0.5
# Seconds that Taylor series may take.
_TAYLOR_SECONDS: Final = 120.0
# Times at which errors are measured: equally spaced ones,
_EVEN: Final = 401
# ever denser ones towards the start,
_TOWARDS_START: Final = 121
# and steps of the reference.
_STEPS: Final = 2000
# References that differ by more than this, relative to a state's size, are both discarded.
_AGREED: Final = 1e-4
# Times nearer to a jump than this share of the interval are left out: its two sides differ by all of it.
_NEAR_A_JUMP: Final = 1e-6
Kind = Literal["runs", "taylor"]


def kind_of(reference: object, location: str) -> Kind:
    """Return which reference is asked for.

    Raises
    ------
    OptionError
        There is no such one.
    """
    if reference is None:
        return "runs"
    if not isinstance(reference, str) or reference != "taylor":
        raise OptionError("there is no such reference", name="reference", location=location,
                          expected='"taylor", or nothing', given=excerpt(reference))  # fmt: skip
    return "taylor"


@dataclass(frozen=True)
class Truth:
    """States to measure against.

    Attributes
    ----------
    names : tuple of str
        The states that are known.
    values : ndarray, shape (n_times, n_names)
        Their values on the grid of the `References`.
    label : str
        Where they come from.
    """

    names: tuple[str, ...]
    values: Array
    label: str


class References:
    """The truth for each method: closed forms if there are any, else a run of another family, made once.

    Attributes
    ----------
    rtol : float
        Tolerance of the reference runs.
    seconds : float, optional
        Which each of them may take.
    """

    def __init__(self, problem: Problem, tightest: float, kind: Kind = "runs", seconds: float | None = None) -> None:
        self._problem, self._kind = problem, kind
        self._limited, self._seconds = seconds is not None, _SECONDS if seconds is None else seconds
        self._taylor_seconds = _TAYLOR_SECONDS if seconds is None else seconds
        self.rtol = float(np.clip(_TIGHTER * tightest, _TIGHTEST, _LOOSEST))
        self._runs: dict[str, Attempt] = {}
        self._methods = reference_methods(problem)
        self.lacking = ""

    @property
    def certain(self) -> bool:
        """Whether the truth is exact but for rounding."""
        return bool(self._problem.model.exact) or self._kind == "taylor"

    @cached_property
    def _first(self) -> Run | None:
        """A reference run with its steps kept; None where there is none."""
        found = (self._integrate(family, "steps").run for family in self._methods)
        return next((run for run in found if run is not None), None)

    @cached_property
    def grid(self) -> Array:
        """Times at which errors are looked for, in the direction of the run."""
        start, end = self._problem.interval
        times = [
            np.linspace(start, end, _EVEN),
            start + (end - start) * np.geomspace(1e-12, 1.0, _TOWARDS_START),
        ]
        jumps = np.empty(0)
        first = None if self.certain else self._first
        if first is not None:
            times.append(first.times[:: 1 + first.times.size // _STEPS])
            jumps = first.data.trajectory.jumps.times
        joined = np.unique(np.concatenate(times))
        inside = joined[(joined >= min(start, end)) & (joined <= max(start, end))]
        if jumps.size:
            near = np.abs(inside[:, None] - jumps).min(axis=1) <= _NEAR_A_JUMP * abs(end - start)
            inside = inside[~near | (inside == end) | (inside == start)]
        return inside if end > start else inside[::-1]

    @cached_property
    def _differ(self) -> Array | None:
        """How far the two families' runs are apart along the grid, at most so far, relative to each state's size.

        None where fewer came to the end. Others than the first are tried for ten times as long, until two did.
        """
        if self.certain:
            return None
        for family in self._methods:
            if len(self._complete) > 1:
                break
            if family not in self._runs:
                taken = max((each.run.tally.seconds for each in self._runs.values() if each.run), default=math.inf)
                seconds = min(self._seconds, max(_MIN_SECONDS, 10.0 * taken))
                self._runs[family] = self._integrate(family, self.grid, seconds)
        complete = [run.states for run in self._complete]
        if len(complete) < 2:
            return None
        apart = (np.abs(complete[0] - complete[1]) / size_of(complete[0])).max(axis=1)
        return np.maximum.accumulate(apart)

    @property
    def _complete(self) -> list[Run]:
        runs = (each.run for each in self._runs.values())
        return [run for run in runs if run is not None and run.ending.reason is EndingReason.END]

    @property
    def trusted(self) -> int:
        """At how many times of the grid the references agree."""
        if self._differ is None:
            return int(self.grid.size)
        return max(1, int(np.searchsorted(self._differ > _AGREED, True)))

    @property
    def until(self) -> float | None:
        """Up to when the references agree; None where they do to the end."""
        return None if self.trusted == self.grid.size else float(self.grid[self.trusted - 1])

    def disagreement(self) -> float | None:
        """Return the largest difference of the two references where they agree; None with fewer than two."""
        return None if self._differ is None else float(self._differ[self.trusted - 1])

    @cached_property
    def _exact(self) -> Truth:
        names = tuple(self._problem.model.exact)
        if names and self._kind == "runs":
            from unhurried_heron.codegen.system import exact_rows

            values = np.column_stack([*exact_rows(self._problem, self.grid).values()])
            return Truth(names, values, "closed form of " + ", ".join(names))
        from unhurried_heron.study.taylor import as_floats, taylor_states

        rows = taylor_states(self._problem, self.grid, seconds=self._taylor_seconds)
        return Truth(self._problem.states, as_floats(rows), "Taylor series in 30 digits")

    def truth_for(self, method: Method) -> Truth | None:
        """Return what to measure a method against, as far as the references agree; None where nothing can be had.

        ``lacking`` tells why then.

        Raises
        ------
        OptionError
            A Taylor series was asked for without a limit of seconds, and there is none.
        """
        if self.lacking:
            return None
        if self.certain:
            try:
                return self._exact
            except OptionError as error:
                if not self._limited:
                    raise
                self.lacking = str(error.args[0])
                return None
        rows = self.trusted
        # another family first; its own where the other cannot do the problem (an explicit method on a stiff one)
        for family in sorted(self._methods, key=lambda name: name == method.family):
            run = self._runs[family].run
            if run is not None and run.ending.reason is EndingReason.END:
                related = " (same family)" if family == method.family else ""
                return Truth(self._problem.states, run.states[:rows], f"{run.method} at rtol {self.rtol:.0e}{related}")
        attempt_run = [f"{self._methods[family]}: {each.why.rstrip('.')}" for family, each in self._runs.items()]
        self.lacking = "; ".join(attempt_run)
        return None

    def function_for(self, method: Method) -> tuple[tuple[str, ...], Callable[[Array], Array], str]:
        """Return names of states, their values as a function of times, and where they come from.

        Raises
        ------
        OptionError
            There is no closed form, and no reference run reached the end of the interval; or no Taylor series.
        Exception
            What the problem's own function raised, in every reference run.
        """
        truth = self.truth_for(method)
        if truth is None:
            raise_common_error([*self._runs.values()])
            raise OptionError("no reference solution could be had", name="reference", location="convergence",
                              expected="closed forms under exact, or a problem that can be integrated to its end",
                              given=self.lacking)  # fmt: skip
        if self.certain and self._kind == "runs":
            from unhurried_heron.codegen.system import exact_rows

            return truth.names, lambda t: np.column_stack([*exact_rows(self._problem, t).values()]), truth.label
        if self.certain:
            from unhurried_heron.study.taylor import as_floats, taylor_states

            return (
                truth.names,
                lambda t: as_floats(taylor_states(self._problem, t, seconds=self._taylor_seconds)),
                truth.label,
            )
        family = next(name for name in self._runs if truth.label.startswith(self._methods[name]))
        kept = _first_that_ended([self._integrate(family, "steps")])
        return truth.names, kept.at, truth.label

    def _integrate(self, family: str, record: Record, seconds: float | None = None) -> Attempt:
        """Run the reference method of a family.

        Parameters
        ----------
        family : str
        record : array_like or int
            Times that are recorded.
        seconds : float or None, optional
            The most that it may take; None for no limit.

        Returns
        -------
        Attempt
        """
        return _tight(self._problem, self._methods[family], self.rtol, record, seconds or self._seconds)


def _tight(problem: Problem, method: str, rtol: float, record: Record, seconds: float) -> Attempt:
    """Run a method at a tight tolerance, without a word.

    Parameters
    ----------
    problem : Problem
    method : str
    rtol : float
    record : array_like or int
        Times that are recorded.
    seconds : float

    Returns
    -------
    Attempt
    """
    return attempt_run(problem, method, rtol=rtol, record=record, budget=Budget(seconds=seconds), ledger=False)


def _first_that_ended(found: Iterable[Attempt]) -> Run:
    """Return the first run of several that there is.

    Raises
    ------
    Exception
        There is none: what was raised at first.
    """
    raised: list[Exception] = []
    for each in found:
        if each.run is not None:
            return each.run
        if each.raised is None:
            raise unforeseen("else there is a run")
        raised.append(each.raised)
    raise raised[0]


def shortened_to_stop(problem: Problem, seconds: float | None = None) -> Problem:
    """Return the problem with the events that act alone, its interval ended where one would have stopped the run."""
    acting = tuple(event for event in problem.events if event.then is not None and not event.stop)
    plain = problem.with_(events=acting)
    if not any(event.stop for event in problem.events):
        return plain
    run = _first_that_ended(
        _tight(problem, method, _LOOSEST, 2, seconds or _SECONDS) for method in (FOR_STIFF, DEFAULT)
    )
    stopped = run.ending.reason is EndingReason.EVENT and run.ending.time != problem.interval[0]
    return plain.with_(interval=(problem.interval[0], run.ending.time)) if stopped else plain


def size_of(states: Array) -> Array:
    """Largest size of each state over all rows, 1 where it is zero throughout, shape (n_states,)."""
    size = np.abs(states).max(axis=0)
    return np.where(size > 0, size, 1.0)
