"""Rates, Jacobian and eigenvalues of a problem anywhere, found without compiling anything."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.errors import OptionError, excerpt, listing, near_spelling
from unhurried_heron.formulas.evaluate import STATE
from unhurried_heron.input.measured_rates import readings

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


# The share of the norm of M below which a denominator of an eigenvalue of J and M is rounding.
_INFINITE: Final = 1e-13


class EvaluationPoints(NamedTuple):
    """Times (rows,) and states (rows, n_states) to ask at; whether it is one place, and was said by names."""

    times: Array
    states: Array
    single: bool
    names: tuple[str, ...]


def surroundings(problem: Problem, time: Any, state: Any) -> dict[str, Any]:
    """Return the value of every name that formulas use; of many rows as columns, shape (rows, 1).

    Parameters
    ----------
    problem : Problem
    time : float or ndarray, shape (rows,)
    state : ndarray, shape (n_states,) or (rows, n_states)

    Returns
    -------
    dict of str to float or ndarray
    """
    layout = problem.model.layout
    many = np.ndim(state) == 2
    scalars = {name: state[:, index, None] if many else state[index] for name, index in layout.scalars.items()}
    when = np.asarray(time)[:, None] if many else time
    return {**readings(problem.inputs), **problem.parameters, **scalars, "t": when, STATE: state}


def evaluation_points(problem: Problem, t: Any, state: Any, location: str) -> EvaluationPoints:
    """Return times and states to ask at as arrays.

    Parameters
    ----------
    problem : Problem
    t : float, str or array of shape (rows,)
        The time, also with a unit.
    state : array of shape (n_states,) or (rows, n_states), or mapping of str to float or array
        Values of the states, in order or by name.
    location : str
        Where this was said, for messages.

    Returns
    -------
    EvaluationPoints

    Raises
    ------
    OpenParameterError
        Parameters are still open.
    OptionError
        They do not fit the problem, or each other.
    """
    problem.refuse_open()
    layout, n = problem.model.layout, problem.model.layout.size
    named = isinstance(state, Mapping) or hasattr(state, "columns")
    # complex states are said as such, or by their parts
    whole = named and layout.has_complex and any(layout.pair(str(name)) is not None for name in state)
    names = layout.value_names if whole else layout.names
    if named:
        missing = [name for name in names if name not in state]
        unknown = [str(name) for name in state if name not in names and not hasattr(state, "columns")]
        if missing or unknown:
            wrong = f"there is no state '{unknown[0]}'{near_spelling(unknown[0], names)}" if unknown else (
                "states have no value: " + listing(missing))  # fmt: skip
            raise OptionError(wrong, name=(unknown or missing)[0], location=location,
                              expected="a value for each of " + listing(names),
                              given=listing(state))  # fmt: skip
        given = {name: np.asarray(state[name]) for name in names}
        columns = [part(given[name]) for name in names for part in (
            (np.real, np.imag) if whole and layout.pair(name) is not None else (np.asarray,))]  # fmt: skip
        state = np.stack(np.broadcast_arrays(*columns), axis=-1) if n else state
    try:
        times, states = np.asarray(_number(problem, t, location), dtype=np.float64), np.asarray(state, dtype=np.float64)
    except (TypeError, ValueError, OverflowError):
        raise OptionError("these are no times and states", name="state", location=location,
                          expected="numbers: of one place (n_states,), of many (rows, n_states)",
                          given=f"{excerpt(t)}, {excerpt(state)}") from None  # fmt: skip
    if states.ndim not in (1, 2) or states.shape[-1] != n or times.ndim > 1:
        raise OptionError("the state does not fit the problem", name="state", location=location,
                          expected=f"shape ({n},), or (rows, {n}) for many rows: {', '.join(names[:8])}",
                          given=f"shape {states.shape}, times of shape {times.shape}")  # fmt: skip
    single = states.ndim == 1 and times.ndim == 0
    rows = max(times.size, states.shape[0] if states.ndim == 2 else 1)
    try:
        at = np.broadcast_to(times, (rows,)), np.broadcast_to(states, (rows, n))
        return EvaluationPoints(*at, single, tuple(names) if named else ())
    except ValueError:
        raise OptionError("times and states do not fit each other", name="t", location=location,
                          expected="one time, or one for each row",
                          given=f"{times.size} times, {states.shape[0]} rows") from None  # fmt: skip


def _number(problem: Problem, t: Any, location: str) -> Any:
    """Return a time, also with a unit, as a number.

    Parameters
    ----------
    problem : Problem
    t : float, str or array of shape (rows,)
        The time, also with a unit.
    location : str
        Where this was said, for messages.

    Returns
    -------
    float or array_like
    """
    if not isinstance(t, str):
        return t
    from unhurried_heron.units.quantities import in_unit_of

    return in_unit_of(t, problem.units.get("t", ""), location)


def _rates_at(problem: Problem, points: EvaluationPoints) -> Array:
    """Return the rates, shape (rows, n_states)."""
    times, states = points.times, points.states
    return problem.model.rates.at(times, states, surroundings(problem, times, states))


def _jacobian_at(problem: Problem, points: EvaluationPoints) -> Array:
    """Return d rates / d states, shape (rows, n_states, n_states)."""
    times, states = points.times, points.states
    return problem.model.rates.jacobian_at(times, states, surroundings(problem, times, states))


def rates_at(problem: Problem, t: Any, state: Any) -> Any:
    """Return the rates f(t, y) at one place, or at many rows at once; with a mass matrix M they are those of M y.

    Parameters
    ----------
    problem : Problem
    t : float, str or array of shape (rows,)
        The time, also with a unit.
    state : array of shape (n_states,) or (rows, n_states), or mapping of str to float or array
        Values of the states, in order or by name; a DataFrame, too.

    Returns
    -------
    ndarray of the shape of ``state``, or dict
        By name where the state was given by name.

    Raises
    ------
    OpenParameterError, OptionError
        Parameters are open, or the state does not fit the problem.
    """
    points = evaluation_points(problem, t, state, "rates_at")
    found = _rates_at(problem, points)
    found = found[0] if points.single else found
    return {name: problem.model.layout.take(name, found) for name in points.names} if points.names else found


def jacobian_at(problem: Problem, t: Any, state: Any) -> Array:
    """Return d rates / d states, shape (n_states, n_states) or (rows, n_states, n_states).

    Symbolic for written equations; of a Python function its own Jacobian, or differences. Arguments as for
    `rates_at`.

    Parameters
    ----------
    problem : Problem
    t : float, str or array of shape (rows,)
        The time, also with a unit.
    state : array of shape (n_states,) or (rows, n_states), or mapping of str to float or array
        Values of the states, in order or by name.

    Returns
    -------
    ndarray
    """
    points = evaluation_points(problem, t, state, "jacobian_at")
    found = _jacobian_at(problem, points)
    return found[0] if points.single else found


def eigenvalues_at(problem: Problem, t: Any, state: Any) -> ComplexArray:
    """Return the eigenvalues of the Jacobian, complex, shape (n_states,) or (rows, n_states).

    With a mass matrix M those of J x = lambda M x. NaN where the Jacobian is not finite, and in place of the infinite
    ones that belong to constraints. Arguments as for `rates_at`.

    Parameters
    ----------
    problem : Problem
    t : float, str or array of shape (rows,)
        The time, also with a unit.
    state : array of shape (n_states,) or (rows, n_states), or mapping of str to float or array
        Values of the states, in order or by name.

    Returns
    -------
    ndarray of complex
    """
    return eigenvalues_of(jacobian_at(problem, t, state), problem)


def eigenvalues_of(matrices: Array, problem: Problem) -> ComplexArray:
    """Return the eigenvalues of Jacobians of a problem, as `eigenvalues_at` does.

    Parameters
    ----------
    matrices : ndarray, shape (..., n_states, n_states)
    problem : Problem

    Returns
    -------
    ndarray of complex, shape (..., n_states)
    """
    mass, n = problem.model.mass, matrices.shape[-1]
    fine = np.asarray(np.isfinite(matrices).all(axis=(-2, -1)))
    usable = np.where(fine[..., None, None], matrices, 0.0)
    if mass is None:
        values = np.linalg.eigvals(usable).astype(complex)
    else:
        from scipy.linalg import eigvals

        full = mass.full(n)
        pairs = np.array([eigvals(each, full, homogeneous_eigvals=True) for each in usable.reshape(-1, n, n)])
        above, below = pairs[:, 0], pairs[:, 1]
        finite = np.abs(below) > _INFINITE * np.linalg.norm(full)
        quotients = np.divide(above, below, out=np.full(above.shape, np.nan, dtype=complex), where=finite)
        values = quotients.reshape(matrices.shape[:-1])
    return np.where(fine[..., None], values, np.nan)
