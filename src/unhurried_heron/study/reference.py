"""Something to measure errors against: the problem's closed forms, or far tighter runs of unrelated methods."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np

from unhurried_heron.errors import OptionError
from unhurried_heron.families.registry import reference_methods
from unhurried_heron.march.integrate import integrate
from unhurried_heron.march.options import Budget, Record
from unhurried_heron.march.quiet import quietly
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array

# a reference is at least a thousand times tighter than the tightest run measured against it, and always this tight
_TIGHTER: Final = 1e-3
_TIGHTEST, _LOOSEST = 1e-13, 1e-12
# how long a reference may take before it is given up
_SECONDS: Final = 20.0
_LEAST_SECONDS: Final = 0.5
# times at which errors are looked for: equally spaced, ever denser towards the start, and where the reference stepped
_EVEN, _TOWARDS_START, _STEPS = 401, 121, 2000


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
    """

    def __init__(self, problem: Problem, tightest: float) -> None:
        self._problem = problem
        self.rtol = float(np.clip(_TIGHTER * tightest, _TIGHTEST, _LOOSEST))
        self._runs: dict[str, Run] = {}

    @cached_property
    def grid(self) -> Array:
        """Times at which errors are looked for, in the direction of the run."""
        start, end = self._problem.interval
        times = [
            np.linspace(start, end, _EVEN),
            start + (end - start) * np.geomspace(1e-12, 1.0, _TOWARDS_START),
        ]
        if not self._problem.model.exact:
            steps = self._integrate(next(iter(reference_methods())), "steps").times
            times.append(steps[:: 1 + steps.size // _STEPS])
        joined = np.unique(np.concatenate(times))
        inside = joined[(joined >= min(start, end)) & (joined <= max(start, end))]
        return inside if end > start else inside[::-1]

    def truth_for(self, method: Method) -> Truth:
        """Return what to measure a method against.

        Raises
        ------
        OptionError
            There is no closed form, and no reference run reached the end of the interval.
        """
        exact = tuple(self._problem.model.exact)
        if exact:
            from unhurried_heron.native.system import exact_rows

            values = np.column_stack([*exact_rows(self._problem, self.grid).values()])
            return Truth(exact, values, "closed form of " + ", ".join(exact))
        # another family first; its own where the other cannot do the problem (an explicit method on a stiff one)
        for family in sorted(reference_methods(), key=lambda name: name == method.family):
            run = self._run(family)
            if run.ending.reason == "end":
                related = " (same family)" if family == method.family else ""
                return Truth(self._problem.states, run.states, f"{run.method} at rtol {self.rtol:.0e}{related}")
        raise OptionError(
            "no reference solution could be had",
            name="reference",
            place="compare",
            expected="closed forms under exact, or a problem that can be integrated to its end",
            given="; ".join(f"{run.method}: {run.ending.message}" for run in self._runs.values()),
        )

    def disagreement(self) -> float | None:
        """Return the largest difference of the two families' runs, relative to each state's size; None with fewer.

        The second is tried for ten times as long as the first took.
        """
        if not self._problem.model.exact:
            taken = max((run.tally.seconds for run in self._runs.values()), default=0.0)
            for family in reference_methods():
                if family not in self._runs:
                    seconds = min(_SECONDS, max(_LEAST_SECONDS, 10.0 * taken))
                    self._runs[family] = self._integrate(family, self.grid, seconds)
        complete = [run.states for run in self._runs.values() if run.ending.reason == "end"]
        if len(complete) < 2:
            return None
        return float((np.abs(complete[0] - complete[1]) / size_of(complete[0])).max())

    def _run(self, family: str) -> Run:
        if family not in self._runs:
            self._runs[family] = self._integrate(family, self.grid)
        return self._runs[family]

    def _integrate(self, family: str, record: Record, seconds: float = _SECONDS) -> Run:
        return _quietly(self._problem, reference_methods()[family], self.rtol, record, seconds)


def _quietly(problem: Problem, method: str, rtol: float, record: Record, seconds: float = _SECONDS) -> Run:
    budget = Budget(seconds=seconds)
    with quietly():
        return integrate(problem, method, rtol=rtol, record=record, budget=budget, ledger=False, progress=False)


def up_to_its_stop(problem: Problem) -> Problem:
    """Return the problem without events, its interval ended where one of them would have stopped the run."""
    plain = problem.with_(events=())
    if not any(event.stop for event in problem.events):
        return plain
    run = _quietly(problem, FOR_STIFF, _LOOSEST, 2)
    stopped = run.ending.reason == "event" and run.ending.time != problem.interval[0]
    return plain.with_(interval=(problem.interval[0], run.ending.time)) if stopped else plain


def size_of(states: Array) -> Array:
    """Largest size of each state over all rows, 1 where it is zero throughout, shape (n_states,)."""
    size = np.abs(states).max(axis=0)
    return np.where(size > 0, size, 1.0)
