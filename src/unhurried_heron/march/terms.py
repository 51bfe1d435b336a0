"""Which term of the equations a march failed at: near a pole, the end of a domain, or a quotient 0/0 at the start."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.as_text import to_text
from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.formulas.expression import walk
from unhurried_heron.march.layout import March
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.native.rows import evaluate_rows
from unhurried_heron.problem.problem import Problem

# a formula that has come down to this share of what it was at the start is near to zero
_NEAR_ZERO: Final = 1e-3


def term_of(problem: Problem, march: March) -> str:
    """Return a sentence on the term of the rates that has no value, or soon none, where a march failed; or nothing."""
    if march.last("time") == problem.interval[0] and (zero := _zero_at_start(problem)):
        return (
            f"At the start '{zero}' is zero. Where the quotient by it has a limit, write that, too: "
            f"where(abs({zero}) > 0, …, limit)."
        )
    watched: tuple[Any, ...] = problem.model.guards
    if not watched or march.native.guards is None:
        return ""
    refused = march.last("guard")
    if refused >= 0:
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


def _zero_at_start(problem: Problem) -> str:
    """Return the first denominator in written rates that is zero at the start, in words; empty where there is none."""
    rates = problem.model.rates
    if not isinstance(rates, WrittenRates):
        return ""
    scalars = {name: problem.start[place] for name, place in problem.model.layout.scalars.items()}
    around = {**problem.inputs, **problem.parameters, **scalars, "t": problem.interval[0], STATE: problem.start}
    for block in rates.blocks:
        for node in walk(block.node) if not block.loops and not block.node.has_family else ():
            if node.op == "div" and float(evaluate(node.operands[1], around)) == 0.0:
                return to_text(node.operands[1])
    return ""
