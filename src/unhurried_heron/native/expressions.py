"""Written formulas as native functions, compiled once for each structure."""

from __future__ import annotations

import functools
from typing import Final

import numpy as np

from unhurried_heron.deadline import check_deadline
from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.layout import Block, single
from unhurried_heron.formulas.work import refuse_endless
from unhurried_heron.native.blocks import Shape, emit_each, emit_module, emit_shape
from unhurried_heron.native.bounds import hold_within
from unhurried_heron.native.emit import Names
from unhurried_heron.native.signature import FloatArray, NativeFunction, address

# so many formulas are compiled between two looks at the deadline: a tenth of a second
_AT_ONCE: Final = 128


def compiled(
    blocks: tuple[Block, ...], size: int, names: Names, context: FloatArray, *, guarded: tuple[Block, ...] = ()
) -> NativeFunction:
    """Return a native function that writes the values of blocks into an array of ``size`` numbers.

    The machine code depends on the blocks and the order of the names, never on what stands in ``context``.

    Parameters
    ----------
    context : ndarray of float64
        Parameters, values of switches and addresses of tables, in the order of ``names``.
    guarded : tuple of Block
        What is computed instead where an answer is no number: formulas whose switches are not held.
    """
    place, engine = _machine_code(blocks, guarded, size, names)
    return NativeFunction(place, size, context, keep=(engine,))


def compiled_each(nodes: tuple[Node, ...], names: Names, context: FloatArray) -> tuple[NativeFunction, ...]:
    """Return a native function of one output for each formula, many in one module.

    Raises
    ------
    OutOfTimeError
        The deadline of the call passed before all were compiled.
    """
    made: dict[Shape, int] = {}
    engines: list[object] = []
    shaped: list[tuple[Shape, tuple[float, ...]]] = []
    for first in range(0, len(nodes), _AT_ONCE):
        check_deadline()
        shaped += _shapes(nodes[first : first + _AT_ONCE], names)
    shapes = tuple(dict.fromkeys(shape for shape, _ in shaped))
    for first in range(0, len(shapes), _AT_ONCE):
        check_deadline()
        addresses, engine = _machine_code_each(shapes[first : first + _AT_ONCE])
        made |= zip(shapes[first : first + _AT_ONCE], addresses, strict=True)
        engines.append(engine)
    return tuple(
        NativeFunction(made[shape], 1, _own(context, numbers), keep=(*engines, context), parameters=context)
        for shape, numbers in shaped
    )


def _own(context: FloatArray, numbers: tuple[float, ...]) -> FloatArray:
    """Return what a formula reads: the address of the context, and its numbers."""
    own = np.array([0.0, *numbers])
    own[:1].view(np.int64)[0] = address(context)
    return own


@functools.lru_cache(maxsize=256)
def _shapes(nodes: tuple[Node, ...], names: Names) -> list[tuple[Shape, tuple[float, ...]]]:
    for node in nodes:
        block = (single(node, 0),)
        refuse_endless(block, "an event")
        hold_within(block, 1, names.n_states)
    return [emit_shape(node, names) for node in nodes]


@functools.lru_cache(maxsize=256)
def _machine_code_each(shapes: tuple[Shape, ...]) -> tuple[list[int], object]:
    from unhurried_heron.native.engine import compile_many

    return compile_many(emit_each(shapes), len(shapes))


@functools.lru_cache(maxsize=256)
def _machine_code(blocks: tuple[Block, ...], guarded: tuple[Block, ...], size: int, names: Names) -> tuple[int, object]:
    from unhurried_heron.native.engine import compile_module

    refuse_endless((*blocks, *guarded), "what is compiled")
    hold_within((*blocks, *guarded), size, names.n_states)
    optimised = any(block.loops for block in blocks)
    return compile_module(emit_module(blocks, guarded, size, names), optimised=optimised)
