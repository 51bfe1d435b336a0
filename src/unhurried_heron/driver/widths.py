"""How near to zero the argument of a root counts as zero: within what the tolerances of a run tell apart."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.formulas.expression import Node
from unhurried_heron.problem.pointwise import surroundings

# The width as a share of the effect of the states' absolute tolerances on the argument. Steps that keep the tolerance
# hover above a smaller width (with 1e-4 and 3e-3 some methods never came to rest on random networks of tanks;
# measured).
_SHARE: Final = 0.5
# The same as a share of the largest state, where there is no absolute tolerance.
_MIN: Final = 1e-18
# The smallest width, for states that are all zero.
_SMALLEST: Final = 1e-280


def widths_of(request: RunRequest) -> dict[str, float]:
    """Return the width of each root in the rates of a run, by its name."""
    if request.widths is not None:
        return dict(request.widths)
    problem = request.problem
    roots = problem.model.resting_roots
    if not roots:
        return {}
    start, state = problem.interval[0], problem.start
    around = surroundings(problem, start, state)
    least = _MIN * float(np.abs(state).max(initial=0.0)) + _SMALLEST
    return {root.width: max(_SHARE * _reach(root.argument, request, around), least) for root in roots}


def _reach(argument: Node, request: RunRequest, around: dict[str, Any]) -> float:
    """Return how far the absolute tolerances of the states in a formula move it.

    Parameters
    ----------
    argument : Node
        The formula.
    request : RunRequest
    around : dict of str to float or ndarray
        The value of every name that formulas use.

    Returns
    -------
    float
    """
    here, reach = float(evaluate(argument, around)), 0.0
    for index, name in sorted(request.problem.model.layout.states_in(argument).items()):
        state = around[STATE].copy()
        state[index] += request.absolute[index]
        moved = float(evaluate(argument, {**around, STATE: state, name: state[index]}))
        reach += abs(moved - here) if np.isfinite(moved - here) else 0.0
    return reach
