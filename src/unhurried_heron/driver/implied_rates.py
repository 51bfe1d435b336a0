"""Half-explicit methods: constraints solved in every stage, by a native function around the rates of all states."""

from __future__ import annotations

import functools
from dataclasses import replace
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.codegen.watched_formulas import NativeManifold
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.linear import LinearDemand, linear_solver
from unhurried_heron.families.linear_choice import INCOMPLETE, Entries, choose_linear
from unhurried_heron.families.registry import family_of
from unhurried_heron.formulas.differentiate import along_direction, jacobian, one_after_the_other, time_derivatives
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.input.measured_rates import rates_in_time
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.model.column_colouring import groups_of_columns
from unhurried_heron.model.differentiated import Differentiated
from unhurried_heron.model.rates import FunctionRates, WrittenRates
from unhurried_heron.problem.problem import Problem

# The relative tolerance of algebraic states where steps are fixed, near to rounding,
_RELATIVE: Final = 1e-10
# and the absolute one, which suits states of ordinary size.
_ABSOLUTE: Final = 1e-13
_NONE: Final = np.empty(0)
_NO_GROUPS: Final = np.empty(0, dtype=np.int64)
# the block: the kernel, and its table
_CALL: Final = """
define i32 @evaluate(double %t, ptr %y, ptr %out, ptr %block) nounwind {
  %result = alloca i64
  %unused = alloca i64
  store i64 0, ptr %unused
  %kernel = load ptr, ptr %block
  %table = getelementptr i64, ptr %block, i64 1
  store double %t, ptr %table
  %state = getelementptr i64, ptr %block, i64 2
  store ptr %y, ptr %state
  %rates = getelementptr i64, ptr %block, i64 3
  store ptr %out, ptr %rates
  %where = ptrtoint ptr %table to i64
  %status = call i32 %kernel(ptr %result, ptr %unused, i64 %where)
  %code = load i64, ptr %result
  %short = trunc i64 %code to i32
  ret i32 %short
}
"""


@functools.cache
def _code() -> tuple[int, Any]:
    return compile_module(_CALL)


class _Parts(NamedTuple):
    """What the rates of algebraic states follow from.

    ``algebraic``: their indices, int64 (m,). ``entries``: where g_z can be nonzero. ``products``, ``in_time``,
    ``found``: functions, None where there are none, or differences. ``inverse`` (n,): one over what stands before y'.
    """

    algebraic: IntArray
    entries: Entries
    products: NativeFunction | None = None
    in_time: NativeFunction | None = None
    found: NativeFunction | None = None
    inverse: Array = _NONE


def with_implied_rates(native: NativeSystem, request: RunRequest) -> NativeSystem:
    """Return a system in which algebraic states are found in every stage, and have the rates that constraints imply.

    Parameters
    ----------
    native : NativeSystem
        The problem, made callable.
    request : RunRequest

    Returns
    -------
    NativeSystem
        As it was where its rates have no such states.
    """
    problem, n = request.problem, request.problem.model.layout.size
    rates, made = problem.model.rates, problem.model.made_by(Differentiated)
    if made is not None and made.corrections and not family_of(request.method).implicit:
        return _corrected(native, request, made)
    if not isinstance(rates, WrittenRates | FunctionRates) or not rates.implied:
        return native
    parts = _by_formulas(native, problem, rates) if isinstance(rates, WrittenRates) else _by_differences(rates, n)
    m, entries = parts.algebraic.size, parts.entries
    kind = choose_linear(m, entries, None, fixed=False)
    control = np.zeros(1, dtype=CONTROL)
    solver = linear_solver(LinearDemand(m, control, "sparse" if kind == INCOMPLETE else kind, entries))
    context = solver.context(False)
    where = entries.rows * m + entries.columns if kind == "dense" else np.arange(entries.rows.size)
    scratch, groups = np.zeros(6 * n + where.size), _NO_GROUPS
    if parts.found is None:
        groups = groups_of_columns(m, entries.rows, entries.columns)
    allowed = _allowed(request)
    limits = np.sort(problem.interval) if native.limits is None else native.limits
    functions = (native.rates, parts.products, parts.in_time, parts.found)
    arrays = (parts.inverse, groups, entries.rows, entries.columns, limits)
    table = [
        *(0, 0, 0, n, m),
        *(part for each in functions for part in ((each.address, each.context_address) if each else (0, 0))),
        *(address(parts.algebraic), solver.factor, solver.solve, address(context[0]), address(solver.jacobian)),
        *(address(scratch), solver.jacobian.size, where.size, address(where), *map(address, allowed)),
        *(address(arrays[0]), int(groups.max(initial=-1)) + 1, *map(address, arrays[1:])),
    ]
    keep = (*functions, parts.algebraic, where, solver, context, scratch, control, *allowed, *arrays)

    manifold = native.manifold
    if parts.found is None:
        rows, columns = entries.rows, parts.algebraic[entries.columns]
        found = _around(native, "constraints", m + where.size, table, keep)
        manifold = NativeManifold(found, m, rows, columns)
    return replace(native, rates=_around(native, "write", n, table, keep), moves=True, manifold=manifold)


