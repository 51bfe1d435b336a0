"""Eigenvalues of a problem's Jacobian along a solution: which modes decay, swing and grow, and how fast."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array

# full matrices up to this size, and about so much work on all of them; of larger ones the fastest modes alone
_MOST_FULL: Final = 300
_WORK: Final = 4e8
_FASTEST: Final = 6
_FEWEST: Final = 5


def rows_worth(n: int, most: int) -> int:
    """Return at how many places eigenvalues of n states are looked at, at most ``most``."""
    return max(_FEWEST, min(most, int(_WORK / max(n, 1) ** 3) if n <= _MOST_FULL else 20))


def modes_at(run: Run, times: Array, states: Array) -> Any:
    """Return eigenvalues along a run, complex, shape (rows, n_states); of large systems the fastest alone.

    NaN in rows where the Jacobian is not finite. Parameters that events changed have the values of the time.
    """
    problem, changing = run.problem, run._modes(times)
    if changing is None:
        return eigenvalues(problem, times, states)
    found = np.full((times.size, min(len(problem.states), _width(problem))), np.nan, dtype=complex)
    stretches, which = np.unique(changing[1], axis=0, return_inverse=True)
    for k, values in enumerate(stretches):
        rows = which.ravel() == k
        there = problem.with_(parameters=dict(zip(run.modes, values.tolist(), strict=True)))
        found[rows] = eigenvalues(there, times[rows], states[rows])
    return found


def _width(problem: Problem) -> int:
    n = len(problem.states)
    return n if n <= _MOST_FULL else _FASTEST


def eigenvalues(problem: Problem, times: Array, states: Array) -> Any:
    """Return the eigenvalues at rows of times and states."""
    n = len(problem.states)
    if n > _MOST_FULL:
        return np.array([_fastest(problem, t, y) for t, y in zip(times, states, strict=True)]).reshape(-1, _FASTEST)
    if problem.model.rates.written and n:
        # what compiles is loaded when something runs
        from unhurried_heron.native.rows import evaluate_rows
        from unhurried_heron.native.system import native_system, with_slopes

        native = with_slopes(native_system(problem, (), held=False), problem, held=False)
        assert native.jacobian is not None, "written equations have a Jacobian"
        found = evaluate_rows(native.jacobian, times, states)
        matrices = np.full((times.size, n, n), np.nan)
        matrices[: len(found)] = found.reshape(-1, n, n)
    else:
        matrices = problem.jacobian_at(times, states)
    fine = np.isfinite(matrices).all(axis=(-2, -1))
    values = np.linalg.eigvals(np.where(fine[:, None, None], matrices, 0.0)).astype(complex)
    return np.where(fine[:, None], values, np.nan)


def _fastest(problem: Problem, time: float, state: Array) -> Any:
    """Return the eigenvalues of largest modulus of a large system, by Arnoldi's iteration."""
    from scipy.sparse import csr_array
    from scipy.sparse.linalg import ArpackError, eigs

    from unhurried_heron.native.rows import evaluate_rows
    from unhurried_heron.native.system import jacobian_entries, native_system, with_slopes

    n = state.size
    entries = jacobian_entries(problem, held=False) if problem.model.rates.written else None
    if entries is None:
        matrix: Any = problem.jacobian_at(time, state)
    else:
        native = with_slopes(native_system(problem, (), held=False), problem, held=False, full=False)
        assert native.jacobian is not None, "written equations have a Jacobian"
        values = evaluate_rows(native.jacobian, np.array([time]), state[None, :])
        if not len(values) or not np.isfinite(values).all():
            return np.full(_FASTEST, np.nan, dtype=complex)
        rows, columns = (each.astype(np.int64) for each in entries)
        matrix = csr_array((values[0], (rows, columns)), shape=(n, n))
    try:
        start = np.random.default_rng(0).standard_normal(n)
        return eigs(matrix, k=_FASTEST, which="LM", return_eigenvectors=False, v0=start, tol=1e-3)
    except (ArpackError, ValueError):
        return np.full(_FASTEST, np.nan, dtype=complex)
