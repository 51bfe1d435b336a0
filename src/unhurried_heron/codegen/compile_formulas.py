"""Written formulas as native functions, compiled once for each structure."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.expression_ir import SymbolTable
from unhurried_heron.codegen.index_check import hold_within
from unhurried_heron.codegen.modules import Shape, emit_each, emit_module, emit_template, template_formula
from unhurried_heron.deadline import check_deadline
from unhurried_heron.formulas.cost_limit import refuse_endless
from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.formulas.template import Filled, Template, as_template
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address

# Formulas compiled between two looks at the deadline: a tenth of a second.
_AT_ONCE: Final = 128


def compiled(
    indexed_formulas: tuple[IndexedFormula, ...],
    size: int,
    names: SymbolTable,
    context: Array,
    *,
    guarded: tuple[IndexedFormula, ...] = (),
) -> NativeFunction:
    """Return a native function that writes the values of blocks into an array of ``size`` numbers.

    The machine code depends on the blocks and the order of the names, never on what stands in ``context``.

    Parameters
    ----------
    indexed_formulas : tuple[IndexedFormula, ...]
    size : int
        How many numbers it writes.
    names : SymbolTable
    context : ndarray of float64
        Parameters, values of switches and addresses of tables, in the order of ``names``.
    guarded : tuple of IndexedFormula
        What is computed instead where an answer is no number: formulas whose switches are not held.

    Returns
    -------
    NativeFunction
    """
    entry, engine = _machine_code(indexed_formulas, guarded, size, names)
    return NativeFunction(entry, size, context, keep=(engine,))


def compiled_each(formulas: Sequence[Node | Filled], names: SymbolTable, context: Array) -> tuple[NativeFunction, ...]:
    """Return a native function of one output for each formula, many in one module.

    Parameters
    ----------
    formulas : sequence of Node or Filled
    names : SymbolTable
    context : ndarray
        Parameters and values of switches, which the functions read.

    Returns
    -------
    tuple[NativeFunction, ...]

    Raises
    ------
    OutOfTimeError
        The deadline of the call passed before all were compiled.
    """
    filled: list[Filled] = []
    shapes: dict[Template, Shape] = {}
    for position, each in enumerate(formulas):
        if position % _AT_ONCE == 0:
            check_deadline()
        filled.append(as_template(each, names.n_states) if isinstance(each, Node) else each)
        template = filled[-1].template
        if template not in shapes:
            shapes[template] = _shape(template, names)
    made: dict[Shape, int] = {}
    engines: list[object] = []
    distinct = tuple(dict.fromkeys(shapes.values()))
    for first in range(0, len(distinct), _AT_ONCE):
        check_deadline()
        addresses, engine = _machine_code_each(distinct[first : first + _AT_ONCE])
        made |= zip(distinct[first : first + _AT_ONCE], addresses, strict=True)
        engines.append(engine)
    keep = (*engines, context)
    return tuple(
        NativeFunction(made[shapes[each.template]], 1, _own(context, each), keep=keep, parameters=context)
        for each in filled
    )


def _own(context: Array, filled: Filled) -> Array:
    """Return what a formula reads: the address of the context, its numbers and its indices."""
    own = np.array([0.0, *filled.numbers, *(0.0 for _ in filled.indices)])
    whole = own.view(np.int64)
    whole[0] = address(context)
    whole[1 + len(filled.numbers) :] = filled.indices
    return own


@functools.lru_cache(maxsize=1024)
def _shape(template: Template, names: SymbolTable) -> Shape:
    refuse_endless((single(template.node, 0),), "an event")
    hold_within((template_formula(template),), 1, names.n_states)
    return emit_template(template, names)


@functools.lru_cache(maxsize=256)
def _machine_code_each(shapes: tuple[Shape, ...]) -> tuple[list[int], object]:
    from unhurried_heron.kernels.machine_code.jit import compile_many

    return compile_many(emit_each(shapes), len(shapes))


@functools.lru_cache(maxsize=256)
def _machine_code(
    indexed_formulas: tuple[IndexedFormula, ...], guarded: tuple[IndexedFormula, ...], size: int, names: SymbolTable
) -> tuple[int, object]:
    """Return the address of compiled formulas, and what keeps them alive.

    Parameters
    ----------
    indexed_formulas : tuple[IndexedFormula, ...]
    guarded : tuple[IndexedFormula, ...]
    size : int
        How many numbers are written.
    names : SymbolTable

    Returns
    -------
    tuple[int, object]
    """
    from unhurried_heron.kernels.machine_code.jit import compile_module

    refuse_endless((*indexed_formulas, *guarded), "what is compiled")
    hold_within((*indexed_formulas, *guarded), size, names.n_states)
    optimised = any(formula.loops for formula in indexed_formulas)
    return compile_module(emit_module(indexed_formulas, guarded, size, names), optimised=optimised)
