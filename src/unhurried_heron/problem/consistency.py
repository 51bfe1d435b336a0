"""States at which the constraints of a problem hold, near to others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.differentiated import differentiated
from unhurried_heron.model.mass_matrix import MassMatrix

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# The number of states up to which this is worth full matrices.
_MAX_STATES: Final = 1000
# The number of states up to which the index is looked at.
_MAX_RANKED: Final = 300
# The share of the largest singular value below which a matrix is singular: Jacobians by differences have eight digits.
_SINGULAR: Final = 1e-7
# Newton's iterations,
_TURNS: Final = 20
# which end where a correction is below this share of the largest state.
_ROUNDED: Final = 4 * float(np.finfo(float).eps)


def refuse_higher_index(problem: Problem) -> None:
    """Refuse constraints that do not determine the states whose rates M leaves open.

    Looked at once for all changed copies of a problem, at the start of the first, with up to `_MAX_RANKED` states.

    Raises
    ------
    UnfitProblemError
    """
    mass, n = problem.model.mass, problem.start.size
    if mass is not None and n <= _MAX_RANKED and mass.constraints(n):
        problem.model.remembered(("index",), lambda: _refuse_higher_index(problem, mass))


def _rows(problem: Problem, state: Array, mass: MassMatrix) -> Array:
    """Return the rows of M and, of constraints, those of the Jacobian at the start, shape (n_states, n_states).

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    mass : MassMatrix

    Returns
    -------
    ndarray
    """
    held = mass.sizes(state.size) == 0.0
    return np.where(held[:, None], problem.jacobian_at(problem.interval[0], state), mass.full(state.size))


def _refuse_higher_index(problem: Problem, mass: MassMatrix) -> None:
    rows = _rows(problem, problem.start, mass)
    sizes = np.abs(rows).max(axis=1, keepdims=True)
    if np.isfinite(rows).all():
        _, values, directions = np.linalg.svd(rows / np.where(sizes > 0.0, sizes, 1.0))
        if values[-1] <= _SINGULAR * values[0]:
            name = problem.model.layout.names[int(np.argmax(np.abs(directions[-1])))]
            raise UnfitProblemError(
                f"the constraints do not determine '{name}': the problem is of an index above 1",
                name=name,
                location="mass",
                expected="constraints that can be solved for the states whose rates rows of zeros leave open;"
                " differentiate a constraint of the other states by the time",
                given="a singular matrix of the rows of M and of the Jacobian of the constraints at t = "
                f"{problem.interval[0]:g}",
            )


def with_rates_for_all(problem: Problem) -> Problem | None:
    """Return a problem whose algebraic states have rates; None where these cannot be written."""
    model = problem.model.remembered(("differentiated",), lambda: differentiated(problem.model))
    if model is None:
        return None
    return type(problem)(problem.user_input, replace(problem.assembled, model=model))


def beginning_near(problem: Problem, state: Array, parameters: Mapping[str, float]) -> Problem:
    """Return a problem with other parameters that begins near to a state, where its constraints hold.

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    parameters : mapping of str to float

    Returns
    -------
    Problem

    Raises
    ------
    ConstraintError
        There is no such state.
    """
    values = dict(zip(problem.states, state.tolist(), strict=True))
    if problem.model.made_by(Constraints) is None:
        other = problem.with_(initial=values, parameters=parameters)
        held = _consistent_near(other, state)
        if held is state:
            return other
        return other.with_(initial=dict(zip(problem.states, held.tolist(), strict=True)))
    before = problem.user_input
    near = replace(before, initial={}, guess=values, parameters={**(before.parameters or {}), **parameters},
                   units=dict(problem.units))  # fmt: skip
    return type(problem).of(near, problem.model)


def _consistent_near(problem: Problem, state: Array) -> Array:
    """Return the state, shape (n_states,), at which constraints hold at the start and M y is that of ``state``.

    As it is without constraints, and where Newton's iteration finds none.
    """
    mass, n = problem.model.mass, state.size
    if mass is None or n > _MAX_STATES or not mass.constraints(n):
        return state
    found, held, full = state.copy(), mass.sizes(n) == 0.0, mass.full(n)
    for _ in range(_TURNS):
        missed = np.where(held, problem.rates_at(problem.interval[0], found), full @ (found - state))
        try:
            move = np.linalg.solve(_rows(problem, found, mass), missed)
        except np.linalg.LinAlgError:
            return state
        found -= move
        if not np.isfinite(found).all():
            return state
        if np.abs(move).max() <= _ROUNDED * np.abs(found).max():
            break
    return found
