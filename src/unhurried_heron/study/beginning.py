"""Rates and Jacobian at the start of a problem, found without compiling anything."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.formulas.layout import Block, places
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.problem.facts import Facts


def surroundings(problem: Facts, start: Any) -> dict[str, Any]:
    """Return the value of every name that formulas use, at the start."""
    layout = problem.model.layout
    scalars = {name: start[place] for name, place in layout.scalars.items()}
    return {**problem.inputs, **problem.parameters, **scalars, "t": problem.interval[0], STATE: start}


def filled(blocks: tuple[Block, ...], size: int, values: dict[str, Any]) -> Any:
    """Evaluate blocks into an array."""
    out = np.zeros(size)
    for block in blocks:
        strides = dict(zip((loop.index for loop in block.loops), block.strides, strict=True))
        ranges = [np.arange(loop.first, loop.last + 1.0) for loop in block.loops]
        grids = np.meshgrid(*ranges, indexing="ij") if ranges else []
        here = {loop.index: grid.ravel() for loop, grid in zip(block.loops, grids, strict=True)}
        where = places(block.loops, block.base, strides)
        np.add.at(out, where, np.broadcast_to(evaluate(block.node, {**values, **here}), where.shape))
    return out


def rates_at(problem: Facts, start: Any) -> Any:
    """Return the rates at the start, shape (n_states,); a function of the user's is not compiled for it."""
    rates = problem.model.rates
    if not isinstance(rates, NamedFunction):
        return filled(rates, start.size, surroundings(problem, start))
    call = rates.caller([*problem.parameters.values()], interpreted=True)

    def ask(state: Any) -> Any:
        answer = call(problem.interval[0], state)
        ordered = [answer[name] for name in rates.states] if rates.by_name else answer
        return np.asarray(ordered, dtype=np.float64)

    with np.errstate(all="ignore"):
        return ask(start.copy())


def jacobian_at(problem: Facts, start: Any) -> Any:
    """Return d rates / d states, shape (n_states, n_states): symbolic, for a Python function by differences."""
    from unhurried_heron.formulas.differentiate import jacobian

    model, n = problem.model, start.size
    if isinstance(model.rates, NamedFunction):
        return _differences(problem, start)
    return filled(jacobian(model.rates, model.layout), n * n, surroundings(problem, start)).reshape(n, n)


def _differences(problem: Facts, start: Any) -> Any:
    base = rates_at(problem, start)
    matrix = np.empty((start.size, start.size))
    for k in range(start.size):
        moved = start.copy()
        moved[k] += 1.5e-8 * max(abs(start[k]), 1e-6)
        matrix[:, k] = (rates_at(problem, moved) - base) / (moved[k] - start[k])
    return matrix
