"""Rates and Jacobian at the start of a problem, found without compiling anything."""

from __future__ import annotations

from typing import Any

from unhurried_heron.formulas.evaluate import STATE
from unhurried_heron.problem.facts import Facts


def surroundings(problem: Facts, start: Any) -> dict[str, Any]:
    """Return the value of every name that formulas use, at the start."""
    layout = problem.model.layout
    scalars = {name: start[place] for name, place in layout.scalars.items()}
    return {**problem.inputs, **problem.parameters, **scalars, "t": problem.interval[0], STATE: start}


def rates_at(problem: Facts, start: Any) -> Any:
    """Return the rates at the start, shape (n_states,)."""
    return problem.model.rates.at(problem.interval[0], start, surroundings(problem, start))


def jacobian_at(problem: Facts, start: Any) -> Any:
    """Return d rates / d states, shape (n_states, n_states): symbolic, for a Python function by differences."""
    return problem.model.rates.jacobian_at(problem.interval[0], start, surroundings(problem, start))
