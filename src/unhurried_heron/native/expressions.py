"""Written formulas as native functions, compiled once for each structure."""

from __future__ import annotations

import functools
from typing import Final

from unhurried_heron.deadline import check_deadline
from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.layout import Block, single
from unhurried_heron.formulas.work import refuse_endless
from unhurried_heron.native.blocks import emit_each, emit_module
from unhurried_heron.native.bounds import hold_within
from unhurried_heron.native.emit import Names
from unhurried_heron.native.signature import FloatArray, NativeFunction

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
    address, engine = _machine_code(blocks, guarded, size, names)
    return NativeFunction(address, size, context, keep=(engine,))


def compiled_each(nodes: tuple[Node, ...], names: Names, context: FloatArray) -> tuple[NativeFunction, ...]:
    """Return a native function of one output for each formula, many in one module.

    Raises
    ------
    OutOfTimeError
        The deadline of the call passed before all were compiled.
    """
    made: list[NativeFunction] = []
    for first in range(0, len(nodes), _AT_ONCE):
        check_deadline()
        addresses, engine = _machine_code_each(nodes[first : first + _AT_ONCE], names)
        made += [NativeFunction(address, 1, context, keep=(engine,)) for address in addresses]
    return tuple(made)


@functools.lru_cache(maxsize=256)
def _machine_code_each(nodes: tuple[Node, ...], names: Names) -> tuple[list[int], object]:
    from unhurried_heron.native.engine import compile_many

    for node in nodes:
        block = (single(node, 0),)
        refuse_endless(block, "an event")
        hold_within(block, 1, names.n_states)
    return compile_many(emit_each(nodes, names), len(nodes))


@functools.lru_cache(maxsize=256)
def _machine_code(blocks: tuple[Block, ...], guarded: tuple[Block, ...], size: int, names: Names) -> tuple[int, object]:
    from unhurried_heron.native.engine import compile_module

    refuse_endless((*blocks, *guarded), "what is compiled")
    hold_within((*blocks, *guarded), size, names.n_states)
    optimised = any(block.loops for block in blocks)
    return compile_module(emit_module(blocks, guarded, size, names), optimised=optimised)