def _corrected(native: NativeSystem, request: RunRequest, made: Differentiated) -> NativeSystem:
    """Return a system in which algebraic states are found in every stage, by corrections that are formulas.

    Parameters
    ----------
    native : NativeSystem
    request : RunRequest
    made : Differentiated

    Returns
    -------
    NativeSystem
    """
    layout, rates = request.problem.model.layout, native.rates
    algebraic = layout.indices_of_all(made.algebraic)
    formulas = made.held_corrections if native.held else made.corrections
    names, n, m = native.context.names(layout, held=native.held), layout.size, algebraic.size
    corrections = compiled(formulas, m, names, native.context.array)
    scratch, allowed = np.zeros(n + m), _allowed(request)
    table = [
        *(0, 0, 0, n, m, rates.address, rates.context_address, corrections.address, corrections.context_address),
        *(address(algebraic), address(scratch), *map(address, allowed), int(made.linear)),
    ]
    return replace(
        native, rates=_around(native, "correct", n, table, (rates, corrections, algebraic, scratch, *allowed))
    )


def _allowed(request: RunRequest) -> tuple[Array, Array]:
    """Return the tolerances in which algebraic states are found."""
    n = request.problem.model.layout.size
    return (request.relative, request.absolute) if request.adapts else (np.full(n, _RELATIVE), np.full(n, _ABSOLUTE))


def _around(native: NativeSystem, kernel: str, count: int, table: list[int], keep: tuple[Any, ...]) -> NativeFunction:
    """Return a kernel as a native function around the rates.

    Parameters
    ----------
    native : NativeSystem
    kernel : str
    count : int
        How many numbers it writes.
    table : list of int
    keep : tuple
        What must not be freed before.

    Returns
    -------
    NativeFunction
    """
    code, engine = _code()
    (loaded,) = load_kernels(f"implied_rates.{kernel}")
    block, own = np.array([loaded.address, *table], dtype=np.int64), native.rates
    return NativeFunction(code, count, block.view(np.float64), (loaded, engine, *keep), own.pending_error, own.shared)


def _by_formulas(native: NativeSystem, problem: Problem, rates: WrittenRates) -> _Parts:
    """Return the derivatives of the constraints of written equations.

    Parameters
    ----------
    native : NativeSystem
    problem : Problem
    rates : WrittenRates

    Returns
    -------
    _Parts
    """
    layout, n = problem.model.layout, problem.model.layout.size
    algebraic = layout.indices_of_all(rates.implied)
    names = native.context.names(layout, held=native.held)
    formulas, wanted = rates.held if native.held else rates.indexed_formulas, {*algebraic.tolist()}
    own = tuple(each for each in formulas if each.first in wanted)
    matrix, entries = _matrix(own, layout, algebraic)
    beside = replace(names, n_states=2 * n)
    products = compiled(along_direction(own, layout), n, beside, native.context.array)
    moving = time_derivatives(own, rates_in_time(problem.model.inputs))
    in_time = compiled(moving, n, names, native.context.array) if moving else None
    found = compiled(matrix, entries.rows.size, names, native.context.array)
    return _Parts(algebraic, entries, products, in_time, found)


def _by_differences(rates: FunctionRates, n: int) -> _Parts:
    """Return where the constraints of a function depend on its algebraic states.

    Parameters
    ----------
    rates : FunctionRates
    n : int
        Number of states.

    Returns
    -------
    _Parts
    """
    mass, inverse = rates.implied, np.zeros(n)
    if mass is None:
        raise unforeseen("a function has algebraic states")
    inverse[mass.rows] = 1.0 / mass.values
    algebraic = np.flatnonzero(inverse == 0.0)
    rows, columns = rates.pattern()[algebraic][:, algebraic].nonzero()
    return _Parts(algebraic, Entries(rows.astype(np.int64), columns.astype(np.int64)), inverse=inverse)


def _matrix(
    formulas: tuple[IndexedFormula, ...], layout: Layout, algebraic: IntArray
) -> tuple[tuple[IndexedFormula, ...], Entries]:
    """Return the derivatives of constraints by the states that they tell, and where each stands among these.

    Parameters
    ----------
    formulas : tuple of IndexedFormula
    layout : Layout
    algebraic : ndarray of int64

    Returns
    -------
    (tuple of IndexedFormula, Entries)
    """
    n = layout.size
    position = np.full(n, -1)
    position[algebraic] = np.arange(algebraic.size)
    wanted = []
    for each in jacobian(formulas, layout):
        _, _, columns = one_after_the_other((each,), n)
        # the members that a loop reaches are of one indexed state
        if (position[columns] >= 0).all():
            wanted.append(each)
    found, rows, columns = one_after_the_other(tuple(wanted), n)
    return found, Entries(position[rows], position[columns])
