"""Members that take the same fixed steps by an explicit Runge-Kutta method, many at once in vectors."""

from __future__ import annotations

import ctypes
import functools
import math
import threading
from collections.abc import Collection
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.lanes_ir import GROUP, lanes_of
from unhurried_heron.codegen.modules import emit_module
from unhurried_heron.codegen.runtime_data import context_of
from unhurried_heron.driver.member_times import member_values
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.batch import BLOCK, BLOCK_SIZE, CODE
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.following import formulas_that_follow
from unhurried_heron.problem.problem import Problem

# Steps before the end that are taken one by one, as a march by itself does.
_LAST: Final = 2
# Steps of all members from which on it is worth compiling them for groups: a tenth of a second.
WORTH_STEPS: Final = 2_000_000
# Steps of each likewise.
_FEWEST_STEPS: Final = 8
# Steps of a group between two looks at whether to stop.
_SLICE: Final = 20_000
# States of a member: more are as quick one by one.
_MAX_STATES: Final = 32


def takes_lockstep(request: RunRequest, moved: Collection[str], count: int) -> bool:
    """Whether members can march in lockstep: fixed steps of an explicit Runge-Kutta method that nothing interrupts.

    Parameters
    ----------
    request : RunRequest
    moved : collection of str
        The parameters in which they differ.
    count : int
        How many they are.

    Returns
    -------
    bool
    """
    problem, model, method = request.problem, request.problem.model, request.method
    plain = isinstance(model.rates, WrittenRates) and not (model.inputs or model.guards)
    if not plain or family_of(method).group_steps is None or request.adapts or request.fixed is None:
        return False
    if model.manifold or request.events or model.rates.switches or request.nonnegative.size or model.mass is not None:
        return False
    times = () if request.times is None else request.times.tolist()
    if not {*times} <= {*problem.interval} or not 0 < model.layout.size <= _MAX_STATES:
        return False
    begin, end = problem.interval
    steps = abs(end - begin) / request.fixed
    # before anything is compiled
    if steps < _FEWEST_STEPS or count * steps < WORTH_STEPS:
        return False
    if request.budget.steps is not None or request.budget.rate_evaluations is not None:
        return False
    follow = formulas_that_follow(problem.assembled.definitions, moved, model)
    # starting values that follow from parameters are worked out where a march begins
    return follow is not None and {*follow} <= {*model.parameters} and _rates_of(problem) is not None


def _rates_of(problem: Problem) -> tuple[int, object] | None:
    """Return the address of the rates of a group of members, and what keeps it alive; None where there are none."""
    model: Any = problem.model
    names = context_of(problem).names(model.layout, held=False)
    text = lanes_of(emit_module(model.rates.indexed_formulas, (), model.layout.size, names))
    return None if text is None else _machine_code(text)


@functools.lru_cache(maxsize=64)
def _machine_code(text: str) -> tuple[int, object]:
    # one structure is compiled once, whatever its values
    return compile_module(text)


def march_in_lockstep(
    request: RunRequest, parameters: Array, initial: Array, moved: Collection[str], steps: int, threads: int = 1
) -> Array:
    """March members to the end.

    Parameters
    ----------
    request : RunRequest
        For which `takes_lockstep` holds.
    parameters : ndarray, shape (n_members, n_parameters)
        Of those that follow from others any value.
    initial : ndarray, shape (n_members, n_states)
    moved : collection of str
    steps : int
        How many steps a march by itself takes.
    threads : int

    Returns
    -------
    ndarray, shape (n_members, n_states)
        NaN where a number was not finite, and in the others of its group.
    """
    problem, count = request.problem, len(initial)
    values = member_values(problem, parameters, moved)
    columns = [np.broadcast_to(values[name], count) for name in problem.model.parameters]
    known = np.column_stack(columns) if columns else np.empty((count, 0))
    finals = np.full(initial.shape, np.nan)
    groups = range(0, count, GROUP)
    # all is compiled before the first thread begins
    code = _code_of(request)

    stopped = threading.Event()

    def march(first: int) -> None:
        if stopped.is_set():
            return
        part = slice(first, min(first + GROUP, count))
        finals[part] = _group(request, code, (known[part], initial[part]), steps, stopped)

    with ThreadPoolExecutor(threads) as executor:
        try:
            list(executor.map(march, groups))
        except BaseException:
            # the groups that march are left within a slice
            stopped.set()
            raise
    return finals


