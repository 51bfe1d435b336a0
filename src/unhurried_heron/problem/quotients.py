"""Quotients whose denominator is zero somewhere: which one it is, and what to write where it has a limit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, free_names, walk
from unhurried_heron.model.guards import is_bound
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.switch_extraction import text_of
from unhurried_heron.model.unrolling import unrolled
from unhurried_heron.problem.pointwise import surroundings

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


def zero_denominator(problem: Problem, time: float, state: Any) -> str:
    """Return the first denominator in written rates that is zero at a time and state, as a person writes it, or "".

    Parameters
    ----------
    problem : Problem
    time : float
        In the unit of the problem's time.
    state : ndarray, shape (n_states,)

    Returns
    -------
    str
    """
    rates = problem.model.rates
    if not isinstance(rates, WrittenRates):
        return ""
    around = surroundings(problem, time, state)
    for formula in unrolled(rates.indexed_formulas, _divides):
        for node in walk(formula.node) if not formula.loops else ():
            # where a solution slides, its rates hold what is no name of the problem
            known = _divides(node) and not is_bound(node) and free_names(node) <= around.keys()
            if known and float(evaluate(node.operands[1], around)) == 0.0:
                return text_of(node.operands[1], formula, problem.model.layout)
    return ""


def what_to_write(zero: str) -> str:
    """Return the advice for a quotient by a denominator that is zero."""
    return f"Where the quotient by it has a limit, write that, too: where(abs({zero}) > 0, …, limit)."


def _divides(node: Node) -> bool:
    return node.op == "div"
