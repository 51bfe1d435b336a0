"""Plain numbers exchanged for plain numbers: the short way to a changed copy of a problem."""

from __future__ import annotations

import sys
from collections.abc import Collection, Mapping
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.layout import Values
from unhurried_heron.input.definitions import Definition
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.model import Model
from unhurried_heron.problem.assembly import AssembledProblem
from unhurried_heron.problem.following import formulas_that_follow, starts_follow


def exchange_values(
    user_input: ProblemInput, before: AssembledProblem, parameters: Mapping[str, Any], initial: Mapping[str, Any]
) -> AssembledProblem | None:
    """Exchange plain numbers for plain numbers, with the values that follow from them; None where more may change.

    This is what a loop over runs does thousands of times.

    Parameters
    ----------
    user_input : ProblemInput
    before : AssembledProblem
    parameters : mapping of str to object
        Other values, by name.
    initial : mapping of str to object
        Other starting values, by name.

    Returns
    -------
    AssembledProblem or None
    """
    model = before.model
    if (
        before.open
        or model.exact
        or starts_follow(before.definitions, model)
        or user_input.guess
        or any(event.called for event in user_input.events)
    ):
        return None
    values, start, definitions = dict(before.values), before.initial.array.copy(), dict(before.definitions)
    for name, value in parameters.items():
        if not (_is_plain(value) and _is_plain(user_input.parameters.get(name))) or name in model.sizes:
            return None
        values[name] = float(value)
        definitions[name] = Definition(values[name])
    for name, value in initial.items():
        if not (_is_plain(value) and _is_plain(user_input.initial.get(name)) and name in model.layout.scalars):
            return None
        start[model.layout.scalars[name]] = float(value)
        definitions[name] = Definition(float(value))
    if parameters and not _let_follow(definitions, parameters, values, start, model):
        return None
    return AssembledProblem(model, values, (), Values(model.layout, start), before.interval, before.units, definitions)


def _let_follow(
    definitions: Mapping[str, Definition],
    moved: Collection[str],
    values: dict[str, float],
    start: Array,
    model: Model,
) -> bool:
    """Compute the parameters and starting values whose formulas name others that moved; False where more may change.

    Parameters
    ----------
    definitions : mapping of str to Definition
    moved : collection of str
        Parameters.
    values : dict of str to float
        Of the parameters; those that follow are written.
    start : ndarray, shape (n_states,)
        Starting values; those that follow are written.
    model : Model

    Returns
    -------
    bool
    """
    follow = formulas_that_follow(definitions, moved, model)
    for name, formula in (follow or {}).items():
        found = float(evaluate(formula.node, values))
        if not np.isfinite(found):
            return False
        if name in values:
            values[name] = found
        else:
            start[model.layout.scalars[name]] = found
    return follow is not None


def _is_plain(value: Any) -> bool:
    return type(value) in (int, float) and abs(value) <= sys.float_info.max
