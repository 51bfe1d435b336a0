"""The native side of one problem: one object that owns all memory behind the addresses the kernels call."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from unhurried_heron.native.expressions import compiled
from unhurried_heron.native.signature import NativeFunction
from unhurried_heron.problem.differentiate import jacobian
from unhurried_heron.problem.event import GOING, Event
from unhurried_heron.problem.expression import Node
from unhurried_heron.problem.functions import NamedFunction, is_compiled
from unhurried_heron.problem.model import Watched
from unhurried_heron.problem.problem import Problem


@dataclass(frozen=True)
class NativeSystem:
    """Rates, Jacobian and events of a problem as native functions; keep it alive while a kernel runs.

    ``jacobian`` is None where it must be found by differences.
    """

    rates: NativeFunction
    jacobian: NativeFunction | None
    events: tuple[NativeFunction, ...]

    def addresses(self) -> tuple[int, int, int, int]:
        """Return rates, their context, Jacobian and its context (zeros without one)."""
        rates, jacobian = self.rates, self.jacobian
        if jacobian is None:
            return rates.address, rates.context_address, 0, 0
        return rates.address, rates.context_address, jacobian.address, jacobian.context_address

    def event_addresses(self) -> np.ndarray:
        """Return one row (address, context) for each event, int64 (m, 2)."""
        rows = [[event.address, event.context_address] for event in self.events]
        return np.array(rows, dtype=np.int64).reshape(-1, 2)


def native_system(problem: Problem, events: tuple[Event, ...], *, with_jacobian: bool) -> NativeSystem:
    """Make a problem callable; what was compiled before for the same structure is used again."""
    model = problem.model
    return NativeSystem(
        rates=_native(model.rates, problem, len(model.states)),
        jacobian=_native_jacobian(problem) if with_jacobian else None,
        events=tuple(_native_event(model.watch(event), problem) for event in events),
    )


def native_derived(problem: Problem) -> NativeFunction:
    """Return a native function of all derived quantities, in order."""
    return _native(tuple(problem.model.derived.values()), problem, len(problem.model.derived))


def native_exact(problem: Problem) -> NativeFunction:
    """Return a native function of the closed forms, in the order they were given."""
    return _native(tuple(problem.model.exact.values()), problem, len(problem.model.exact))


def going_codes(events: tuple[Event, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Return direction and stop flag of each event, int64 (m,)."""
    going = np.array([GOING[event.going] for event in events], dtype=np.int64)
    return going, np.array([int(event.stop) for event in events], dtype=np.int64)


def _native(what: tuple[object, ...] | NamedFunction, problem: Problem, size: int) -> NativeFunction:
    if isinstance(what, NamedFunction):
        return _native_function(what, problem, size)
    return compiled(dict(enumerate(what)), size, problem.states, problem.parameters)  # type: ignore[arg-type]  # trees


def _native_function(function: NamedFunction, problem: Problem, size: int) -> NativeFunction:
    values = [*problem.parameters.values()]
    if is_compiled(function.function):
        from unhurried_heron.native.compiled import njit_function

        return njit_function(function, values, size)
    from unhurried_heron.native.callback import python_function

    return python_function(function, values, size)


def _native_event(watched: Watched, problem: Problem) -> NativeFunction:
    if isinstance(watched, NamedFunction):
        return _native_function(watched, problem, 0)
    return compiled({0: watched}, 1, problem.states, problem.parameters)


def _native_jacobian(problem: Problem) -> NativeFunction | None:
    rates, states = problem.model.rates, problem.states
    if isinstance(rates, NamedFunction):
        return None
    return compiled(_jacobian_entries(rates, states), len(states) ** 2, states, problem.parameters)


@functools.lru_cache(maxsize=64)
def _jacobian_entries(rates: tuple[Node, ...], states: tuple[str, ...]) -> dict[int, Node]:
    """Nonzero entries by their place in the row-major matrix."""
    return {i * len(states) + j: slope for (i, j), slope in jacobian(list(rates), states).items()}