class _Code(NamedTuple):
    """Addresses of rates and steps of a group, and how many rows of stages the steps need."""

    rates: int
    stride: int
    rows: int


def _code_of(request: RunRequest) -> _Code:
    """Return what groups march by.

    Raises
    ------
    HeronError
        The family has no steps of groups, or the rates no vectors, which `takes_lockstep` asks.
    """
    steps_of, rates = family_of(request.method).group_steps, _rates_of(request.problem)
    if steps_of is None or rates is None:
        raise unforeseen(f"{request.method.name} in lockstep")
    return _Code(rates[0], *steps_of(request.method))


def _group(request: RunRequest, code: _Code, given: tuple[Array, Array], steps: int, stopped: threading.Event) -> Array:
    """March a group of members.

    Parameters
    ----------
    request : RunRequest
    code : _Code
    given : (ndarray of shape (n_members, n_parameters), ndarray of shape (n_members, n_states))
        Parameters and starting states.
    steps : int
    stopped : Event
        Whether it was stopped from outside.

    Returns
    -------
    ndarray, shape (n_members, n_states)
    """
    parameters, initial = given
    rates, stride, rows = code
    count = len(initial)
    begin, end = request.problem.interval
    n, step = initial.shape[1], math.copysign(float(request.fixed or 0.0), end - begin)
    # a group that is not full goes with copies of its last member
    index = np.minimum(np.arange(GROUP), count - 1)
    state, other = np.ascontiguousarray(initial[index].T), np.empty((n, GROUP))
    context = np.ascontiguousarray(np.vstack([parameters[index].T, np.zeros((1, GROUP))]))
    stages, block = np.zeros((rows, n * GROUP)), np.zeros(BLOCK_SIZE, dtype=np.int64)
    named = {"n": n * GROUP, "rates": rates, "context": address(context), "state": address(state),
             "other": address(other), "stages": address(stages)}  # fmt: skip
    for name, value in named.items():
        block[BLOCK.index(name)] = value
    _function(rates)(begin, address(state), address(stages), address(context))
    call, most = _stride(stride), max(int((end - begin) / step - _LAST), 0)
    done, good, together = 0, True, min(most, steps - 1)
    while good and done < together and not stopped.is_set():
        wanted = min(_SLICE, together - done)
        good = call(begin, step, done, wanted, address(block)) == wanted
        done += wanted
    while good and done < steps and not stopped.is_set():
        # where a step is counted from, and where it ends, are rounded once, as in a march by itself
        here = _rounded(begin, done, step)
        there = end if done == steps - 1 else _rounded(begin, done + 1, step)
        good = here + (there - here) == there and call(here, there - here, 0, 1, address(block)) == 1
        done += 1
    if not good or done < steps or block[CODE] != 1:
        return np.full(initial.shape, np.nan)
    return state.T[:count].copy()


def _rounded(origin: float, count: int, step: float) -> float:
    """Return origin + count*step, rounded once.

    Parameters
    ----------
    origin : float
    count : int
    step : float

    Returns
    -------
    float
    """
    return float(Fraction(origin) + count * Fraction(step))


@functools.cache
def _function(entry: int) -> Any:
    pointer = ctypes.c_void_p
    return ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, pointer, pointer, pointer)(entry)


@functools.cache
def _stride(entry: int) -> Any:
    real, whole = ctypes.c_double, ctypes.c_int64
    return ctypes.CFUNCTYPE(whole, real, real, whole, whole, ctypes.c_void_p)(entry)
