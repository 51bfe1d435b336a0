"""States and derived quantities of a run at any times."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.layout import Values
from unhurried_heron.formulas.notation import in_one_spelling

if TYPE_CHECKING:
    from unhurried_heron.run.queries import Queries

# Numbers of states in memory at once where only a result of them is wanted: 32 MB.
AT_ONCE: Final = 4_000_000
# Larger values, infinite ones among them, are replaced by this, so that they have a sign.
LARGEST: Final = 1e280


def modes_at(run: Queries, times: Array, before: Any = False) -> tuple[Array, Array] | None:
    """Return the indices of the modes among the parameters and their values at times; None where there are none.

    Parameters
    ----------
    run : Queries
    times : ndarray, shape (n_times,)
    before : bool or ndarray of bool, shape (n_times,), optional
        Whether just before a jump at the time, not after.

    Returns
    -------
    tuple[ndarray, ndarray] or None
    """
    if not run.modes:
        return None
    indices = [run.problem.model.parameters.index(name) for name in run.modes]
    return np.array(indices, dtype=np.int64), run.data.event_log.modes_at(times, before)


def derived_at(run: Queries, times: Array, states: Array, before: Any = False) -> Array:
    """Return derived quantities and modes at times.

    Parameters
    ----------
    run : Queries
    times : ndarray, shape (n_times,)
    states : ndarray, shape (n_times, n_states)
    before : bool or ndarray of bool, shape (n_times,), optional
        Whether just before a jump at the time, not after.

    Returns
    -------
    ndarray
    """
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_derived

    model, changing = run.problem.model, modes_at(run, times, before)
    times = run.data.trajectory.jumps.beside(times, before, run.problem.interval)
    written = np.empty((times.size, 0))
    if model.derived_layout.size:
        written = evaluate_rows(native_derived(run.problem), times, states, changing)
    modes = np.empty((times.size, 0)) if changing is None else changing[1]
    if not model.functions:
        return np.hstack([written, modes]) if run.modes else written
    called = np.empty((times.size, len(model.functions)))
    intervals, which = np.unique(modes, axis=0, return_inverse=True)
    for k, values in enumerate(intervals):
        numbers = {**run.problem.parameters, **dict(zip(run.modes, values.tolist(), strict=True))}
        calls = [function.caller([*numbers.values()]) for function in model.functions.values()]
        for row in np.flatnonzero(which.ravel() == k):
            called[row] = [call(float(times[row]), states[row].copy()) for call in calls]
    return np.hstack([written, called, modes])


def column_indices(run: Queries, name: object) -> list[int]:
    """Return the index of a state or derived quantity among the columns, or both of a complex one; none of others."""
    if not isinstance(name, str):
        return []
    model = run.problem.model
    found = model.layout.indices_of(name)
    if not found and model.derived_layout.has_complex:
        found = [model.layout.size + k for k in model.derived_layout.indices_of(name)]
    name = in_one_spelling(name)
    return found or ([run.columns.index(name)] if name in run.columns else [])


def values_by_name(run: Queries, numbers: dict[str, float]) -> dict[str, Any]:
    """Return the numbers of columns by name with complex ones put together."""
    model = run.problem.model
    if not (model.layout.has_complex or model.derived_layout.has_complex):
        return numbers
    array, size, n_derived = np.fromiter(numbers.values(), np.float64), model.layout.size, model.derived_layout.size
    states, derived = Values(model.layout, array[:size]), Values(model.derived_layout, array[size:][:n_derived])
    return {**states, **derived, **dict(list(numbers.items())[size + n_derived :])}


def put_together(values: Array, indices: list[list[int]]) -> Array:
    """Return columns of which some are the two parts of complex numbers with one column for each number.

    Parameters
    ----------
    values : ndarray, shape (n_times, n_columns)
    indices : list of list of int
        One entry for each number, of one index or of two.

    Returns
    -------
    ndarray, shape (n_times, n_numbers)
    """
    if all(len(each) == 1 for each in indices):
        return values
    ends = np.cumsum([len(each) for each in indices])
    columns = [values[:, end - len(each) : end] for each, end in zip(indices, ends, strict=True)]
    return np.column_stack([each[:, 0] + 1j * each[:, 1] if each.shape[1] == 2 else each[:, 0] for each in columns])


def columns_at(run: Queries, times: Array, indices: list[int], before: bool) -> Array:
    """Return some states and derived quantities at times, shape (n_times, n_numbers), in no more memory than these.

    A derived quantity needs all states, of which there are never more than those of some times at once.

    Parameters
    ----------
    run : Queries
    times : ndarray, shape (n_times,)
    indices : list of int
        Of the columns.
    before : bool
        Whether just before jumps at these times.

    Returns
    -------
    ndarray
    """
    n = run.problem.model.layout.size
    if all(index < n for index in indices):
        return run.data.trajectory.at(times, before=before, indices=indices)
    values, some = np.empty((times.size, len(indices))), max(AT_ONCE // max(n, 1), 1)
    for first in range(0, times.size, some):
        part = times[first : first + some]
        states = run.data.trajectory.at(part, before=before)
        values[first : first + some] = np.hstack([states, derived_at(run, part, states, before)])[:, indices]
    return values
