"""States at which the constraints of a problem hold, near to others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import UnfitProblemError

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# The number of states up to which this is worth full matrices.
_MAX_STATES: Final = 1000
# The number of states up to which the index is looked at.
_MAX_RANKED: Final = 300
# The share of the largest singular value below which a matrix is singular: Jacobians by differences have eight digits.
_SINGULAR: Final = 1e-7
# Under which a problem remembers that its index was looked at.
_INDEX: Final = ("index",)
# Newton's iterations,
_TURNS: Final = 20
# which end where a correction is below this share of the largest state.
_ROUNDED: Final = 4 * float(np.finfo(float).eps)


def refuse_higher_index(problem: Problem) -> None:
    """Refuse constraints that do not determine the states whose rates M leaves open.

    Looked at once for a problem, at its start, with up to `_MAX_RANKED` states.

    Raises
    ------
    UnfitProblemError
    """
    mass, n = problem.model.mass, problem.start.size
    if mass is None or n > _MAX_RANKED or mass.sizes(n).all() or _INDEX in problem.checked:
        return
    start, full = problem.interval[0], mass.full(n)
    rows = np.where((mass.sizes(n) == 0.0)[:, None], problem.jacobian_at(start, problem.start), full)
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
                given=f"a singular matrix of the rows of M and of the Jacobian of the constraints at t = {start:g}",
            )
    problem.checked[_INDEX] = ()


def consistent_near(problem: Problem, state: Array) -> Array:
    """Return the state, shape (n_states,), at which constraints hold at the start and M y is that of ``state``.

    As it is without constraints, and where Newton's iteration finds none.
    """
    mass, n = problem.model.mass, state.size
    if mass is None or n > _MAX_STATES or mass.sizes(n).all():
        return state
    found, start, full = state.copy(), problem.interval[0], mass.full(n)
    held = mass.sizes(n) == 0.0
    for _ in range(_TURNS):
        matrix = np.where(held[:, None], problem.jacobian_at(start, found), full)
        missed = np.where(held, problem.rates_at(start, found), full @ (found - state))
        try:
            move = np.linalg.solve(matrix, missed)
        except np.linalg.LinAlgError:
            return state
        found -= move
        if not np.isfinite(found).all():
            return state
        if np.abs(move).max() <= _ROUNDED * np.abs(found).max():
            break
    return found
