"""Jumps and kinks inside formulas: found, named, and taken out, so that what is left between them is smooth.

A condition becomes the name of a *switch*, whose value the march sets and holds until the switch is crossed.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from unhurried_heron.formulas.expression import (
    BOUND,
    ONE,
    SUM,
    TIME,
    ZERO,
    Node,
    add,
    div,
    mul,
    name,
    names_in,
    neg,
    number,
    power,
    upwards,
    walk,
)
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.formulas.operations import OPERATIONS, with_fact
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.model.switch_types import SLOT, WIDTH, Cause, HeldSwitch, Kind, RootSwitch, Whole, WholeSwitch
from unhurried_heron.model.unrolling import can_switch

_ROOTS: Final = with_fact(lambda each: each.switch == "root")
_POSITIVE: Final = with_fact(lambda each: each.values == "positive")
_NOT_NEGATIVE: Final = with_fact(lambda each: each.values != "any")
_WHOLE: Final[dict[str, Whole]] = {"floor": "floor", "ceil": "ceil"}
# Characters of a condition in a message.
_LONGEST_TEXT: Final = 60
HALF: Final = number(0.5)


@dataclass(frozen=True)
class Smooth:
    """Blocks with their switches taken out; ``left`` names the conditions inside indexed states, which stay."""

    indexed_formulas: tuple[IndexedFormula, ...]
    switches: tuple[HeldSwitch, ...]
    left: tuple[str, ...]


def take_out(
    indexed_formulas: Sequence[IndexedFormula], layout: Layout, inputs: Iterable[str], known: Mapping[Node, str]
) -> Smooth:
    """Replace every condition that can change during a run by the name of a switch.

    Parameters
    ----------
    indexed_formulas : Sequence[IndexedFormula]
    layout : Layout
        The states.
    inputs : Iterable[str]
    known : mapping of Node to str
        Formulas that have a name of their own, for the switches' texts.

    Returns
    -------
    Smooth
    """
    finder = _Finder(frozenset(layout.scalars), measured_names(inputs), known)
    smooth = []
    for formula in indexed_formulas:
        finder.indices = frozenset(loop.index for loop in formula.loops)
        if formula.node.has_indexed and any(map(can_switch, walk(formula.node))):
            finder.known = {**known, **members_in(formula, layout)}
        smooth.append(replace(formula, node=finder.rewrite(formula.node)))
    return Smooth(tuple(smooth), tuple(finder.switches.values()), tuple(dict.fromkeys(finder.left)))


def members_in(formula: IndexedFormula, layout: Layout) -> dict[Node, str]:
    """Return how members of indexed states are written that stand in a formula as indices."""
    parts = list(walk(formula.node))
    sums = {str(part.args[0]): int(part.args[1].value or 0) for part in parts if part.op == SUM}
    firsts = {**sums, **{loop.index: loop.first for loop in formula.loops}}
    indices = (part for part in parts if part.op == "slot")
    return {part: layout.words(part.args[0], dict(part.args[1:]), firsts) for part in indices}


def text_of(node: Node, formula: IndexedFormula, layout: Layout) -> str:
    """Write a part of a formula as a person does.

    Parameters
    ----------
    node : Node
    formula : IndexedFormula
    layout : Layout
        Of the states.

    Returns
    -------
    str
    """
    members = members_in(formula, layout)
    return members.get(node) or to_text(node, members)


class _Finder:
    def __init__(self, states: frozenset[str], inputs: frozenset[str], known: Mapping[Node, str]) -> None:
        self.states, self.inputs, self.known = states, inputs, known
        self.indices: frozenset[str] = frozenset()
        self.switches: dict[Node, HeldSwitch] = {}
        self.roots: dict[Node, RootSwitch] = {}
        self.left: list[str] = []
        self._done: dict[Node, Node] = {}
        self._causes: dict[Node, frozenset[str]] = {}

    def rewrite(self, root: Node) -> Node:
        if not root.has_condition and not any(node.op in _ROOTS for node in walk(root)):
            return root
        if self.indices:
            self._done = {}
        for node in upwards(root):
            if node not in self._done:
                smooth = tuple(self._done[operand] for operand in node.operands)
                plain = node if smooth == node.operands else node.with_operands(smooth)
                self._done[node] = self._replace(node, plain, smooth) or plain
        done = self._done[root]
        if self.indices:
            self._done = {}
        return done

    def _cause(self, root: Node) -> frozenset[str]:
        for node in upwards(root):
            if node in self._causes:
                continue
            found = frozenset().union(*(self._causes[operand] for operand in node.operands))
            if node.op == "slot":
                found |= {"indexed state" if node.args[1:] else "state"}
            elif node.op == "name":
                named = str(node.args[0])
                found |= {self._kind_of(named)} - {""}
            self._causes[node] = found
        return self._causes[root]

    def _kind_of(self, named: str) -> str:
        if named == TIME:
            return "time"
        if named in self.states:
            return "state"
        return "input" if named in self.inputs else "index" if BOUND in named else ""

    def _replace(self, node: Node, plain: Node, smooth: tuple[Node, ...]) -> Node | None:
        """Return what stands for a node that can switch; None where it cannot.

        Parameters
        ----------
        node : Node
        plain : Node
            The node with its operands as they are written.
        smooth : tuple of Node
            The operands with switches held.

        Returns
        -------
        Node or None
        """
        op, own = node.op, node.operands
        kind = OPERATIONS[op].switch if op in OPERATIONS else "none"
        if kind == "relation":
            # a > b is not b >= a: a value that stays on the limit makes the difference
            turned, denied = op in ("gt", "le"), op in ("gt", "lt")
            truth = self._switch(node, "jump", own[::-1] if turned else own, smooth[::-1] if turned else smooth)
            return Node("not", truth) if truth is not None and denied else truth
        if kind == "step":
            return self._switch(node, "jump", (own[0], ZERO), (smooth[0], ZERO))
        if kind == "pulse":
            ends = [
                self._switch(node, "jump", (own[0], own[k]), (smooth[0], smooth[k])) or Node("ge", smooth[0], smooth[k])
                for k in (1, 2)
            ]
            held = Node("and", ends[0], Node("not", ends[1]))
            return None if ends[0].op == ends[1].op == "ge" else Node("where", held, ONE, ZERO)
        if kind == "side":
            # a - b and b - a change their sign in one place, which is one switch
            turned = reversed_difference(smooth[0]) in self.switches
            mine, held = (
                (reversed_difference(own[0]), reversed_difference(smooth[0])) if turned else (own[0], smooth[0])
            )
            truth = self._switch(node, "kink" if op == "abs" else "jump", (mine, ZERO), (held, ZERO))
            if op == "abs":
                return truth and Node("where", truth, held, neg(held))
            return truth and Node("where", truth, *((number(-1.0), ONE) if turned else (ONE, number(-1.0))))
        if kind == "extreme":
            return self._extreme(node, plain, smooth)
        if kind == "root":
            return self._root(node, plain, smooth)
        if kind == "whole":
            return self._switch(node, "jump", (own[0], ZERO), (smooth[0], ZERO), _WHOLE[op])
        return None

    def _root(self, node: Node, plain: Node, smooth: tuple[Node, ...]) -> Node | None:
        """Let a root rest where its argument comes to zero; beyond the held side it goes on along its tangent.

        Parameters
        ----------
        node : Node
        plain : Node
            The node with its operands as they are written.
        smooth : tuple of Node
            The operands with switches held.

        Returns
        -------
        Node or None
        """
        own, held = node.operands[0], smooth[0]
        exponent = HALF if node.op == "sqrt" else node.operands[1]
        causes, known = self._cause(own), exponent.value
        varies = known is None and bool(self._cause(exponent))
        if (
            causes & {"indexed state", "index", "input"}
            or "state" not in causes
            or varies
            or names_in(own) & self.indices
        ):
            return None
        if (known is not None and not 0.0 < known < 1.0) or is_square(held):
            return None
        if held not in self.roots:
            text = to_text(node, self.known)
            text = text if len(text) <= _LONGEST_TEXT else text[: _LONGEST_TEXT - 1] + "…"
            slot, width = f"{SLOT}{len(self.switches)}", f"{WIDTH}{len(self.switches)}"
            gap, live = add(held, neg(name(width))), Node("ge", own, name(width))
            self.roots[held] = RootSwitch(text, "kink", "state", slot, gap, live, width=width, argument=own)
            self.switches[gap] = self.roots[held]
        switch = self.roots[held]
        width_of = name(switch.width)
        # the tangent at the width, so that a step may go beyond it
        line = mul(power(width_of, exponent), add(ONE, mul(exponent, add(div(held, width_of), neg(ONE)))))
        root = Node("where", Node("ge", held, width_of), plain, line)
        # below zero it is what it always was
        rest = ZERO if self._never_negative(own) else Node("where", Node("ge", held, neg(width_of)), ZERO, plain)
        resting = Node("where", name(switch.slot), root, rest)
        if known is not None:
            return resting
        steep = Node("and", Node("gt", exponent, ZERO), Node("lt", exponent, ONE))
        return Node("where", steep, resting, plain)

    def _never_negative(self, node: Node) -> bool:
        """Whether an argument of a root cannot be below zero, for what parameters are meant to be."""
        if node.op == "name":
            return not self._cause(node)
        if node.op == "max":
            return any(self._never_negative(each) for each in node.operands)
        if node.op in ("add", "mul", "div"):
            return all(map(self._never_negative, node.operands))
        return node.op in _NOT_NEGATIVE or is_square(node)

    def _extreme(self, node: Node, plain: Node, smooth: tuple[Node, ...]) -> Node | None:
        """Return what stands for the smallest or largest of some formulas; None where nothing can change which it is.

        Parameters
        ----------
        node : Node
        plain : Node
            The node with its operands as they are written.
        smooth : tuple of Node
            The operands with switches held.

        Returns
        -------
        Node or None
        """
        best, own = smooth[0], node.operands[0]
        for operand, part in zip(node.operands[1:], smooth[1:], strict=True):
            truth = self._switch(node, "kink", (own, operand), (best, part))
            if truth is None:
                best = Node(node.op, best, part)
            else:
                best = Node("where", truth, *((best, part) if node.op == "max" else (part, best)))
            own = Node(node.op, own, operand)
        return None if best == plain else best

    def _switch(
        self, node: Node, kind: Kind, own: Sequence[Node], smooth: Sequence[Node], whole: Whole | None = None
    ) -> Node | None:
        """Return the name of the switch for ``own[0] >= own[1]``, or None where nothing can change it.

        Parameters
        ----------
        node : Node
        kind : str
            "jump" or "kink".
        own : sequence of Node
            Two formulas that are compared.
        smooth : sequence of Node
            The same with switches held.
        whole : Whole or None, optional
            Of a whole number: its formula.

        Returns
        -------
        Node or None
        """
        gap, live = _difference(*smooth), _difference(*own)
        causes = self._cause(live)
        if not causes & {"time", "state", "input", "indexed state"}:
            return None
        text = to_text(node, self.known)
        text = text if len(text) <= _LONGEST_TEXT else text[: _LONGEST_TEXT - 1] + "…"
        if "indexed state" in causes or "index" in causes or names_in(live) & self.indices:
            self.left.append(text)
            return None
        key = Node(whole, gap) if whole else gap
        if key not in self.switches:
            cause: Cause = "state" if "state" in causes else "input" if "input" in causes else "time"
            truth = Node(whole, live) if whole else Node("ge", live, ZERO)
            slot = f"{SLOT}{len(self.switches)}"
            denied = node.op in ("gt", "lt")
            self.switches[key] = (
                WholeSwitch(text, kind, cause, slot, gap, truth, op=whole)
                if whole
                else HeldSwitch(text, kind, cause, slot, gap, truth, opposite=denied)
            )
        elif kind == "jump":
            self.switches[key] = replace(self.switches[key], kind="jump")
        return name(self.switches[key].slot)


def is_square(node: Node) -> bool:
    """Whether a formula is a sum of squares and of what is positive: its root has no infinite derivative at zero."""
    if node.value is not None:
        return node.value >= 0.0
    if node.op == "add":
        return all(map(is_square, node.operands))
    if node.op == "pow":
        return node.operands[1].value is not None and node.operands[1].value % 2.0 == 0.0
    if node.op == "mul":
        return all(is_square(each) or node.operands.count(each) % 2 == 0 for each in node.operands)
    return node.op in _POSITIVE


def reversed_difference(node: Node) -> Node:
    """Return a difference the other way round, b - a of a - b; of other formulas the negative."""
    if node.op != "add":
        return neg(node)
    return add(*(part.operands[0] if part.op == "neg" else neg(part) for part in reversed(node.operands)))


def _difference(a: Node, b: Node) -> Node:
    return a if b is ZERO else neg(b) if a is ZERO else add(a, neg(b))
