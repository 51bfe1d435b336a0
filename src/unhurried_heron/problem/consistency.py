"""States at which the constraints of a problem hold, near to others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from unhurried_heron.arrays import Array

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# The number of states up to which this is worth full matrices.
_MAX_STATES: Final = 1000
# Newton's iterations,
_TURNS: Final = 20
# which end where a correction is below this share of the largest state.
_ROUNDED: Final = 4 * float(np.finfo(float).eps)


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
