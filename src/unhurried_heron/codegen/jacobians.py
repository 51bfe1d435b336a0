"""The Jacobian of a problem's rates as a native function: a matrix, its entries, or its products with a vector."""

from __future__ import annotations

import functools
from dataclasses import replace
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.clamp import clamped
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.crossing_functions import native_function
from unhurried_heron.codegen.expression_ir import SymbolTable
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.codegen.system import NativeSystem, plain_formulas
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.differentiate import along_direction, jacobian, one_after_the_other, time_derivatives
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.input.measured_rates import rates_in_time
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.model.function_trials import unusable_answer
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.model.rates import FunctionRates, WrittenRates
from unhurried_heron.problem.problem import Problem


def with_jacobian(
    native: NativeSystem,
    problem: Problem,
    *,
    time_derivative: bool = False,
    held: bool = True,
    full: bool = True,
    matrix: bool = True,
) -> NativeSystem:
    """Return a system with its Jacobian, as far as it is known, and with the time derivative of the rates on request.

    Where the rates are in two parts, it is that of the implicit one.

    Parameters
    ----------
    native : NativeSystem
    problem : Problem
    time_derivative : bool, optional
        Whether the time derivative of the rates is wanted, too.
    held : bool, optional
        Whether the march holds the switches and crosses them one by one.
    full : bool, optional
        Whether the Jacobian is a full matrix.
    matrix : bool, optional
        Whether it is wanted at all, or products with it.

    Returns
    -------
    NativeSystem

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    layout, rates, context = problem.model.layout, problem.model.rates, native.context
    additive = native.implicit is not None
    entries = None if full or not matrix else jacobian_entries(problem, held=held, additive=additive)
    if isinstance(rates, FunctionRates):
        own = _own_jacobian(rates.jacobian, context) if rates.jacobian and matrix else None
        own = clamped(own, native.limits) if own and native.limits is not None else own
        return replace(native, jacobian=own, entries=entries)
    if not isinstance(rates, WrittenRates):
        raise unforeseen("formulas asked of rates that are a function")
    names, plain = context.names(layout, held=held), plain_formulas(rates, native.located, held=held)
    indexed_formulas = _formulas(rates, held=held, additive=additive)
    if plain:
        plain = _formulas(rates, held=False, additive=additive)
    made = product = None
    if matrix:
        made = _native_jacobian((indexed_formulas, plain), layout, names, context.array, full=full)
    else:
        beside = replace(names, n_states=2 * layout.size)
        moved, guarded = (along_direction(each, layout) for each in (indexed_formulas, plain))
        product = compiled(moved, layout.size, beside, context.array, guarded=guarded)
    moving: tuple[IndexedFormula, ...] = ()
    if time_derivative:
        moving = time_derivatives(_formulas(rates, held=held, additive=False), rates_in_time(problem.model.inputs))
    in_time = compiled(moving, layout.size, names, context.array) if moving else None
    moves = bool(moving) or not time_derivative
    return replace(native, jacobian=made, product=product, time_derivative=in_time, moves=moves, entries=entries)


def _formulas(rates: WrittenRates, *, held: bool, additive: bool) -> tuple[IndexedFormula, ...]:
    """Return the rates, or their implicit part, with jumps and kinks taken out or as they are.

    Parameters
    ----------
    rates : WrittenRates
    held : bool
        Whether they are taken out.
    additive : bool
        Whether the implicit part is wanted.

    Returns
    -------
    tuple of IndexedFormula
    """
    if additive:
        return rates.parts[held].implicit
    return rates.held if held else rates.indexed_formulas


def differenced_in_groups(problem: Problem) -> bool:
    """Whether the Jacobian is found by differences in groups of columns: of a function only its pattern is known."""
    rates = problem.model.rates
    return isinstance(rates, FunctionRates) and rates.jacobian is None and rates.known


def jacobian_entries(
    problem: Problem, *, held: bool = True, most: float = np.inf, additive: bool = False
) -> tuple[IntArray, IntArray] | None:
    """Return row and column of each number of the Jacobian, None where nothing is known of it, or there are too many.

    Nothing is known of a Python function without ``sparsity``, and a Jacobian function gives a full matrix.

    Parameters
    ----------
    problem : Problem
    held : bool, optional
        Whether the march holds the switches and crosses them one by one.
    most : float, optional
        More entries are not made.
    additive : bool, optional
        Whether those of the implicit part of the rates are wanted.

    Returns
    -------
    (ndarray of int64, ndarray of int64) or None
    """
    rates, layout = problem.model.rates, problem.model.layout
    if isinstance(rates, WrittenRates):
        formulas = _formulas(rates, held=held, additive=additive)
        if most < np.inf and sum(each.turns for each in _jacobian_formulas(formulas, layout)) > most:
            return None
        _, rows, columns = _jacobian_compact(formulas, layout)
        return rows, columns
    if not differenced_in_groups(problem):
        return None
    rows, columns = (each.astype(np.int64) for each in rates.pattern().tocoo().coords)
    return rows, columns


def _own_jacobian(function: NamedFunction, context: RuntimeData) -> NativeFunction:
    """Put a user's Jacobian behind an address; the matrix is written row by row."""
    given: Any = function.function
    n = function.layout.size

    def flat(*arguments: Any) -> Any:
        answer = given(*arguments)
        matrix = np.asarray(answer)
        if matrix.shape != (n, n) or matrix.dtype.kind not in "fiub":
            raise unusable_answer(function, answer, n * n)
        return matrix.astype(np.float64).ravel()

    flat.__name__ = getattr(given, "__name__", "jacobian")
    return native_function(replace(function, function=flat), context, n * n)


def _native_jacobian(
    indexed_formulas: tuple[tuple[IndexedFormula, ...], tuple[IndexedFormula, ...]],
    layout: Layout,
    names: SymbolTable,
    context: Array,
    *,
    full: bool,
) -> NativeFunction:
    """Compile the Jacobian of held formulas, and of the plain ones for where that is no number.

    Parameters
    ----------
    indexed_formulas : (tuple of IndexedFormula, tuple of IndexedFormula)
        Held and plain ones.
    layout : Layout
        Of the states.
    names : SymbolTable
    context : ndarray
        Parameters and values of switches, which the functions read.
    full : bool
        Whether the Jacobian is a full matrix.

    Returns
    -------
    NativeFunction
    """
    held, plain = indexed_formulas
    if full:
        guarded = _jacobian_formulas(plain, layout) if plain else ()
        return compiled(_jacobian_formulas(held, layout), layout.size**2, names, context, guarded=guarded)
    moved, rows, columns = _jacobian_compact(held, layout)
    others, *entries_of = _jacobian_compact(plain or held, layout)
    alike = bool(plain) and np.array_equal(entries_of[0], rows) and np.array_equal(entries_of[1], columns)
    return compiled(moved, rows.size, names, context, guarded=others if alike else ())


@functools.lru_cache(maxsize=64)
def _jacobian_compact(
    indexed_formulas: tuple[IndexedFormula, ...], layout: Layout
) -> tuple[tuple[IndexedFormula, ...], IntArray, IntArray]:
    return one_after_the_other(_jacobian_formulas(indexed_formulas, layout), layout.size)


@functools.lru_cache(maxsize=64)
def _jacobian_formulas(rates: tuple[IndexedFormula, ...], layout: Layout) -> tuple[IndexedFormula, ...]:
    return jacobian(rates, layout)
