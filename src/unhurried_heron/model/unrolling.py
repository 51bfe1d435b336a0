"""Formulas over index ranges that hold conditions or roots, written out member by member where these are few.

A switch has one value: in a loop it would need one for each member, and is not followed. Written out, each member has
switches and poles of its own.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Final

from unhurried_heron.formulas.expression import CONDITIONS, SUM, Node, add, number, rewrite, walk
from unhurried_heron.formulas.layout import IndexedFormula
from unhurried_heron.model.indexed import with_fixed

# conditions and roots of all members together. Each becomes a switch with machine code of its own
MAX_WRITTEN_OUT: Final = 128


def can_switch(node: Node) -> bool:
    """Whether an operation is a condition, or a root whose derivative can be infinite where its argument is zero."""
    if node.op != "pow":
        return node.op == "sqrt" or node.op in CONDITIONS
    exponent = node.operands[1].value
    return exponent is None or 0.0 < exponent < 1.0


def unrolled(
    indexed_formulas: Sequence[IndexedFormula], wanted: Callable[[Node], bool] = can_switch, most: int = MAX_WRITTEN_OUT
) -> tuple[IndexedFormula, ...]:
    """Return the formulas, with loops and sums written out that hold operations of a kind, the first that fit.

    Parameters
    ----------
    indexed_formulas : Sequence[IndexedFormula]
    wanted : callable, optional
        Whether an operation is of the kind.
    most : int, optional
        How many at most.

    Returns
    -------
    tuple[IndexedFormula, ...]
    """
    left, out = most, list[IndexedFormula]()
    for formula in indexed_formulas:
        count = _count(formula, wanted)
        if not 0 < count <= left:
            out.append(formula)
            continue
        left -= count
        ranges = [range(loop.first, loop.last + 1) for loop in formula.loops]
        for turn in itertools.product(*ranges):
            fixed = {loop.index: number(value) for loop, value in zip(formula.loops, turn, strict=True)}
            index = formula.base + sum(stride * value for stride, value in zip(formula.strides, turn, strict=True))
            node = with_fixed(_sums_written_out(formula.node, wanted), fixed)
            out.append(replace(formula, loops=(), base=index, strides=(), node=node))
    return tuple(out)


def _count(formula: IndexedFormula, wanted: Callable[[Node], bool]) -> int:
    """Return how many operations of a kind stand in the loops and sums of a formula, once for each member."""
    if not (formula.loops or formula.node.has_indexed):
        return 0
    turns = formula.turns
    total, in_sums = 0, False
    stack, seen = [(formula.node, 1)], set()
    while stack:
        node, weight = stack.pop()
        if (node, weight) in seen:
            continue
        seen.add((node, weight))
        if wanted(node):
            total += weight
            in_sums |= weight > 1
        inner = weight * _turns(node) if node.op == SUM else weight
        stack.extend((operand, inner) for operand in node.operands)
    return total * turns if formula.loops or in_sums else 0


def _turns(node: Node) -> int:
    return int(node.operands[1].value or 0) - int(node.operands[0].value or 0) + 1


def _sums_written_out(root: Node, wanted: Callable[[Node], bool]) -> Node:
    def terms(node: Node) -> Node | None:
        if node.op != SUM or not any(wanted(part) for part in walk(node)):
            return None
        first, body = int(node.operands[0].value or 0), node.operands[2]
        return add(*(with_fixed(body, {node.args[0]: number(first + k)}) for k in range(_turns(node))))

    return rewrite(root, terms, {})
