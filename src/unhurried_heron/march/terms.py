"""Which term of the equations a march failed at: near a pole, the end of a domain, or a quotient 0/0 at the start."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.march.layout import March
from unhurried_heron.native.rows import evaluate_rows
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.quotients import what_to_write, zero_denominator

# a formula that has come down to this share of what it was at the start is near to zero
_NEAR_ZERO: Final = 1e-3


def term_of(problem: Problem, march: March) -> str:
    """Return a sentence on the term of the rates that has no value, or soon none, where a march failed; or nothing."""
    begins = march.last("time") == problem.interval[0]
    if begins and (zero := zero_denominator(problem, problem.interval[0], problem.start)):
        return f"At the start '{zero}' is zero. {what_to_write(zero)}"
    time = march.last("bad_time")
    if not begins and (zero := zero_denominator(problem, time, march.system.trial)):
        return f"At t = {time:.10g} '{zero}' is zero. {what_to_write(zero)}"
    watched: tuple[Any, ...] = problem.model.guards
    if not watched or march.native.guards is None:
        return ""
    refused = march.last("guard")
    if 0 <= refused < len(watched):
        return str(watched[refused].advice)
    rows = np.vstack([problem.start, march.system.state])
    found = np.abs(evaluate_rows(march.native.guards, np.array([problem.interval[0], march.last("time")]), rows))
    if len(found) < 2:
        return ""
    with np.errstate(all="ignore"):
        share = found[1] / np.maximum(found[0], found[1])
    near = int(np.nanargmin(share)) if np.isfinite(share).any() else -1
    close = near >= 0 and (share[near] < _NEAR_ZERO or found[1, near] == 0.0)
    return str(watched[near].advice) if close else ""
