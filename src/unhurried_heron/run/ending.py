"""Why a run ended, and how much work it was."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class EndingReason(StrEnum):
    """Why a run ended; each is equal to its text."""

    END = "end"
    EVENT = "event"
    NOT_FINITE = "not finite"
    STEP_TOO_SMALL = "step too small"
    NEWTON_FAILED = "Newton failed"
    SWITCHING = "switching"
    ACCUMULATING = "accumulating"
    TOO_MANY_AT_ONCE = "too many at once"
    BELOW_ZERO = "below zero"
    COLLAPSED = "collapsed"
    BUDGET = "budget"
    INTERRUPTED = "interrupted"

    @property
    def as_requested(self) -> bool:
        """Whether the end of the interval was reached, or an event that stops."""
        return self in (EndingReason.END, EndingReason.EVENT)

    @property
    def cut_short(self) -> bool:
        """Whether the user's limits ended the run, and not the problem."""
        return self in (EndingReason.BUDGET, EndingReason.INTERRUPTED)


@dataclass(frozen=True)
class Ending:
    """Why a run ended.

    Attributes
    ----------
    reason : EndingReason
        A text: "end" (reached the end of the interval), "event" (an event that stops), "not finite" (overflow, or
        rates that are no numbers), "step too small", "Newton failed", "switching" (a switch goes back and forth
        without end), "accumulating" (an event that changes something happens faster and faster), "too many at once"
        (events and switches at one time), "below zero" (the rates lead a state there that is never negative),
        "collapsed" (the steps became so short that they would never come to the end), "budget" or "interrupted".
    time : float
        Where the run ended.
    message : str
        What happened, in a sentence.
    advice : str
        What to try, or to know of the values; empty where there is nothing to say.
    limited_until : float or None
        When stability last held the steps back; None where it did not.
    """

    reason: EndingReason
    time: float
    message: str
    advice: str = ""
    limited_until: float | None = None

    @property
    def as_requested(self) -> bool:
        """Whether the run ended at the end of its interval or at an event that stops."""
        return self.reason.as_requested

    def __str__(self) -> str:
        return f"{self.message} {self.advice}".strip()


@dataclass(frozen=True)
class Tally:
    """Counts of work.

    Attributes
    ----------
    accepted, refused : int
        Attempted steps that were kept, and that were not.
    rate_evaluations : int
        Calls of the rates: all of those below, and ``for_stages``.
    for_jacobians, for_starting, for_estimates, for_between : int
        Calls for Jacobians (and time derivatives) by differences; where the run starts, or starts again beyond a
        switch, and for the starting step; for estimates of the error between the steps and of stiffness; for the step
        polynomial alone.
    newton_failures : int
        Refused steps whose stages could not be solved for.
    jacobians, factorisations, solves, iterations : int
        Jacobians found, matrices factored (a real and a complex one together count once), linear systems solved
        (likewise) and Newton iterations.
    linear_iterations, fill : int
        Iterations on linear systems, and how many numbers the largest factors hold.
    changes : int
        From one method to another, where the method is chosen along the run.
    seconds : float
        Wall-clock time of the march.
    """

    accepted: int
    refused: int
    rate_evaluations: int
    for_jacobians: int
    for_starting: int
    for_estimates: int
    for_between: int
    newton_failures: int
    jacobians: int
    factorisations: int
    solves: int
    iterations: int
    linear_iterations: int
    fill: int
    changes: int
    seconds: float

    @property
    def for_stages(self) -> int:
        """Calls of the rates in the stages of steps, and at their ends."""
        return self.rate_evaluations - self.for_jacobians - self.for_starting - self.for_estimates - self.for_between
