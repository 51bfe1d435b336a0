"""Parameters and starting values whose formulas name others: which of them change with these."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import TYPE_CHECKING

from unhurried_heron.arrays import BoolArray
from unhurried_heron.formulas.source import Formula
from unhurried_heron.input.definitions import Definition
from unhurried_heron.input.names import in_order
from unhurried_heron.input.starting_values import told_by
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.model import Model
from unhurried_heron.problem.consistent_rows import constraint_rows

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


def starts_follow(definitions: Collection[str], model: Model) -> bool:
    """Whether constraints make starting values of others, or are held against values that were given.

    Parameters
    ----------
    definitions : collection of str
        The names that were given a value.
    model : Model

    Returns
    -------
    bool
    """
    made = model.made_by(Constraints)
    return made is not None and (made.ties_starts or not made.solved.keys().isdisjoint(definitions))


def starts_of_members(problem: Problem, moved: Collection[str]) -> bool:
    """Whether the starting values that constraints tell can be found for all members of a sweep at once.

    Parameters
    ----------
    problem : Problem
    moved : collection of str
        The parameters in which they differ.

    Returns
    -------
    bool
    """
    model, definitions = problem.model, problem.assembled.definitions
    made = model.made_by(Constraints)
    follow = formulas_that_follow(definitions, moved, model)
    if follow is None or not follow.keys() <= {*model.parameters} or problem.user_input.guess:
        return False
    if made is not None and not made.solved.keys().isdisjoint(definitions):
        return False
    return constraint_rows(model, free_starts(problem)) is not None


def free_starts(problem: Problem) -> BoolArray:
    """Return which states were given no starting value, shape (n_states,)."""
    found: BoolArray = ~told_by(problem.user_input.initial, problem.model.layout)
    return found


def formulas_that_follow(
    definitions: Mapping[str, Definition], moved: Collection[str], model: Model
) -> dict[str, Formula] | None:
    """Return the formulas that name parameters which are given other values, each after those that it needs.

    Parameters
    ----------
    definitions : mapping of str to Definition
        Of parameters and starting values.
    moved : collection of str
        The parameters that are given other values.
    model : Model

    Returns
    -------
    dict of str to Formula, or None
        None where a whole indexed state, parts of a complex one, or the structure of the problem follow from them.
    """
    formulas = {name: each.formula for name, each in definitions.items() if each.formula and name not in moved}
    if model.sizes.keys() & set(moved):
        return None
    if not formulas:
        return {}
    parameters = {*model.parameters}
    first = in_order({name: each.node for name, each in formulas.items() if name in parameters}, "parameters")
    moving, found = {*moved}, dict[str, Formula]()
    for name in [*first, *(name for name in formulas if name not in parameters)]:
        if moving.isdisjoint(formulas[name].mentions):
            continue
        whole = name not in parameters and name not in model.layout.scalars
        if whole or name in model.sizes or model.layout.has_complex:
            return None
        found[name] = formulas[name]
        moving |= {name} & parameters
    return found
