"""Where written rates have poles and ends of their domains: denominators, and the arguments of logarithms and roots."""

from __future__ import annotations

import functools
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Final, Literal

from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import BOUND, ONE, Node, free_names, names_in, replace_names, where
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import OPERATIONS, with_fact
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source
from unhurried_heron.model.switch_extraction import is_square, text_of
from unhurried_heron.model.unrolling import unrolled

# Denominators and arguments of one problem that are watched.
_MAX_GUARDS: Final = 64
# Characters of a term in a message.
_LONGEST_TEXT: Final = 60
Kind = Literal["pole", "logarithm", "root"]
_ENDING: Final = with_fact(lambda each: each.ends)


@dataclass(frozen=True)
class Guard:
    """A formula that must not change its sign within a step.

    Attributes
    ----------
    node : Node
        The formula; where its branch of a `where` is not chosen, it is 1.
    text : str
        The formula in the user's words.
    kind : {"pole", "logarithm", "root"}
        What it is the denominator or the argument of.
    """

    node: Node
    text: str
    kind: Kind

    @property
    def advice(self) -> str:
        """What to write where the solution comes there in truth."""
        if self.kind == "pole":
            return (f"A quotient by '{self.text}', or the highest derivative that it multiplies, has a pole where that "
                    "is zero.")  # fmt: skip
        if self.kind == "logarithm":
            return (f"Below zero of '{self.text}' its logarithm is no number: write what is meant there, "
                    f"where({self.text} > 0, log({self.text}), …).")  # fmt: skip
        if self.node.op == "abs":
            return f"The root of '{self.text}' changes infinitely fast where that is zero."
        return (f"Below zero of '{self.text}' its root is no number: write sqrt(max({self.text}, 0)), or "
                f"where({self.text} > 0, sqrt({self.text}), 0), to rest there.")  # fmt: skip


def guards_of(
    indexed_formulas: tuple[IndexedFormula, ...], layout: Layout, in_time: Collection[str]
) -> tuple[Guard, ...]:
    """Return what is to be watched in rates: of states and time, what can be zero, and not in long loops.

    Parameters
    ----------
    indexed_formulas : tuple of IndexedFormula
    layout : Layout
    in_time : collection of str
        The time, and what follows from it.

    Returns
    -------
    tuple of Guard
    """
    found: dict[Node, Guard] = {}
    for formula in unrolled(indexed_formulas, _can_end, _MAX_GUARDS):
        for kind, node, chosen in _candidates(formula.node) if not formula.loops else ():
            # in a branch that is not chosen it may have any sign
            watched = node if chosen is None else where(chosen, node, ONE)
            if watched in found or is_square(node) or is_bound(watched):
                continue
            if not layout.states_in(node) and names_in(node).isdisjoint(in_time):
                continue
            text = text_of(node, formula, layout)
            text = text if len(text) <= _LONGEST_TEXT else text[: _LONGEST_TEXT - 1] + "…"
            found[watched] = Guard(watched, text, kind)
            if len(found) >= _MAX_GUARDS:
                return tuple(found.values())
    return tuple(found.values())


def _can_end(node: Node) -> bool:
    return node.op in _ENDING


def is_bound(node: Node) -> bool:
    """Whether a formula depends on the index of a sum around it."""
    return any(BOUND in named for named in free_names(node))


def _candidates(root: Node) -> Iterator[tuple[Kind, Node, Node | None]]:
    """Every denominator and argument, with the condition under which its branch is chosen, None outside of `where`."""
    left: list[tuple[Node, Node | None]] = [(root, None)]
    seen: set[tuple[Node, Node | None]] = set()
    while left:
        index = left.pop()
        if index in seen:
            continue
        seen.add(index)
        node, chosen = index
        if node.op == "where":
            condition, one, other = node.operands
            left += [
                (condition, chosen),
                (one, _both(chosen, condition)),
                (other, _both(chosen, Node("not", condition))),
            ]
            continue
        left += ((operand, chosen) for operand in node.operands)
        yield from ((kind, end, chosen) for kind, end in ends_of(node))


def ends_of(node: Node) -> Iterator[tuple[Kind, Node]]:
    """Yield the formulas that must not change their sign for an operation to have a value, and what ends there."""
    if node.op == "pow":
        base, exponent = node.operands
        value = exponent.value
        if value is not None and (value < 0.0 or value != round(value)):
            yield "pole" if value < 0.0 else "root", base
    elif node.op in _ENDING:
        given = {f"x{k + 1}": operand for k, operand in enumerate(node.operands)}
        yield from ((kind, replace_names(end, given.get, {})) for kind, end in _ends(node.op))


@functools.cache
def _ends(op: str) -> tuple[tuple[Kind, Node], ...]:
    """Return where an operation ends, as formulas of its arguments ``x1, x2, …``."""
    ends = OPERATIONS[op].ends
    if ends == OWN_RULE:
        raise unforeseen(f"no rule where '{op}' ends")
    return tuple((kind, read(Source(text, f"the end of {op}")).node) for kind, text in ends)


def _both(one: Node | None, other: Node) -> Node:
    return other if one is None else Node("and", one, other)
