"""Rates, Jacobian and eigenvalues of a problem anywhere, found without compiling anything."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.errors import OptionError, near_spelling
from unhurried_heron.formulas.evaluate import STATE
from unhurried_heron.problem.facts import Facts


class Places(NamedTuple):
    """Times (rows,) and states (rows, n_states) to ask at; whether it is one place, and was said by names."""

    times: Any
    states: Any
    single: bool
    named: bool


def surroundings(problem: Facts, time: Any, state: Any) -> dict[str, Any]:
    """Return the value of every name that formulas use; of many rows as columns, shape (rows, 1)."""
    layout = problem.model.layout
    many = np.ndim(state) == 2
    scalars = {name: state[:, place, None] if many else state[place] for name, place in layout.scalars.items()}
    when = np.asarray(time)[:, None] if many else time
    return {**problem.inputs, **problem.parameters, **scalars, "t": when, STATE: state}


def places_of(problem: Facts, t: Any, state: Any, place: str) -> Places:
    """Return times and states to ask at as arrays.

    Raises
    ------
    OpenParameterError
        Parameters are still open.
    OptionError
        They do not fit the problem, or each other.
    """
    problem.refuse_open()
    names, n = problem.states, len(problem.states)
    named = isinstance(state, Mapping) or hasattr(state, "columns")
    if named:
        missing = [name for name in names if name not in state]
        unknown = [str(name) for name in state if name not in names and not hasattr(state, "columns")]
        if missing or unknown:
            wrong = f"there is no state '{unknown[0]}'{near_spelling(unknown[0], names)}" if unknown else (
                "states have no value: " + ", ".join(missing))  # fmt: skip
            raise OptionError(wrong, name=(unknown or missing)[0], place=place,
                              expected="a value for each of " + ", ".join(names),
                              given=", ".join(map(str, state)))  # fmt: skip
        state = np.stack(np.broadcast_arrays(*(np.asarray(state[name]) for name in names)), axis=-1) if n else state
    try:
        times, states = np.asarray(_number(problem, t, place), dtype=np.float64), np.asarray(state, dtype=np.float64)
    except (TypeError, ValueError):
        raise OptionError("these are no times and states", name="state", place=place,
                          expected="numbers: of one place (n_states,), of many (rows, n_states)",
                          given=f"{t!r}, {state!r}"[:80]) from None  # fmt: skip
    if states.ndim not in (1, 2) or states.shape[-1] != n or times.ndim > 1:
        raise OptionError("the state does not fit the problem", name="state", place=place,
                          expected=f"shape ({n},), or (rows, {n}) for many rows: {', '.join(names[:8])}",
                          given=f"shape {states.shape}, times of shape {times.shape}")  # fmt: skip
    single = states.ndim == 1 and times.ndim == 0
    rows = max(times.size, states.shape[0] if states.ndim == 2 else 1)
    try:
        return Places(np.broadcast_to(times, (rows,)), np.broadcast_to(states, (rows, n)), single, named)
    except ValueError:
        raise OptionError("times and states do not fit each other", name="t", place=place,
                          expected="one time, or one for each row",
                          given=f"{times.size} times, {states.shape[0]} rows") from None  # fmt: skip


def _number(problem: Facts, t: Any, place: str) -> Any:
    if not isinstance(t, str):
        return t
    from unhurried_heron.units.quantities import in_unit_of

    return in_unit_of(t, problem.units.get("t", ""), place)


def rates_at(problem: Facts, asked: Places) -> Any:
    """Return the rates, shape (rows, n_states)."""
    times, states = asked.times, asked.states
    return problem.model.rates.at(times, states, surroundings(problem, times, states))


def jacobian_at(problem: Facts, asked: Places) -> Any:
    """Return d rates / d states, shape (rows, n_states, n_states)."""
    times, states = asked.times, asked.states
    return problem.model.rates.jacobian_at(times, states, surroundings(problem, times, states))
