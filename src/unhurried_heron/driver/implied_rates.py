"""Rates for algebraic states that have indices, as a native function around those of the others."""

from __future__ import annotations

import functools
from dataclasses import replace
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.jit import compile_module
from unhurried_heron.codegen.signature import NativeFunction, address
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.families.linear import LinearDemand, linear_solver
from unhurried_heron.families.linear_choice import INCOMPLETE, Entries, choose_linear
from unhurried_heron.formulas.differentiate import along_direction, jacobian, one_after_the_other, time_derivatives
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem

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


def with_implied_rates(native: NativeSystem, problem: Problem, rates: WrittenRates) -> NativeSystem:
    """Return a system in which the algebraic states of written rates have the rates that their constraints imply.

    Parameters
    ----------
    native : NativeSystem
        The problem, made callable.
    problem : Problem
    rates : WrittenRates

    Returns
    -------
    NativeSystem
    """
    layout, n = problem.model.layout, problem.model.layout.size
    algebraic = layout.indices_of_all(rates.implied)
    names = native.context.names(layout, held=native.held)
    formulas, wanted = rates.held if native.held else rates.indexed_formulas, {*algebraic.tolist()}
    own = tuple(each for each in formulas if each.first in wanted)
    matrix, entries = _matrix(own, layout, algebraic)
    beside = replace(names, n_states=2 * n)
    products = compiled(along_direction(own, layout), n, beside, native.context.array)
    moving = time_derivatives(own)
    in_time = compiled(moving, n, names, native.context.array) if moving else None
    found = compiled(matrix, entries.rows.size, names, native.context.array)
    kind = choose_linear(algebraic.size, entries, None, fixed=False)
    control = np.zeros(1, dtype=CONTROL)
    solver = linear_solver(LinearDemand(algebraic.size, control, "sparse" if kind == INCOMPLETE else kind, entries))
    (kernel,) = load_kernels("implied_rates.write")
    context = solver.context(False)
    where = entries.rows * algebraic.size + entries.columns if kind == "dense" else np.arange(entries.rows.size)
    scratch = np.zeros(3 * n + where.size)
    functions = [(each.address, each.context_address) if each else (0, 0)
                 for each in (native.rates, products, in_time, found)]  # fmt: skip
    block = np.array([kernel.address, 0, 0, 0, n, algebraic.size, *(part for pair in functions for part in pair),
                      address(algebraic), solver.factor, solver.solve, address(context[0]), address(solver.jacobian),
                      address(scratch), solver.jacobian.size, where.size, address(where)], dtype=np.int64)  # fmt: skip
    code, engine = _code()
    keep = (engine, kernel, native.rates, products, in_time, found, algebraic, where, solver, context, scratch, control)
    made = NativeFunction(code, n, block.view(np.float64), keep, native.rates.pending_error, native.rates.shared)
    return replace(native, rates=made, moves=True)


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
