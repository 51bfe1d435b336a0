"""Newton's method from many states at once, for where all rates vanish.

P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), chapter 3.
"""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.deadline import seconds_left
from unhurried_heron.dynamics.evaluation import Evaluation

# Steps of Newton's method from each start.
_MAX_STEPS: Final = 200
# Halvings of a step that does not bring it nearer.
_MAX_HALVINGS: Final = 12
# Corrections below this share of the state, or of the box, are rounding.
ROUNDING: Final = 1e-13
# Above it, it is no equilibrium: where the Jacobian is singular, Newton's method comes no nearer.
NEAR: Final = 1e-6
# A correction solves its equations if no more than this share of the rates is left.
_SOLVED: Final = 1e-6
# What elimination leaves of them where the Jacobian is regular.
_EXACT: Final = 1e-9


def newton(evaluation: Evaluation, begins: Array, sizes: Array, values: Array | None = None) -> tuple[Array, Array]:
    """Let Newton's method go on from many states, its steps halved until it comes nearer, until the deadline.

    Parameters
    ----------
    evaluation : Evaluation
    begins : ndarray, shape (n_rows, n_states)
    sizes : ndarray, shape (n_states,)
        By which corrections are measured beside the states.
    values : ndarray, shape (n_rows,), optional
        Of the parameter of the evaluation.

    Returns
    -------
    (ndarray, ndarray)
        Where each came to, and its last correction as a share of state and size; infinite where there is none.
    """
    states, errors = begins.copy(), np.full(len(begins), np.inf)
    going = np.arange(len(begins))
    for _ in range(_MAX_STEPS):
        if not going.size or seconds_left() < 0.0:
            break
        here, own = states[going], None if values is None else values[going]
        matrices = evaluation.jacobians(here, own)
        step = _corrections(evaluation.rates(here, own), matrices)
        scale = np.abs(here) + sizes
        length = np.abs(step / scale).max(axis=1)
        usable = np.isfinite(length)
        taken, share = np.zeros(going.size, dtype=bool), np.ones(going.size)
        for _ in range(_MAX_HALVINGS):
            waiting = np.flatnonzero(usable & ~taken)
            if not waiting.size:
                break
            trial = here[waiting] - share[waiting, None] * step[waiting]
            rates = evaluation.rates(trial, None if own is None else own[waiting])
            again = np.abs(_corrections(rates, matrices[waiting]) / scale[waiting]).max(axis=1)
            small = length[waiting] <= ROUNDING
            nearer = (again <= (1.0 - 0.25 * share[waiting]) * length[waiting]) | small
            states[going[waiting[nearer]]] = trial[nearer]
            taken[waiting[nearer]] = True
            share[waiting[~nearer]] *= 0.5
        errors[going] = np.where(usable, length, np.inf)
        going = going[usable & taken & (length > ROUNDING)]
    return states, errors


def _corrections(rates: Array, matrices: Array) -> Array:
    """Return the corrections of Newton's method.

    Parameters
    ----------
    rates : ndarray, shape (n_rows, n_states)
    matrices : ndarray, shape (n_rows, n_states, n_states)

    Returns
    -------
    ndarray, shape (n_rows, n_states)
        Infinite where there is none.
    """
    found = np.full(rates.shape, np.inf)
    good = np.flatnonzero(np.isfinite(np.column_stack([rates, matrices.reshape(len(rates), -1)])).all(axis=1))
    try:
        found[good] = np.linalg.solve(matrices[good], rates[good, :, None])[:, :, 0]
    except np.linalg.LinAlgError:
        found[good] = np.nan
    for row in good.tolist():
        right, matrix, step = rates[row], matrices[row], found[row]
        if not np.isfinite(step).all() or np.abs(right - matrix @ step).max() > _EXACT * np.abs(right).max():
            # where the Jacobian is singular, the shortest correction, if there is any
            step = np.linalg.lstsq(matrix, right, rcond=None)[0]
        solved = np.abs(right - matrix @ step).max() <= _SOLVED * np.abs(right).max()
        found[row] = step if solved else np.inf
    return found
