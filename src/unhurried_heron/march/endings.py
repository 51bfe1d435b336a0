"""Turning a kernel's integer reason into an `Ending` in the user's words: the one place where this is done."""

from __future__ import annotations

from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending


def ending_of(reason: Reason, time: float, problem: Problem, method: Method, details: dict[str, object]) -> Ending:
    """Return the ending that belongs to a reason.

    Parameters
    ----------
    details : dict
        ``event`` (name), ``budget`` (which one was used up), ``interrupted``, ``component`` (name of the first state
        that is not finite, or empty), ``bad_time``, ``fixed``.
    """
    end = problem.interval[1]
    at = f"t = {time:.10g}"
    if details.get("interrupted"):
        return Ending("interrupted", time, f"interrupted at {at}: incomplete.", f"The solution up to {at} was kept.")
    noise = str(details.get("noise") or "")
    stiff = (
        f"Its {details.get('steps'):,} steps were held back by stability and not by accuracy: the problem is stiff "
        f"there. Try an implicit method, {FOR_STIFF}."
        if details.get("stiff")
        else ""
    )
    if reason is Reason.REACHED_END:
        return Ending("end", time, f"reached the end, {at}.", " ".join(filter(None, (stiff, noise))))
    if reason is Reason.EVENT:
        advice = " ".join(filter(None, (stiff, noise)))
        return Ending("event", time, f"stopped by the event '{details['event']}' at {at}.", advice)
    if reason is Reason.PAUSED:
        again = f"Raise the budget, or start again from run.final with interval=({time:.10g}, {end:.10g})."
        return Ending(
            "budget",
            time,
            f"the budget of {details['budget']} was used up at {at}: incomplete.",
            f"{stiff} Or: {again[0].lower()}{again[1:]}" if stiff else again,
        )
    if reason is Reason.SWITCHING:
        return Ending(
            "switching",
            time,
            f"the switch '{details['switch']}' goes back and forth without end at {at}.",
            "Both sides of it lead back to it. Give it two levels (open above one, shut below another), or smooth it.",
        )
    if reason is Reason.NOT_FINITE:
        return Ending("not finite", time, _not_finite(time, details), _not_finite_advice(method, details))
    if reason is Reason.NEWTON_FAILED:
        advice = (
            "Take a smaller step=…, or let the step adapt with rtol=…."
            if details.get("fixed")
            else "Look at the equations near this time: a jump, a singularity, or a Jacobian that is singular."
        )
        return Ending("Newton failed", time, f"Newton's iteration did not converge at {at}.", advice)
    stiff = "" if method.stiff else f" If the solution is smooth there, the problem may be stiff: try {FOR_STIFF}."
    return Ending(
        "step too small",
        time,
        f"the step became too small for floating-point times at {at}.",
        f"The solution may have a singularity there, or the tolerance cannot be met.{stiff}",
    )


def _not_finite(time: float, details: dict[str, object]) -> str:
    component = details.get("component")
    where = f"state '{component}' or its rate" if component else "the state or its rate"
    return f"{where} is not finite at t = {details['bad_time']:.10g}; the last good point is t = {time:.10g}."


def _not_finite_advice(method: Method, details: dict[str, object]) -> str:
    if details.get("fixed"):
        other = "" if method.stiff else f", or {FOR_STIFF} if the problem is stiff"
        return f"The fixed step is probably beyond the method's stability: take a smaller one{other}."
    return "The solution may blow up, or leave the domain of a root, logarithm or quotient: check the rates there."
