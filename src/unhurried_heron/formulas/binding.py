"""Bound indices: no binding of a name within another binding of the same name, whatever is put into a formula.

Two rules keep formulas apart. A formula that is put under the sums of another is *renamed apart* first: each of its
sums gets an index that no other formula has, so that neither can capture the names of the other. What is laid out at
last is in *normal form*: the index of a sum is numbered by how many sums its summand holds within one another, that of
a loop by its position, so that equal formulas are one object again.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence

from unhurried_heron.formulas.expression import BOUND, SUM, Node, free_names, name, upwards

_fresh = itertools.count()


def renamed_apart(root: Node) -> Node:
    """Return a formula each of whose sums has an index that occurs nowhere else."""
    return _with_indices(root, lambda letter, _: f"{letter}{BOUND}{BOUND}{BOUND}{next(_fresh)}")


def in_normal_form(root: Node) -> Node:
    """Return a formula whose sums are numbered from within."""
    return _with_indices(renamed_apart(root), lambda letter, height: f"{letter}{BOUND}{height}")


def normal_loops(indices: Sequence[str]) -> dict[str, str]:
    """Return the names of the indices of loops around one formula in normal form."""
    return {index: f"{index.partition(BOUND)[0]}{BOUND}{BOUND}{position}" for position, index in enumerate(indices)}


def with_names(root: Node, new: Mapping[str, str]) -> Node:
    """Rename what is free in a formula; the new names must not be bound within it."""
    done: dict[Node, Node] = {}
    for node in upwards(root):
        done[node] = _renamed(node, new, done)
    return done[root]


def _renamed(node: Node, new: Mapping[str, str], done: Mapping[Node, Node]) -> Node:
    """Return a node with other names of loop indices.

    Parameters
    ----------
    node : Node
    new : mapping of str to str
        The new name of each.
    done : mapping of Node
        What is known of parts that were seen before.

    Returns
    -------
    Node
    """
    if node.op == "name":
        other = new.get(str(node.args[0]))
        return node if other is None else name(other)
    if node.op == "slot":
        return Node(
            "slot", node.args[0], *sorted((new.get(key, key), coefficient) for key, coefficient in node.args[1:])
        )
    if node.op == SUM and node.args[0] in new:
        # its own index is another one
        inner = {key: other for key, other in new.items() if key != node.args[0]}
        ends = (done[end] for end in node.args[1:3])
        return Node(SUM, node.args[0], *ends, with_names(node.args[3], inner) if inner else node.args[3])
    operands = tuple(done[operand] for operand in node.operands)
    return node if operands == node.operands else node.with_operands(operands)


def _with_indices(root: Node, index_of: Callable[[str, int], str]) -> Node:
    """Return a formula whose sums have other indices; ``index_of``: from the letter, and how deep its sums are."""
    if not root.has_indexed:
        return root
    done: dict[Node, Node] = {}
    height: dict[Node, int] = {}
    for node in upwards(root):
        operands = tuple(done[operand] for operand in node.operands)
        height[node] = max((height[operand] for operand in node.operands), default=0) + (node.op == SUM)
        if node.op != SUM:
            done[node] = node if operands == node.operands else node.with_operands(operands)
            continue
        index, (first, last, body) = str(node.args[0]), operands
        own = index_of(index.partition(BOUND)[0], height[node])
        done[node] = Node(SUM, own, first, last, with_names(body, {index: own}) if index in free_names(body) else body)
    return done[root]
