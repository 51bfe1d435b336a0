"""States at which the constraints of a problem hold, near to others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.evaluate import filled
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.differentiated import differentiated, implied
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.problem.jump_sides import going_on
from unhurried_heron.problem.pointwise import surroundings

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# The number of states up to which this is worth full matrices.
_MAX_STATES: Final = 1000
# The number of states up to which the index is looked at.
_MAX_RANKED: Final = 300
# The share of the largest singular value below which a matrix is singular: Jacobians by differences have eight digits.
_SINGULAR: Final = 1e-7
# The step of a difference in time, as a share of it: the cube root of rounding.
_IN_TIME: Final = 6e-6
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


def free_directions(problem: Problem, state: Array) -> Array:
    """Return directions along which constraints stay met at the start, shape (n_states, n_free), of length one each."""
    if not is_constrained(problem):
        return np.eye(state.size)
    mass, n, model, start = problem.model.mass, state.size, problem.model, np.array([_start_of(problem)])
    held = np.zeros(n, dtype=bool) if mass is None else mass.sizes(n) == 0.0
    rows = [problem.jacobian_at(start[0], state)[held]] if held.any() else []
    if model.manifold:
        around = surroundings(problem, start, state[None])
        entries: Any = filled(jacobian(model.manifold, model.layout), model.n_manifold * n, around, (1,))
        rows.append(entries.reshape(-1, n))
    if not rows:
        return np.eye(n)
    _, sizes, directions = np.linalg.svd(np.vstack(rows))
    found: Array = directions[int((sizes > _SINGULAR * sizes[0]).sum()) :].T
    return found


def is_constrained(problem: Problem) -> bool:
    """Whether states do not move by their rates alone: by a mass matrix, or along a manifold."""
    return problem.model.mass is not None or bool(problem.model.manifold)


def derivative_at(problem: Problem, time: float, state: Array) -> Array:
    """Return y', shape (n_states,), of M y' = f; of algebraic states that by which their constraints stay met.

    Parameters
    ----------
    problem : Problem
    time : float
    state : ndarray, shape (n_states,)

    Returns
    -------
    ndarray
    """
    rates: Array = problem.rates_at(time, state)
    mass = problem.model.mass
    if mass is None:
        return rates
    start, end = problem.interval
    step = _IN_TIME * (abs(time) + abs(end - start))
    around = [problem.rates_at(time + sign * step, state) for sign in (1.0, -1.0)]
    held = mass.sizes(state.size) == 0.0
    moved = np.where(held, (around[1] - around[0]) / (2.0 * step), rates)
    found: Any = np.linalg.solve(_rows(problem, state, mass, time), moved)
    return np.asarray(found)


def _start_of(problem: Problem) -> float:
    return going_on(problem.interval[0], problem.interval)


def _rows(problem: Problem, state: Array, mass: MassMatrix, time: float | None = None) -> Array:
    """Return the rows of M and, of constraints, those of the Jacobian, shape (n_states, n_states).

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    mass : MassMatrix
    time : float, optional
        By default the start.

    Returns
    -------
    ndarray
    """
    held, when = mass.sizes(state.size) == 0.0, _start_of(problem) if time is None else time
    return np.where(held[:, None], problem.jacobian_at(when, state), mass.full(state.size))


def _refuse_higher_index(problem: Problem, mass: MassMatrix) -> None:
    n = problem.start.size
    rows, columns = _rows(problem, problem.start, mass), np.arange(n)
    held = mass.sizes(n) == 0.0
    if not held[mass.columns].any():
        # the other states are told by their own rows
        columns = np.flatnonzero(held)
        rows = rows[held][:, held]
    if np.isfinite(rows).all():
        for axis in (1, 0):
            sizes = np.abs(rows).max(axis=axis, keepdims=True)
            rows = rows / np.where(sizes > 0.0, sizes, 1.0)
        _, values, directions = np.linalg.svd(rows)
        if values[-1] <= _SINGULAR * values[0]:
            name = problem.model.layout.names[columns[int(np.argmax(np.abs(directions[-1])))]]
            raise UnfitProblemError(
                f"the constraints do not determine '{name}': the problem is of an index above 1",
                name=name,
                location="mass",
                expected="constraints that can be solved for the states whose rates rows of zeros leave open;"
                " differentiate a constraint of the other states by the time",
                given="a singular matrix of the rows of M and of the Jacobian of the constraints at t = "
                f"{problem.interval[0]:g}",
            )


def with_rates_for_all(problem: Problem, *, by_numbers: bool = False) -> Problem | None:
    """Return a problem whose algebraic states have rates; None where these cannot be written.

    Parameters
    ----------
    problem : Problem
    by_numbers : bool, optional
        Whether rates that cannot be written shortly may be found by numbers, for methods that take no Jacobian.

    Returns
    -------
    Problem or None
    """
    own = problem.model
    model = own.remembered(("differentiated", by_numbers), lambda: differentiated(own, shortly=by_numbers))
    if model is None and by_numbers:
        model = own.remembered(("implied rates",), lambda: implied(own))
    if model is None:
        return None
    return type(problem)(problem.user_input, replace(problem.assembled, model=model))


def beginning_near(
    problem: Problem,
    state: Array,
    parameters: Mapping[str, float],
    given: Mapping[str, Any] = MappingProxyType({}),
    *,
    interval: tuple[float, float] | None = None,
) -> Problem:
    """Return a problem with other parameters that begins near to a state, where its constraints hold.

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    parameters : mapping of str to float
    given : mapping of str to object, optional
        Other values of some states.
    interval : (float, float), optional
        Another one.

    Returns
    -------
    Problem

    Raises
    ------
    ConstraintError
        There is no such state.
    """
    interval = interval or problem.interval
    values = {**dict(zip(problem.states, state.tolist(), strict=True)), **given}
    if problem.model.made_by(Constraints) is None:
        other = problem.with_(initial=values, parameters=parameters, interval=interval)
        begun = other.start
        held = _consistent_near(other, begun)
        if held is begun:
            return other
        return other.with_(initial=dict(zip(problem.states, held.tolist(), strict=True)))
    before = problem.user_input
    near = replace(before, initial={}, guess=values, parameters={**(before.parameters or {}), **parameters},
                   units=dict(problem.units), interval=interval)  # fmt: skip
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
        missed = np.where(held, problem.rates_at(_start_of(problem), found), full @ (found - state))
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
