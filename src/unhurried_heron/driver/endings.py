"""From the reason of a kernel, an integer, to an `Ending`."""

from __future__ import annotations

from typing import Final

from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, EndingReason
from unhurried_heron.text.ending_facts import Stop
from unhurried_heron.text.endings import advice_of, message_of

_REASONS: Final = {
    Reason.REACHED_END: EndingReason.END,
    Reason.EVENT: EndingReason.EVENT,
    Reason.PAUSED: EndingReason.BUDGET,
    Reason.COLLAPSED: EndingReason.COLLAPSED,
    Reason.SWITCHING: EndingReason.SWITCHING,
    Reason.ACCUMULATING: EndingReason.ACCUMULATING,
    Reason.ACTION_FAILED: EndingReason.NOT_FINITE,
    Reason.NO_ROOM: EndingReason.TOO_MANY_AT_ONCE,
    Reason.NEGATIVE: EndingReason.BELOW_ZERO,
    Reason.POLE: EndingReason.NOT_FINITE,
    Reason.NOT_FINITE: EndingReason.NOT_FINITE,
    Reason.NEWTON_FAILED: EndingReason.NEWTON_FAILED,
    Reason.STEP_TOO_SMALL: EndingReason.STEP_TOO_SMALL,
}


def ending_of(stop: Stop, problem: Problem, method: Method) -> Ending:
    """Return the ending of a run, with its message and advice.

    Parameters
    ----------
    stop : Stop
    problem : Problem
        The one that was integrated, for the interval that is left.
    method : Method
        The one that marched, for advice on others.

    Returns
    -------
    Ending
    """
    reason = EndingReason.INTERRUPTED if stop.interrupted else _REASONS[stop.reason]
    until = None if stop.limit is None else stop.limit.until
    return Ending(reason, stop.time, message_of(stop), advice_of(stop, problem, method), until)
