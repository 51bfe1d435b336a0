"""How often the fastest mode of a large system decays, where a stabilised explicit method does without its factors."""

from __future__ import annotations

import math
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.driver.march import March
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.families.spectrum import TURNS, ritz_values
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem

# A mode decays if it swings or grows by no more than this share of its rate of decay.
_SWINGS: Final = 0.05
# Modes slower than this share of the fastest one need not decay.
_SLOW: Final = 0.05
# Relative change of the state for a difference: near the square root of rounding, where both errors are small.
_NUDGE: Final = 1e-7
# Numbers of the directions that are looked along, so that looking costs little beside a run; of more states there are
# fewer,
_MAX_NUMBERS: Final = 700_000
# but at least so many.
_FEWEST: Final = 8
# States up to which this is examined.
_MAX_STATES: Final = 5_000_000
# Cells across a strip that is as good as a line.
_NARROW: Final = 15
# States from which it is worth a look whether a run should begin with a stabilised method,
_MANY_TO_BEGIN: Final = 20_000
# the smallest tolerance for which its order is not below that of others,
_LOOSE: Final = 1e-6
# the order that it must exceed, so that it costs no more than others,
_ORDER: Final = 2
# decays of the fastest mode beyond which the steps of others will be limited most of the time,
_MANY_DECAYS: Final = 300.0
# and the steps after which their length tells whether it was right.
STEPS_TO_BEGIN: Final = 15.0


def depends_on_time(problem: Problem) -> bool:
    """Whether the rates depend on time, by their formulas or by an input; of functions that is not known."""
    rates = problem.model.rates
    return not isinstance(rates, WrittenRates) or bool(problem.inputs) or TIME in rates.names()


def decays_left(problem: Problem, march: March) -> float:
    """Return how often the fastest mode of written rates decays until the end; infinite where a fast one does not."""
    if not isinstance(problem.model.rates, WrittenRates) or march.system.n > _MAX_STATES:
        return math.inf
    n, state, control = march.system.n, march.system.state.copy(), march.control
    time, end = march.last("time"), problem.interval[1]
    size = float(np.linalg.norm(state)) or 1.0
    here: Any = evaluate_rows(march.native.rates, np.array([time]), state[None])[0]
    count = 1

    def applied(direction: Array) -> Array:
        nonlocal count
        count += 1
        moved = state + _NUDGE * size * direction
        found: Array = (evaluate_rows(march.native.rates, np.array([time]), moved[None])[0] - here) / (_NUDGE * size)
        return found

    values = np.sign(end - time) * ritz_values(applied, n, max(_FEWEST, min(TURNS, _MAX_NUMBERS // n)))
    control["rate_evaluations"] += count
    control["for_estimates"] += count
    fastest = float(np.abs(values).max(initial=0.0))
    fast = values[np.abs(values) > _SLOW * fastest]
    decays = bool((fast.real < 0.0).all() and (np.abs(fast.imag) <= _SWINGS * np.abs(fast.real)).all())
    return fastest * abs(end - time) if decays else math.inf


def decays_at_start(request: RunRequest, march: March) -> float | None:
    """Return how often the fastest mode of a large system will decay, None where a run does not begin stabilised.

    Parameters
    ----------
    request : RunRequest
    march : March
        Of a method that chooses.

    Returns
    -------
    float or None
    """
    chosen: Any = request.method
    rtol = float(request.relative.min(where=request.relative > 0.0, initial=1.0))
    named = request.linear is not None or request.preconditioner is not None
    if march.system.n < _MANY_TO_BEGIN or rtol < _LOOSE or named:
        return None
    if depends_on_time(request.problem) or not _over_areas(request.problem):
        return None
    decays = decays_left(request.problem, march)
    found = chosen.of_decays(rtol, decays, in_time=False)
    fits = found is not None and found.order > _ORDER and decays >= _MANY_DECAYS
    return decays if fits else None


def _over_areas(problem: Problem) -> bool:
    """Whether states stand in the cells of an area or a volume, which no order of unknowns makes a narrow band."""
    extents = [sorted(group.value_shape) for group in problem.model.layout.indexed]
    return any(len(extent) > 1 and extent[-2] > _NARROW for extent in extents)
