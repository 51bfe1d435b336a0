"""Expression trees: what a written formula is once it has been read."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import Any, ClassVar, Final
from weakref import WeakValueDictionary

from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, FUNCTIONS, with_fact

CONSTANTS: Final = {"pi": math.pi, "e": math.e}
TIME: Final = "t"

COMPARISONS: Final = with_fact(lambda each: each.kind == "comparison")
SUM: Final = "sum"
# The function that marks a term for the implicit part of an additive method, and is its argument.
MARK: Final = "implicit"
_INDEXED: Final = frozenset({"at", "slot", SUM})
CONDITIONS: Final = with_fact(lambda each: each.jumps)
# This marks the index of a sum, so that it is never taken for another name.
BOUND: Final = "\u00b7"
# Pickling goes down a tree by recursion: nodes up to this depth are pickled one by one, deeper ones in slices.
_DEEPEST_BY_RECURSION: Final = 50
# Slices that one recursion passes, far within the interpreter's limit of 1,000.
_MAX_SLICES: Final = 64
# Functions whose names people give to parameters: one of the two may be in a problem, not both.
ALSO_NAMES: Final = frozenset({"gamma", *COMPLEX_FUNCTIONS})
# The imaginary unit, in problems with complex states where nothing else is called so.
IMAGINARY: Final = "i"
RESERVED: Final = frozenset({TIME, *CONSTANTS, *FUNCTIONS, SUM, "and", "or", "not"}) - ALSO_NAMES


class Node:
    """One node of an expression tree: an operation and its operands, immutable.

    ``op`` is "number" (one float), "name" (one string), an operation ("add", "mul", "div", "pow", "neg",
    a comparison, "and", "or", "not") or a function of `OPERATIONS`. Of indexed states: "at" (a name, then the
    indices), "slot" (an index among the states that depends linearly on loop indices: ``base, (index, coefficient),
    …``) and "sum" (an index name, then its first and last value and the summand).

    Equal trees are one and the same object, so that comparing them takes no time however deep they are.
    """

    __slots__ = ("__weakref__", "args", "depth", "has_condition", "has_indexed", "op")
    _known: ClassVar[WeakValueDictionary[Any, Node]] = WeakValueDictionary()
    op: str
    args: tuple[Any, ...]
    # the longest way down to a number or a name
    depth: int
    # whether members of indexed states or sums, or conditions that can jump or have a kink, stand anywhere within it
    has_indexed: bool
    has_condition: bool

    def __new__(cls, op: str, *args: Any) -> Node:
        """Return the one node of this content."""
        # 0.0 and -0.0 are equal, but not the same number
        key = (op, args[0].hex()) if op == "number" else (op, *args)
        found = cls._known.get(key)
        if found is None:
            found = super().__new__(cls)
            found.op, found.args = op, args
            operands = found.operands
            found.depth = 1 + max((part.depth for part in operands), default=0)
            found.has_indexed = op in _INDEXED or any(part.has_indexed for part in operands)
            found.has_condition = op in CONDITIONS or any(part.has_condition for part in operands)
            found = cls._known.setdefault(key, found)
        return found

    def __reduce__(self) -> Any:
        if self.depth <= _DEEPEST_BY_RECURSION:
            return Node, (self.op, *self.args)
        # cut at the same depths whatever tree a node stands in, so that what several trees share is written once
        slice_ = _DEEPEST_BY_RECURSION
        while self.depth > slice_ * _MAX_SLICES:
            slice_ *= 2
        below: dict[Node, int] = {}
        indices: dict[Node, int] = {}
        for node in upwards(self, within=lambda node: node is self or node.depth % slice_ != 0):
            known = indices if node is self or node.depth % slice_ else below
            known[node] = len(known)
        lines = [
            (node.op, node.args[: len(node.args) - len(node.operands)],
             tuple(indices[each] if each in indices else ~below[each] for each in node.operands))
            for node in indices
        ]  # fmt: skip
        return _grown, (lines, tuple(below))

    def __copy__(self) -> Node:
        return self

    def __deepcopy__(self, memo: dict[int, Any]) -> Node:
        return self

    def __repr__(self) -> str:
        return f"{self.op}({', '.join(map(repr, self.args))})"

    @property
    def operands(self) -> tuple[Node, ...]:
        """The operands that are nodes themselves (none for numbers and names)."""
        return self.args[_LEAD[self.op] :] if self.op in _LEAD else self.args

    @property
    def value(self) -> float | None:
        """The number this node is, or None."""
        return float(self.args[0]) if self.op == "number" else None

    def with_operands(self, operands: tuple[Node, ...]) -> Node:
        """Return the same operation on other operands."""
        return Node(self.op, *self.args[: _LEAD.get(self.op, 0)], *operands)


# how many arguments of an operation come before its operands, where there are any
_LEAD: Final = {"number": 1, "name": 1, "at": 1, "sum": 1, "slot": 1_000_000}


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
    """``chosen`` where the condition holds, else ``otherwise``.

    Parameters
    ----------
    condition : Node
    chosen : Node
    otherwise : Node

    Returns
    -------
    Node
    """
    return chosen if chosen == otherwise else Node("where", condition, chosen, otherwise)


def names_in(*roots: Node) -> set[str]:
    """Return all names that the trees mention, those of indexed states and of indices included."""
    return {str(node.args[0]) for node in walk(*roots) if node.op in ("name", "at")}


def free_names(root: Node) -> frozenset[str]:
    """Return the names and indices that a tree takes from around it: all but the indices of its own sums."""
    free: dict[Node, frozenset[str]] = {}
    for node in upwards(root):
        found: frozenset[str] = frozenset().union(*(free[part] for part in node.operands))
        if node.op == "name":
            found |= {str(node.args[0])}
        elif node.op == "slot":
            found |= {str(index) for index, _ in node.args[1:]}
        elif node.op == SUM:
            found -= {str(node.args[0])}
        free[node] = found
    return free[root]


def walk(*roots: Node) -> Iterator[Node]:
    """Every distinct node of the trees, parents before children."""
    stack, seen = list(roots), set()
    while stack:
        node = stack.pop()
        if node not in seen:
            seen.add(node)
            yield node
            stack.extend(node.operands)


def _grown(lines: list[tuple[str, tuple[Any, ...], tuple[int, ...]]], below: tuple[Node, ...]) -> Node:
    """Return a tree from its nodes, operands before what uses them by index (below zero: trees of ``below``)."""
    nodes: list[Node] = []
    for op, lead, operands in lines:
        nodes.append(Node(op, *lead, *(nodes[index] if index >= 0 else below[~index] for index in operands)))
    return nodes[-1]


def upwards(*roots: Node, within: Callable[[Node], bool] | None = None) -> Iterator[Node]:
    """Every distinct node of the trees, operands before what uses them: recursion never goes deep in this order.

    Of nodes that are not ``within``, the operands are left out.
    """
    seen: set[Node] = set()
    stack: list[tuple[Node, bool]] = [(root, False) for root in reversed(roots)]
    while stack:
        node, ready = stack.pop()
        if ready:
            yield node
        elif node not in seen:
            seen.add(node)
            stack.append((node, True))
            if within is None or within(node):
                stack.extend((operand, False) for operand in reversed(node.operands))


def rewrite(root: Node, substitute: Callable[[Node], Node | None], done: dict[Node, Node]) -> Node:
    """Put other trees in place of nodes, from the leaves up.

    Parameters
    ----------
    root : Node
    substitute : callable
        Sees each node with its operands already rewritten, and returns None to leave it.
    done : dict of Node to Node
        Remembers what was rebuilt, so that sharing is kept.

    Returns
    -------
    Node
    """
    for node in upwards(root):
        if node not in done:
            operands = tuple(done[operand] for operand in node.operands)
            rebuilt = node if operands == node.operands else node.with_operands(operands)
            done[node] = substitute(rebuilt) or rebuilt
    return done[root]


def replace_names(root: Node, substitute: Callable[[str], Node | None], done: dict[Node, Node]) -> Node:
    """Put other trees in place of names.

    Parameters
    ----------
    root : Node
    substitute : callable
        Returns the tree for a name, or None to leave it.
    done : dict of Node to Node
        Remembers what was rebuilt, so that sharing is kept.

    Returns
    -------
    Node
    """
    return rewrite(root, lambda node: substitute(str(node.args[0])) if node.op == "name" else None, done)
