"""Why runs ended, in sentences, and what to try: the one place where this is said."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import zip_longest
from typing import TYPE_CHECKING, Final

from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.problem.quotients import what_to_write
from unhurried_heron.text.ending_facts import Cause, CauseKind, Leaps, QuietStates, StabilityLimit, Stop
from unhurried_heron.text.numbers import counted

if TYPE_CHECKING:
    from unhurried_heron.methods.method import Method
    from unhurried_heron.problem.problem import Problem

# Stiff intervals that a sentence lists.
_MAX_INTERVALS: Final = 4
_END_EARLIER: Final = "End the run earlier, or stop it by an event."
_SHORTER_STEP: Final = "Take a smaller step=…, or let the step adapt with rtol=…."


def message_of(stop: Stop) -> str:
    """Return a sentence on why and where a march stopped."""
    at = f"t = {stop.time:.10g}"
    if stop.interrupted:
        return f"interrupted at {at}: incomplete."
    return _MESSAGES[stop.reason](stop, at)


_MESSAGES: Final[dict[Reason, Callable[[Stop, str], str]]] = {
    Reason.REACHED_END: lambda stop, at: f"reached the end, {at}.",
    Reason.EVENT: lambda stop, at: f"stopped by the event '{stop.event}' at {at}.",
    Reason.PAUSED: lambda stop, at: f"the budget of {stop.budget} was used up at {at}: incomplete.",
    Reason.COLLAPSED: lambda stop, at: (
        f"after {stop.steps:,} steps they have become so short at {at} that the rest would take {stop.left:.1g} more."
    ),
    Reason.SWITCHING: lambda stop, at: f"the {stop.switch} goes back and forth without end at {at}.",
    Reason.ACCUMULATING: lambda stop, at: (
        f"the event '{stop.event}' happens faster and faster, towards t = {stop.towards:.10g}."
    ),
    Reason.ACTION_FAILED: lambda stop, at: (
        f"the event '{stop.event}' gives '{stop.component}' a value that is not finite at {at}."
    ),
    Reason.NO_ROOM: lambda stop, at: f"more events and switches come together at {at} than there is room for.",
    Reason.NEGATIVE: lambda stop, at: (
        f"the rates lead state '{stop.component}' below zero at {at}, which is said never to be negative."
    ),
    Reason.POLE: lambda stop, at: f"the step from {at} would cross a pole of the equations.",
    Reason.NOT_FINITE: lambda stop, at: (
        f"{_component(stop)} is not finite at t = {stop.bad_time:.10g}; the last good point is {at}."
    ),
    Reason.NEWTON_FAILED: lambda stop, at: f"Newton's iteration did not converge at {at}.",
    Reason.STEP_TOO_SMALL: lambda stop, at: f"the step became too small for floating-point times at {at}.",
}


def _component(stop: Stop) -> str:
    return f"state '{stop.component}' or its rate" if stop.component else "the state or its rate"


def advice_of(stop: Stop, problem: Problem, method: Method) -> str:
    """Return what to try, or to know of the values; empty where there is nothing to say.

    Parameters
    ----------
    stop : Stop
    problem : Problem
        The one that was integrated, for the interval that is left.
    method : Method
        The one that marched, for advice on others.

    Returns
    -------
    str
    """
    limit = stability_limit(stop.limit)
    if stop.interrupted:
        return f"The solution up to t = {stop.time:.10g} was kept. {limit}".rstrip()
    if stop.reason in (Reason.REACHED_END, Reason.EVENT):
        return " ".join(filter(None, (limit, noise(stop.noise))))
    if stop.reason is Reason.PAUSED:
        rest = f"({stop.time:.10g}, {problem.interval[1]:.10g})"
        again = f"raise the budget, or start again from run.final with interval={rest}."
        return f"{limit} Or: {again}" if limit else again[0].upper() + again[1:]
    if stop.reason is Reason.COLLAPSED:
        return limit or _on_collapse(stop)
    if stop.reason is Reason.NEGATIVE:
        return (
            f"Let its rate end where the state is zero, as where({stop.component} > 0, …, 0), or take it out of "
            "never_negative."
        )
    if stop.reason in _ADVICE:
        return _ADVICE[stop.reason]
    return _on_failure(stop, method)


_ADVICE: Final = {
    Reason.SWITCHING: (
        "Both sides of it lead back to it. Give it two levels (open above one, shut below another), or smooth it."
    ),
    Reason.ACCUMULATING: (
        "Everything up to there was kept. Let the event change the model where it comes to rest (a parameter as a "
        "mode, with only_if=…), or end the run with stop_after=…."
    ),
    Reason.ACTION_FAILED: (
        "Look at its then=…: a quotient by zero, the root or logarithm of a number below zero, or an overflow."
    ),
    Reason.NO_ROOM: "Look for events that set off each other, and for known times that all coincide.",
}


def _on_collapse(stop: Stop) -> str:
    switches = "" if stop.held else " Leave switches=True."
    return (
        f"State '{stop.fastest}' changes fastest there. A rate that jumps to and fro does this: write what jumps as "
        f"sign, where, min or max, which are landed on.{switches} So does a state far below its tolerance: give a "
        "larger atol."
    )


def _on_failure(stop: Stop, method: Method) -> str:
    """Return advice where steps failed: what was seen, or else what usually is the reason."""
    cause = "" if stop.cause is None else cause_of_failure(stop.cause)
    if stop.reason is Reason.POLE:
        return f"{cause} {_SHORTER_STEP}".strip()
    if stop.reason is Reason.NEWTON_FAILED:
        look = "Look at the equations near this time: a jump, a singularity, or a Jacobian that is singular."
        return f"{cause} {_SHORTER_STEP if stop.fixed else look}".strip()
    if cause:
        return cause
    if stop.reason is Reason.STEP_TOO_SMALL:
        stiff = "" if method.stiff else f" If the solution is smooth there, the problem may be stiff: try {FOR_STIFF}."
        return f"The solution may have a singularity there, or the tolerance cannot be met.{stiff}"
    if stop.fixed:
        other = "" if method.stiff else f", or {FOR_STIFF} if the problem is stiff"
        return f"The fixed step is probably beyond the method's stability: take a smaller one{other}."
    return "The solution may blow up, or leave the domain of a root, logarithm or quotient: check the rates there."


def cause_of_failure(cause: Cause) -> str:
    """Return a sentence on what was seen where a march failed."""
    at, name = f"t = {cause.time:.6g}", cause.name
    if cause.kind is CauseKind.ZERO_AT_START:
        return f"At the start '{name}' is zero. {what_to_write(name)}"
    if cause.kind is CauseKind.ZERO:
        return f"At t = {cause.time:.10g} '{name}' is zero. {what_to_write(name)}"
    if cause.kind is CauseKind.STATE_UNBOUNDED:
        size, before = cause.values
        return (
            f"State '{name}' leaves all bounds towards {at}: its size is {size:.3g} there, and was at most "
            f"{before:.3g} until shortly before. {_END_EARLIER}"
        )
    if cause.kind is CauseKind.TIMES_TOO_COARSE:
        spacing, within = cause.values
        return (
            f"Neighbouring floating-point times are {spacing:.3g} apart there, state '{name}' changes within "
            f"{within:.3g}: count the time from the beginning of the interval."
        )
    if cause.kind is CauseKind.RATE_UNBOUNDED:
        return (
            f"The rate of state '{name}' leaves all bounds towards {at}: it is {cause.values[0]:.3g} there. "
            f"{_END_EARLIER}"
        )
    return name


def stability_limit(limit: StabilityLimit | None) -> str:
    """Return a sentence on the stability limit of a run, and until when it held; empty where it did not."""
    if limit is None:
        return ""
    to_the_end = limit.until == limit.time
    steps = f"Its {limit.steps:,} steps" if to_the_end else f"Of its {limit.steps:,} steps many"
    what = "the explicit part of the rates" if limit.explicit else "the problem"
    marks = "Mark more terms as implicit(…), or t" if limit.explicit else "T"
    where = "there" if to_the_end else f"up to t = {limit.until:.6g} at least"
    return (
        f"{steps} were limited by stability and not by accuracy: {what} is stiff {where}. {marks}ry an implicit "
        f"method, {FOR_STIFF}."
    )


def noise(found: QuietStates | Leaps | None) -> str:
    """Return a sentence on values that are doubtful; empty for None."""
    if found is None:
        return ""
    if isinstance(found, Leaps):
        steps = "one step" if found.steps == 1 else f"{found.steps:,} steps"
        return (
            f"In {steps}, first at t = {found.time:.6g}, the equations of the step had no root that continues the "
            "solution, and another was taken: the step is too long there, or the solution leaps."
        )
    names = ", ".join(f"'{name}'" for name in found.names) + " and others" * found.more
    seen = "at the recorded times " if found.recorded else ""
    return (
        f"{names} never came above ten times {'their' if found.several else 'its'} absolute tolerance {seen}(at most "
        f"{found.largest:.2g}, atol {found.absolute:.2g}): little or nothing of these values is certain. "
        "Give a smaller atol=…, by name where states differ in size."
    )


def selection_among_orders(steps: Sequence[tuple[str, int]]) -> str:
    """Return a sentence on which orders of a method took how many steps; empty for no steps."""
    return f"took {_taken(steps)}: more stages where the iteration converged well." if steps else ""


def selection_by_stiffness(steps: Sequence[tuple[str, int]], times: Sequence[float], changes: int) -> str:
    """Return a sentence on which of a non-stiff and a stiff method took how many steps, and when; empty for no steps.

    Parameters
    ----------
    steps : sequence of (str, int)
        Methods by name, with their steps.
    times : sequence of float
        When the method changed, as far as these times were kept.
    changes : int
        How often it changed.

    Returns
    -------
    str
    """
    if not changes:
        return f"took {_taken(steps)}: stability did not limit them." if steps else ""
    texts = [f"{time:.4g}" for time in times]
    intervals = [
        f"from t = {a}" + (f" to {b}" if b else "") for a, b in zip_longest(texts[::2], texts[1::2], fillvalue="")
    ]
    more = " …" if changes > len(texts) or len(intervals) > _MAX_INTERVALS else ""
    return f"took {_taken(steps)}: stiff {', '.join(intervals[:_MAX_INTERVALS])}{more}."


def _taken(steps: Sequence[tuple[str, int]]) -> str:
    return " and ".join(f"{name} for {counted(count, 'step')}" for name, count in steps)
