"""What is asked of a run, after all options were checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.recorded_times import Record
from unhurried_heron.input.event import Event
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem


class Prepared(NamedTuple):
    """What was found out when a march was set up for a request, and is so for the same request again.

    ``problem`` it was found for; ``scales`` of the error estimate, which of some families hang on the starting values
    (``by_state``); ``sources``: what is met at known times; ``stops``: whether the march stops on its way; ``key`` of
    marches that serve, and its ``base``, which is one object for all runs of the same request.
    """

    problem: Problem
    scales: Any
    by_state: bool
    sources: Any
    stops: bool
    base: tuple[Any, ...]
    key: tuple[Any, ...]


_NONE: Final = np.empty(0, dtype=np.int64)
# Numbers that are compared one by one.
_FEW: Final = 64


@dataclass(frozen=True)
class RunRequest:
    """A run to be made.

    Attributes
    ----------
    problem, method, budget
    events : tuple of Event
        All that are watched, the problem's own first.
    relative, absolute : ndarray, shape (n_states,)
        Tolerances.
    fixed, first : float or None
        A fixed step, the first step; sizes.
    longest : float
        Bound on the steps.
    record : "steps", int or sequence of float
        As it was said.
    times : ndarray or None
        What that comes to; None for every step.
    ledger : bool
        Whether to keep a row for each attempt.
    held : bool
        Whether switches are landed on.
    linear : str or None
        The linear algebra that is wanted, if any.
    preconditioner : str, callable or None
        Likewise, for iterations.
    local_extrapolation : bool or None
        Which order is carried on, if that was said; ``method`` does it.
    starter : Method, ClosedFormStarter or None
        What a multistep method is started by.
    controller : Controller or None
        How the steps are to follow the error, if that was said.
    trace : bool
        Whether to keep every call of the rates.
    met : tuple of (int, ndarray, float)
        The events that happened where it begins, at the end of another run, each with the state before and its time.
    roots : mapping of str to float
        The values that roots near zero had at the end of the part before, by the names of their switches: between the
        two widths at which a root begins and ceases to rest, its argument does not tell.
    widths : mapping of str to float
        The widths of roots by their names, of a part of a run; they are those of the whole.
    continues : bool
        Whether the run is a later part of another one, which is judged as a whole.
    sink : RowsOnDisk or None
        Takes the recorded states as they come.
    hands_over : bool
        Whether the march ends where its method would change to a stiff one.
    prepared : Prepared or None
        Of an earlier run of the same request.
    """

    problem: Problem
    method: Method
    events: tuple[Event, ...]
    relative: Array
    absolute: Array
    fixed: float | None
    first: float | None
    longest: float
    record: Record
    times: Array | None
    ledger: bool
    held: bool
    budget: Budget
    linear: str | None = None
    preconditioner: Any = None
    local_extrapolation: bool | None = None
    starter: Any = None
    controller: Any = None
    trace: bool = False
    met: tuple[tuple[int, Array, float], ...] = ()
    roots: Mapping[str, float] = field(default_factory=dict)
    widths: Mapping[str, float] = field(default_factory=dict)
    continues: bool = False
    sink: Any = None
    hands_over: bool = False
    prepared: Prepared | None = field(default=None, init=False, compare=False, repr=False)

    @cached_property
    def nonnegative(self) -> IntArray:
        """The indices of the states that a march of adaptive steps keeps from falling below zero, int64."""
        named = self.problem.user_input.never_negative
        if not (named and self.adapts):
            return _NONE
        return self.problem.model.layout.indices_of_all(named)

    @cached_property
    def options(self) -> dict[str, Any]:
        """Tolerances or step, and what else was asked, as they are used."""
        problem = self.problem
        options: dict[str, Any] = {"rtol": None, "atol": None, "step": self.fixed, "record": self.record}
        if self.adapts:
            options["rtol"] = _one_or_by_state(problem, self.relative)
            options["atol"] = _one_or_by_state(problem, self.absolute)
        if self.starter is not None:
            options["starter"] = self.starter.name
        if self.adapts and self.longest < abs(problem.interval[1] - problem.interval[0]):
            options["largest_step"] = self.longest
        if self.local_extrapolation is not None:
            options["local_extrapolation"] = self.local_extrapolation
        return options

    def of(self, problem: Problem) -> RunRequest:
        """Return the same request for another problem of the same structure, interval, units and events."""
        other = object.__new__(RunRequest)
        vars(other).update(vars(self), problem=problem)
        vars(other).pop("nonnegative", None)
        return other

    @property
    def adapts(self) -> bool:
        """Whether the steps follow the error estimate."""
        return self.fixed is None


def _one_or_by_state(problem: Problem, values: Array) -> float | dict[str, float]:
    """One number where all states share it, else a number for each by name."""
    listed = values[:_FEW].tolist()
    if listed.count(listed[0]) == len(listed) and (values.size <= _FEW or (values == listed[0]).all()):
        return float(listed[0])
    return dict(zip(problem.states, values.tolist(), strict=True))
