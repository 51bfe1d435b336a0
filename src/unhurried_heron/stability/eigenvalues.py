"""Eigenvalues of a problem's Jacobian along a solution: which modes decay, swing and grow, and how fast."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.deadline import seconds_left
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.spectrum import ritz_values
from unhurried_heron.problem.pointwise import eigenvalues_of
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.columns import modes_at
from unhurried_heron.run.run import Run

if TYPE_CHECKING:
    from unhurried_heron.kernels.machine_code.signature import NativeFunction

# Full matrices up to this size have all their eigenvalues found, larger ones the fastest alone.
_MAX_FULL: Final = 300
# Floating-point operations, in cubes of the size, that all eigenvalue problems of a study may take.
_WORK: Final = 4e8
# Eigenvalues of a large system, those of largest modulus.
_FASTEST: Final = 6
# Rows at which eigenvalues are found at least,
_FEWEST: Final = 5
# and of a large system.
_ROWS_OF_LARGE: Final = 16
# The golden section, whose multiples modulo 1 are spread evenly however many there are.
_GOLDEN: Final = 0.6180339887498949


def rows_worth(n: int, most: int) -> int:
    """Return at how many points eigenvalues of n states are looked at, at most ``most``."""
    return max(_FEWEST, min(most, int(_WORK / max(n, 1) ** 3) if n <= _MAX_FULL else _ROWS_OF_LARGE))


def eigenvalues_along(run: Run, times: Array, states: Array) -> ComplexArray:
    """Return eigenvalues along a run, complex, shape (rows, n_states); of large systems the fastest alone.

    NaN in rows where the Jacobian is not finite. Parameters that events changed have the values of the time.

    Parameters
    ----------
    run : Run
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)

    Returns
    -------
    ndarray of complex
    """
    problem, changing = run.problem, modes_at(run, times)
    if changing is None:
        return eigenvalues(problem, times, states)
    found = np.full((times.size, min(problem.model.layout.size, _width(problem))), np.nan, dtype=complex)
    intervals, which = np.unique(changing[1], axis=0, return_inverse=True)
    for k, values in enumerate(intervals):
        rows = which.ravel() == k
        with quietly():
            # The warning on closed forms of other parameters is meant for users.
            there = problem.with_(parameters=dict(zip(run.modes, values.tolist(), strict=True)))
        found[rows] = eigenvalues(there, times[rows], states[rows])
    return found


def _width(problem: Problem) -> int:
    n = problem.model.layout.size
    return n if n <= _MAX_FULL else _FASTEST


def eigenvalues(problem: Problem, times: Array, states: Array) -> ComplexArray:
    """Return the eigenvalues at rows of times and states.

    Parameters
    ----------
    problem : Problem
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)

    Returns
    -------
    ndarray of complex

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    n = problem.model.layout.size
    if n > _MAX_FULL and problem.model.mass is not None:
        # those of large pencils are not looked for
        return np.full((times.size, _FASTEST), np.nan, dtype=complex)
    if n > _MAX_FULL:
        return _fastest(problem, times, states)
    if problem.model.rates.written and n:
        # Modules that compile are loaded only when something runs.
        from unhurried_heron.codegen.evaluate_many import evaluate_rows
        from unhurried_heron.codegen.jacobians import with_jacobian
        from unhurried_heron.codegen.system import native_system

        native = with_jacobian(native_system(problem, (), held=False), problem, held=False)
        if native.jacobian is None:
            raise unforeseen("written equations without a Jacobian")
        found = evaluate_rows(native.jacobian, times, states)
        matrices = np.full((times.size, n, n), np.nan)
        matrices[: len(found)] = found.reshape(-1, n, n)
    else:
        matrices = problem.jacobian_at(times, states)
    return eigenvalues_of(matrices, problem)


def _fastest(problem: Problem, times: Array, states: Array) -> ComplexArray:
    """Return the eigenvalues of largest modulus of a large system at rows; NaN after the deadline.

    Parameters
    ----------
    problem : Problem
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)

    Returns
    -------
    ndarray of complex

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    from scipy.sparse import csr_array

    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.jacobians import jacobian_entries, with_jacobian
    from unhurried_heron.codegen.system import native_system

    n, found = states.shape[1], np.full((times.size, _FASTEST), np.nan, dtype=complex)
    entries = jacobian_entries(problem, held=False) if problem.model.rates.written else None
    if entries is not None:
        native = with_jacobian(native_system(problem, (), held=False), problem, held=False, full=False)
        if native.jacobian is None:
            raise unforeseen("written equations without a Jacobian")
        compiled: NativeFunction = native.jacobian
        rows, columns = (each.astype(np.int64) for each in entries)
    # Rows from all over the run come first, in case there is no time for all.
    for index in np.argsort(_GOLDEN * np.arange(times.size) % 1.0):
        if seconds_left() < 0.0:
            break
        here, there = times[index : index + 1], states[index : index + 1]
        if entries is None:
            matrix: Any = problem.jacobian_at(here, there)[0]
            values = matrix.ravel()
        else:
            values = evaluate_rows(compiled, here, there).ravel()
            matrix = csr_array((values, (rows, columns)), shape=(n, n)) if values.size else None
        if values.size and np.isfinite(values).all():
            fastest = ritz_values(matrix.__matmul__, n)[:_FASTEST]
            found[index, : fastest.size] = fastest
    return found
