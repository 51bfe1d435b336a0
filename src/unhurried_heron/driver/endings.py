"""Turning a kernel's integer reason into an `Ending` in the user's words: the one place where this is done."""

from __future__ import annotations

import math
from dataclasses import dataclass

from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, EndingReason

# what a run says whose steps were as long as stability allows
HELD_BACK = "held back by stability and not by accuracy"


@dataclass(frozen=True)
class Stop:
    """Why and where a march stopped, and what there is to be said of it.

    Attributes
    ----------
    steps : int
        Accepted ones.
    budget, event, switch : str
        What was used up, stopped the run, or goes back and forth; empty for none.
    towards : float
        The time towards which an event accumulates.
    component : str
        The first state that is not finite at ``bad_time``, or empty.
    stiff : float
        When stability last held the steps back; NaN where it did not.
    noise : str
        A sentence on states that mean nothing, or empty.
    term : str
        A sentence on why it failed there, or empty; of collapsed steps the state that changes fastest.
    left : float
        How many more steps it would take at the pace of the last ones.
    held : bool
        Whether switches were landed on.
    """

    reason: Reason
    time: float
    steps: int = 0
    fixed: bool = False
    interrupted: bool = False
    budget: str = ""
    event: str = ""
    switch: str = ""
    towards: float = math.nan
    component: str = ""
    bad_time: float = math.nan
    stiff: float = math.nan
    noise: str = ""
    term: str = ""
    left: float = math.nan
    held: bool = True


def ending_of(stop: Stop, problem: Problem, method: Method) -> Ending:
    """Return the ending in words."""
    reason, time, at = stop.reason, stop.time, f"t = {stop.time:.10g}"
    stiff = stiffness(stop)
    if stop.interrupted:
        kept = f"The solution up to {at} was kept."
        return Ending(EndingReason.INTERRUPTED, time, f"interrupted at {at}: incomplete.", f"{kept} {stiff}".rstrip())
    values_advice = " ".join(filter(None, (stiff, stop.noise)))
    if reason is Reason.REACHED_END:
        return Ending(EndingReason.END, time, f"reached the end, {at}.", values_advice)
    if reason is Reason.EVENT:
        return Ending(EndingReason.EVENT, time, f"stopped by the event '{stop.event}' at {at}.", values_advice)
    if reason is Reason.PAUSED:
        return _out_of_budget(stop, problem, stiff)
    if reason is Reason.COLLAPSED:
        return _collapsed(stop, stiff)
    if reason is Reason.SWITCHING:
        return Ending(
            EndingReason.SWITCHING,
            time,
            f"the {stop.switch} goes back and forth without end at {at}.",
            "Both sides of it lead back to it. Give it two levels (open above one, shut below another), or smooth it.",
        )
    if reason is Reason.ACCUMULATING:
        return Ending(
            EndingReason.ACCUMULATING,
            time,
            f"the event '{stop.event}' happens faster and faster, towards t = {stop.towards:.10g}.",
            "Everything up to there was kept. Let the event change the model where it comes to rest (a parameter as a "
            "mode, with only_if=…), or end the run with stop_after=….",
        )
    if reason is Reason.ACTION_FAILED:
        return Ending(
            EndingReason.NOT_FINITE,
            time,
            f"the event '{stop.event}' gives '{stop.component}' a value that is not finite at {at}.",
            "Look at its then=…: a quotient by zero, the root or logarithm of a number below zero, or an overflow.",
        )
    if reason is Reason.NO_ROOM:
        return Ending(
            EndingReason.TOO_MANY_AT_ONCE,
            time,
            f"more events and switches come together at {at} than there is room for.",
            "Look for events that set off each other, and for known times that all coincide.",
        )
    if reason is Reason.NEGATIVE:
        return Ending(
            EndingReason.BELOW_ZERO,
            time,
            f"the rates lead state '{stop.component}' below zero at {at}, which is said never to be negative.",
            f"Let its rate end where the state is zero, as where({stop.component} > 0, …, 0), or take it out of "
            "never_negative.",
        )
    if reason is Reason.POLE:
        return Ending(EndingReason.NOT_FINITE, time, f"the step from {at} would cross a pole of the equations.",
                      f"{stop.term} Take a smaller step=…, or let the step adapt with rtol=….".strip())  # fmt: skip
    if reason is Reason.NOT_FINITE:
        advice = _not_finite_advice(method, fixed=stop.fixed)
        return Ending(EndingReason.NOT_FINITE, time, _not_finite(stop), stop.term or advice)
    if reason is Reason.NEWTON_FAILED:
        return _not_converged(stop)
    stiff = "" if method.stiff else f" If the solution is smooth there, the problem may be stiff: try {FOR_STIFF}."
    return Ending(
        EndingReason.STEP_TOO_SMALL,
        time,
        f"the step became too small for floating-point times at {at}.",
        stop.term or f"The solution may have a singularity there, or the tolerance cannot be met.{stiff}",
    )


def stiffness(stop: Stop) -> str:
    """Say that stability held steps back, and until when, if it did."""
    if math.isnan(stop.stiff):
        return ""
    steps = f"Its {stop.steps:,} steps" if stop.stiff == stop.time else f"Of its {stop.steps:,} steps many"
    where = "there" if stop.stiff == stop.time else f"up to t = {stop.stiff:.6g} at least"
    return f"{steps} were {HELD_BACK}: the problem is stiff {where}. Try an implicit method, {FOR_STIFF}."


def _collapsed(stop: Stop, stiff: str) -> Ending:
    at, switches = f"t = {stop.time:.10g}", "" if stop.held else " Leave switches=True."
    return Ending(
        EndingReason.COLLAPSED,
        stop.time,
        f"after {stop.steps:,} steps they have become so short at {at} that the rest would take {stop.left:.1g} more.",
        stiff
        or f"State '{stop.term}' changes fastest there. A rate that jumps to and fro does this: write what jumps as "
        f"sign, where, min or max, which are landed on.{switches} So does a state far below its tolerance: give a "
        "larger atol.",
    )


def _out_of_budget(stop: Stop, problem: Problem, stiff: str) -> Ending:
    rest = f"({stop.time:.10g}, {problem.interval[1]:.10g})"
    again = f"raise the budget, or start again from run.final with interval={rest}."
    return Ending(
        EndingReason.BUDGET,
        stop.time,
        f"the budget of {stop.budget} was used up at t = {stop.time:.10g}: incomplete.",
        f"{stiff} Or: {again}" if stiff else again[0].upper() + again[1:],
    )


def _not_converged(stop: Stop) -> Ending:
    advice = (
        "Take a smaller step=…, or let the step adapt with rtol=…."
        if stop.fixed
        else "Look at the equations near this time: a jump, a singularity, or a Jacobian that is singular."
    )
    message = f"Newton's iteration did not converge at t = {stop.time:.10g}."
    return Ending(EndingReason.NEWTON_FAILED, stop.time, message, f"{stop.term} {advice}".strip())


def _not_finite(stop: Stop) -> str:
    what = f"state '{stop.component}' or its rate" if stop.component else "the state or its rate"
    return f"{what} is not finite at t = {stop.bad_time:.10g}; the last good point is t = {stop.time:.10g}."


def _not_finite_advice(method: Method, *, fixed: bool) -> str:
    if fixed:
        other = "" if method.stiff else f", or {FOR_STIFF} if the problem is stiff"
        return f"The fixed step is probably beyond the method's stability: take a smaller one{other}."
    return "The solution may blow up, or leave the domain of a root, logarithm or quotient: check the rates there."
