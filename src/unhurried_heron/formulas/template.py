"""Formulas that differ in their numbers and in which members they read, as one template and what fills it.

Twenty thousand events that a loop made have one template, so that what is worked out of it, and its machine code, take
no longer than for one.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Final

from unhurried_heron.formulas.expression import BOUND, SUM, Node, name, upwards
from unhurried_heron.formulas.layout import Loop

_NUMBER: Final = f"{BOUND}number"
_MEMBER: Final = f"{BOUND}member"


@dataclass(frozen=True)
class Template:
    """A formula in which names stand for numbers, and indices for members of indexed states.

    Attributes
    ----------
    node : Node
        The formula.
    n_numbers : int
        How many numbers it has: `number_name` of 0, 1, …
    indices : tuple of Loop
        Its indices, and the values that they may take.
    """

    node: Node
    n_numbers: int = 0
    indices: tuple[Loop, ...] = ()


@dataclass(frozen=True)
class Filled:
    """A template with its numbers and the values of its indices, in their order."""

    template: Template
    numbers: tuple[float, ...] = ()
    indices: tuple[int, ...] = ()


def number_name(position: int) -> str:
    """Return the name that stands for a number of a template."""
    return f"{_NUMBER}{position}"


def is_number(node: Node) -> bool:
    """Whether a node is a number, or stands for one."""
    return node.op == "number" or (node.op == "name" and str(node.args[0]).startswith(_NUMBER))


def member(position: int) -> Node:
    """Return the member of an indexed state that a template reads by its index of this position."""
    return Node("slot", 0, (f"{_MEMBER}{position}", 1))


def as_template(root: Node, n_states: int) -> Filled:
    """Take numbers and members out of a formula.

    Exponents stay, because rules for powers ask for them, and so does a formula with sums.
    """
    numbers: list[float] = []
    members: list[int] = []
    done: dict[Node, Node] = {}
    for node in upwards(root):
        if node.op == SUM:
            return Filled(Template(root))
        if node.op == "number":
            done[node] = name(number_name(len(numbers)))
            numbers.append(float(node.args[0]))
        elif node.op == "slot":
            if node.args[1:]:
                return Filled(Template(root))
            done[node] = member(len(members))
            members.append(int(node.args[0]))
        elif node.op == "pow" and node.operands[1].op == "number":
            done[node] = Node("pow", done[node.operands[0]], node.operands[1])
        else:
            operands = tuple(done[operand] for operand in node.operands)
            done[node] = node if operands == node.operands else node.with_operands(operands)
    return Filled(_template(done[root], len(numbers), len(members), n_states), tuple(numbers), tuple(members))


@functools.lru_cache(maxsize=1024)
def _template(node: Node, n_numbers: int, n_members: int, n_states: int) -> Template:
    """Return a formula as a template, whose numbers and members are filled in.

    Parameters
    ----------
    node : Node
    n_numbers : int
        Numbers that are filled in.
    n_members : int
        Members of indexed states.
    n_states : int
        Number of states.

    Returns
    -------
    Template
    """
    indices = (Loop(f"{_MEMBER}{position}", 0, n_states - 1) for position in range(n_members))
    return Template(node, n_numbers, tuple(indices))
