"""A problem with some values changed."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from unhurried_heron.errors import ProblemWarning, UnusedValueError, listing, near_spelling
from unhurried_heron.input.problem_input import ProblemInput, as_tuple, by_name, refuse_unnamed
from unhurried_heron.problem.assembly import AssembledProblem, exchange_values, merged_initial, reassemble
from unhurried_heron.quiet import QUIET
from unhurried_heron.units.quantities import keep_kinds

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


def changed(
    problem: Problem, new: Mapping[str, Mapping[str, Any] | None], **words: Any
) -> tuple[ProblemInput, AssembledProblem]:
    """Return the words and what they come to, with other values.

    Parameters
    ----------
    problem : Problem
    new : mapping
        ``parameters`` and ``initial``, by name, where they change.
    **words
        Of the rest of what was said, what is not None.

    Returns
    -------
    tuple[ProblemInput, AssembledProblem]

    Raises
    ------
    UnusedValueError
        A name is no parameter or no state.
    """
    user_input = problem.user_input
    refuse_unnamed(new, "with_")
    parameters, initial = by_name(new["parameters"]), by_name(new["initial"])
    for name in parameters:
        if name not in problem.model.parameters:
            known = problem.model.parameters
            raise UnusedValueError(
                f"there is no parameter '{name}'{near_spelling(str(name), known)}",
                name=str(name),
                location="with_, parameters",
                expected="one of " + (listing(known) or "none"),
                given=str(name),
            )
    given: dict[str, Any] = {key: value for key, value in words.items() if value is not None}
    given |= {key: as_tuple(given[key], key) for key in ("events", "conserved", "never_negative") if key in given}
    again = replace(
        user_input,
        parameters={**by_name(user_input.parameters), **parameters},
        initial=merged_initial(user_input.initial, new["initial"]),
        **given,
    )
    plain = None if given else exchange_values(user_input, problem.assembled, parameters, initial)
    if plain:
        return again, plain
    again, assembled, dropped = reassemble(again, problem.assembled)
    for name, (begins, start) in [] if QUIET.get() else dropped.items():
        warnings.warn(
            f"the closed form of '{name}' begins with {begins:.6g} and not with {start:.6g}: it was dropped, and "
            f"errors are not measured against it. (It may name the starting value: {name}_0.)",
            ProblemWarning,
            stacklevel=3,
        )
    keep_kinds(problem.units, assembled.units, {**parameters, **initial})
    return again, assembled
