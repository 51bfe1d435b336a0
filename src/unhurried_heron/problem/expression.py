"""Expression trees: what a written formula is once it has been read."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import Final

CONSTANTS: Final = {"pi": math.pi, "e": math.e}
TIME: Final = "t"

# name -> (fewest, most) arguments; None means any number from the fewest on
FUNCTIONS: Final[dict[str, tuple[int, int | None]]] = {
    **dict.fromkeys(("sin", "cos", "tan", "asin", "acos", "atan", "sinh", "cosh", "tanh"), (1, 1)),
    **dict.fromkeys(("exp", "log", "log10", "sqrt", "abs", "sign", "floor", "ceil", "step"), (1, 1)),
    "atan2": (2, 2),
    "min": (2, None),
    "max": (2, None),
    "pulse": (3, 3),
    "where": (3, 3),
}
COMPARISONS: Final = frozenset({"lt", "le", "gt", "ge", "eq", "ne"})
RESERVED: Final = frozenset({TIME, *CONSTANTS, *FUNCTIONS, "and", "or", "not"})


class Node:
    """One node of an expression tree: an operation and its operands, immutable and hashable.

    ``op`` is "number" (one float), "name" (one string), an operation ("add", "mul", "div", "pow", "neg",
    a comparison, "and", "or", "not") or a function of `FUNCTIONS`. Equal trees compare equal.
    """

    __slots__ = ("_hash", "args", "op")

    def __init__(self, op: str, *args: Node | float | str) -> None:
        self.op = op
        self.args = args
        self._hash = hash((op, args))

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        return isinstance(other, Node) and self._hash == other._hash and self.op == other.op and self.args == other.args

    def __repr__(self) -> str:
        return f"{self.op}({', '.join(map(repr, self.args))})"

    @property
    def operands(self) -> tuple[Node, ...]:
        """The operands that are nodes themselves (none for numbers and names)."""
        return self.args if self.op not in ("number", "name") else ()  # type: ignore[return-value]  # only leaves hold non-nodes

    @property
    def value(self) -> float | None:
        """The number this node is, or None."""
        return float(self.args[0]) if self.op == "number" else None  # type: ignore[arg-type]  # numbers hold a float


def number(value: float) -> Node:
    """A literal number."""
    return Node("number", float(value))


def name(text: str) -> Node:
    """A state, parameter, derived quantity or the time."""
    return Node("name", text)


ZERO: Final = number(0.0)
ONE: Final = number(1.0)


def add(*terms: Node) -> Node:
    """Sum, with zeros dropped."""
    kept = [term for term in terms if term.value != 0.0]
    return ZERO if not kept else kept[0] if len(kept) == 1 else Node("add", *kept)


def mul(*factors: Node) -> Node:
    """Product, with ones dropped and a zero factor swallowing the rest."""
    if any(factor.value == 0.0 for factor in factors):
        return ZERO
    kept = [factor for factor in factors if factor.value != 1.0]
    return ONE if not kept else kept[0] if len(kept) == 1 else Node("mul", *kept)


def neg(operand: Node) -> Node:
    """Negation."""
    value = operand.value
    return number(-value) if value is not None else Node("neg", operand)


def div(numerator: Node, denominator: Node) -> Node:
    """Quotient."""
    return ZERO if numerator.value == 0.0 else Node("div", numerator, denominator)


def power(base: Node, exponent: Node) -> Node:
    """Power, with the exponents 0 and 1 taken away."""
    if exponent.value == 0.0:
        return ONE
    return base if exponent.value == 1.0 else Node("pow", base, exponent)


def where(condition: Node, chosen: Node, otherwise: Node) -> Node:
    """``chosen`` where the condition holds, else ``otherwise``."""
    return chosen if chosen == otherwise else Node("where", condition, chosen, otherwise)


def names_in(*roots: Node) -> set[str]:
    """Return all names that the trees mention."""
    return {str(node.args[0]) for node in walk(*roots) if node.op == "name"}


def walk(*roots: Node) -> Iterator[Node]:
    """Every distinct node of the trees, parents before children."""
    stack, seen = list(roots), set()
    while stack:
        node = stack.pop()
        if id(node) not in seen:
            seen.add(id(node))
            yield node
            stack.extend(node.operands)


def replace_names(root: Node, substitute: Callable[[str], Node | None], done: dict[Node, Node]) -> Node:
    """Put other trees in the place of names; ``done`` remembers what was rebuilt, so sharing is kept."""
    found = done.get(root)
    if found is None:
        if root.op == "name":
            found = substitute(str(root.args[0])) or root
        elif root.op == "number":
            found = root
        else:
            found = Node(root.op, *(replace_names(child, substitute, done) for child in root.operands))
        done[root] = found
    return found
