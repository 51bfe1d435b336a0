"""What a march leaves behind a `Run`: the solution, what happened, and what each attempt was."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import TYPE_CHECKING, Any

from unhurried_heron.arrays import Records
from unhurried_heron.errors import RunError
from unhurried_heron.input.event import Event
from unhurried_heron.methods.method import Method
from unhurried_heron.run.event_log import EventLog, SwitchLog
from unhurried_heron.run.trace import Trace
from unhurried_heron.run.trajectory import StepTrajectory, Trajectory

if TYPE_CHECKING:
    from unhurried_heron.run.run import Run


@dataclass(frozen=True, eq=False)
class RunData:
    """The data of a run, for the rooms that judge, draw and write it.

    Attributes
    ----------
    trajectory : Trajectory
        The solution: polynomials of its steps, or recorded states.
    events : tuple of Event
        The events that were looked for.
    event_log : EventLog
    ledger : structured ndarray of shape (n_attempts,), or None
        A row of `control.LEDGER` for each attempt; None where it was not kept.
    switch_log : SwitchLog
    methods : tuple of Method
        The method, or those among which one was chosen along the run.
    trace : Trace or None
        Every call of the rates, where they were traced.
    continuation : callable or None
        What goes on with the run to another time.
    """

    trajectory: Trajectory
    events: tuple[Event, ...]
    event_log: EventLog
    ledger: Records | None
    switch_log: SwitchLog = field(default_factory=SwitchLog.nothing)
    methods: tuple[Method, ...] = ()
    trace: Trace | None = None
    continuation: Callable[[Run, float], Run] | None = None

    def __getstate__(self) -> dict[str, Any]:
        # Cached values are not pickled.
        return {each.name: getattr(self, each.name) for each in fields(self)}

    @property
    def recorded(self) -> tuple[Any, ...]:
        """What was recorded beside the solution."""
        return self.event_log, self.switch_log, self.ledger, self.trace

    @cached_property
    def occurrences(self) -> tuple[tuple[str, float, tuple[float, ...]], ...]:
        """The events as plain tuples: name, time and state (before it acts) of each, in order."""
        found = self.event_log
        return tuple(
            (self.events[event].name, time, tuple(state))
            for time, event, state in zip(
                found.times.tolist(), found.which.tolist(), found.before.tolist(), strict=True
            )
        )

    def steps(self, location: str) -> StepTrajectory:
        """Return the polynomials of the steps; ``location`` names the call that needs them.

        Raises
        ------
        RunError
            Only recorded times were kept.
        """
        if not isinstance(self.trajectory, StepTrajectory):
            raise RunError("this run kept only the times it was asked to record", name="record", location=location,
                           expected='a run that kept its steps: integrate with record="steps"',
                           given="recorded times")  # fmt: skip
        return self.trajectory
