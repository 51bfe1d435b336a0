"""A problem with some of what was said changed."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from unhurried_heron.errors import ProblemWarning, UnusedValueError, listing, near_spelling
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.input_field import by_name
from unhurried_heron.input.problem_input import (
    FIELDS,
    ProblemInput,
    argument_of,
    by_field,
    changes_of,
    refuse_unnamed,
)
from unhurried_heron.input.starting_values import initial_key
from unhurried_heron.problem.assembly import AssembledProblem, merged_initial, reassemble
from unhurried_heron.problem.exchange import exchange_values
from unhurried_heron.quiet import QUIET
from unhurried_heron.units.quantities import keep_kinds

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# What a change of leaves the units as they were held to each other.
_VALUES = {"parameters", "initial", "interval"}


def changed(problem: Problem, changes: Mapping[str, Any]) -> tuple[ProblemInput, AssembledProblem, bool]:
    """Return the words and what they come to, with some of them changed.

    Parameters
    ----------
    problem : Problem
    changes : mapping of str to object
        By the arguments of the constructor; None leaves what it was.

    Returns
    -------
    (ProblemInput, AssembledProblem, bool)
        The words, what they come to, and whether units have to be held to each other again.

    Raises
    ------
    UnusedValueError
        A name is no parameter or no state.
    ValueGivenError
        An argument is none of such a problem, or of another kind.
    """
    user_input = problem.user_input
    given = by_field(changes, changes_of(user_input.form), "with_")
    given = {name: value for name, value in given.items() if value is not None}
    refuse_unnamed({name: value for name, value in given.items() if FIELDS[name].change == "names"}, "with_")
    parameters, initial = by_name(given.get("parameters")), by_name(given.get("initial"))
    _refuse_unknown(parameters, problem, changes)
    merged = {name: _merged(user_input, name, value) for name, value in given.items()}
    kept = {} if "units" in given else _units_kept(problem, given)
    if kept:
        merged["units"] = {**user_input.units, **kept}
    again = replace(user_input, **merged)
    if given.keys() <= {"parameters", "initial"}:
        plain = exchange_values(user_input, problem.assembled, parameters, initial)
        if plain:
            return again, plain, False
    again, assembled, dropped = reassemble(again, problem.assembled, given)
    for name, (begins, start) in [] if QUIET.get() else dropped.items():
        warnings.warn(
            f"the closed form of '{name}' begins with {begins:.6g} and not with {start:.6g}: it was dropped, and "
            f"errors are not measured against it. (It may name the starting value: {name}_0.)",
            ProblemWarning,
            stacklevel=3,
        )
    if "units" not in given:
        keep_kinds(problem.units, assembled.units, {**parameters, **initial})
    return again, assembled, not given.keys() <= _VALUES


def _units_kept(problem: Problem, given: Mapping[str, Any]) -> dict[str, str]:
    """Return the units that quantities had which are given again as plain numbers: they stay what they were.

    Parameters
    ----------
    problem : Problem
    given : mapping of str to object
        What is changed, by field.

    Returns
    -------
    dict of str to str
        Units that were not declared by themselves, by name.
    """
    known, declared, definitions = problem.assembled.units, problem.user_input.units, problem.assembled.definitions
    names = [*by_name(given.get("parameters")), *map(initial_key, map(str, given.get("initial") or ()))]
    found = {group_of(name): known.get(group_of(name), "") for name in names
            if name in definitions and definitions[name].unit}  # fmt: skip
    if "interval" in given and any(isinstance(end, str) for end in problem.user_input.interval):
        found[TIME] = known.get(TIME, "")
    return {name: unit for name, unit in found.items() if unit and name not in declared}


def _merged(user_input: ProblemInput, name: str, value: Any) -> Any:
    """Return the value of a field after a change: single names changed, or all of it.

    Parameters
    ----------
    user_input : ProblemInput
    name : str
        Of the field.
    value : object
        What was given.

    Returns
    -------
    object
    """
    before, known = getattr(user_input, name), FIELDS[name]
    if name == "initial":
        return merged_initial(before, value)
    if known.change == "whole":
        return known.kind.shaped(value, argument_of(name, user_input.form))
    found = {**by_name(before), **by_name(value)}
    # an open parameter has no value; any other name without one is taken away
    return found if name == "parameters" else {key: each for key, each in found.items() if each is not None}


def _refuse_unknown(parameters: Mapping[str, Any], problem: Problem, changes: Mapping[str, Any]) -> None:
    """Refuse values of parameters that a problem does not have, and that its other changes do not bring.

    Parameters
    ----------
    parameters : mapping of str to object
    problem : Problem
    changes : mapping of str to object

    Raises
    ------
    UnusedValueError
    """
    known = problem.model.parameters
    for name in parameters:
        if name not in known and changes.keys() <= _VALUES:
            raise UnusedValueError(
                f"there is no parameter '{name}'{near_spelling(str(name), known)}",
                name=str(name),
                location="with_, parameters",
                expected="one of " + (listing(known) or "none"),
                given=str(name),
            )
