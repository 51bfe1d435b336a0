"""Where written rates have poles and ends of their domains: denominators, and the arguments of logarithms and roots."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final, Literal

from unhurried_heron.formulas.expression import BOUND, TIME, Node, free_names, names_in, walk
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.model.switch_extraction import is_square, text_of
from unhurried_heron.model.unrolling import unrolled

_MOST_GUARDS: Final = 64
_LONGEST_TEXT: Final = 60
Kind = Literal["pole", "logarithm", "root"]


@dataclass(frozen=True)
class Guard:
    """A formula that must not change its sign within a step: ``node``, in the user's words ``text``, and of what."""

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
        return (f"Below zero of '{self.text}' its root is no number: write sqrt(max({self.text}, 0)), or "
                f"where({self.text} > 0, sqrt({self.text}), 0), to rest there.")  # fmt: skip


def guards_of(blocks: tuple[IndexedFormula, ...], layout: Layout) -> tuple[Guard, ...]:
    """Return what is to be watched in rates: of states and time, what can be zero, and not in long loops."""
    found: dict[Node, Guard] = {}
    for block in unrolled(blocks, _can_end, _MOST_GUARDS):
        for kind, node in _candidates(block.node) if not block.loops else ():
            if node in found or is_square(node) or is_bound(node):
                continue
            if not (layout.states_in(node) or TIME in names_in(node)):
                continue
            text = text_of(node, block, layout)
            found[node] = Guard(node, text if len(text) <= _LONGEST_TEXT else text[: _LONGEST_TEXT - 1] + "…", kind)
            if len(found) >= _MOST_GUARDS:
                return tuple(found.values())
    return tuple(found.values())


def _can_end(node: Node) -> bool:
    return node.op in ("div", "log", "log10", "sqrt", "pow")


def is_bound(node: Node) -> bool:
    """Whether a formula depends on the index of a sum around it."""
    return any(BOUND in named for named in free_names(node))


def _candidates(root: Node) -> Iterator[tuple[Kind, Node]]:
    """Every denominator and argument outside of what a condition chooses, which may have been written to avoid it."""
    chosen = {part for node in walk(root) if node.op == "where" for part in walk(*node.operands[1:])}
    for node in walk(root):
        if node in chosen:
            continue
        if node.op == "div":
            yield "pole", node.operands[1]
        elif node.op == "pow":
            value = node.operands[1].value
            if value is not None and value < 0.0:
                yield "pole", node.operands[0]
            elif value is not None and value != round(value):
                yield "root", node.operands[0]
        elif node.op in ("log", "log10"):
            yield "logarithm", node.operands[0]
        elif node.op == "sqrt":
            yield "root", node.operands[0]
