"""Symbolic derivatives of expression trees (the ordinary rules of calculus, chain rule forward).

Jumps and kinks (``abs``, ``min``, ``where``, …) are differentiated on each side; at the kink itself the side
that the value is taken from counts.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import (
    ONE,
    SUM,
    Node,
    add,
    div,
    mul,
    neg,
    number,
    power,
    replace_names,
    rewrite,
    upwards,
    where,
)
from unhurried_heron.formulas.layout import IndexedFormula, Layout, Loop, flat_indices
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source

# what is differentiated by: a name, or an index among the states together with the sums that its index runs through
Variable = tuple[Node, tuple[Loop, ...]]
Gradient = dict[Variable, Node]
# How far it is along a direction.
WAY: Variable = (Node("name", "the way along a direction"), ())


@functools.cache
def derivatives_of(function: str) -> tuple[Node, ...]:
    """Return the derivatives of a function by its arguments ``x1, x2, …``, as the table of operations has them."""
    if function in COMPLEX_FUNCTIONS:
        return (read(Source(COMPLEX_FUNCTIONS[function].derivative, f"the derivative of {function}")).node,)
    partials = OPERATIONS[function].derivative
    if partials == OWN_RULE:
        raise unforeseen(f"no rule to differentiate '{function}'")
    return tuple(read(Source(partial, f"the derivative of {function}")).node for partial in partials)


def _outer(node: Node) -> list[Node]:
    """Return the derivatives of a function at its arguments."""
    given = {f"x{index + 1}": operand for index, operand in enumerate(node.operands)}
    return [rewrite(replace_names(partial, given.get, {}), _tidied, {}) for partial in derivatives_of(node.op)]


def _tidied(node: Node) -> Node | None:
    """Take away what a number in place of an argument makes needless."""
    if node.op == "neg":
        return neg(node.operands[0])
    return power(*node.operands) if node.op == "pow" else None


class Differentiator:
    """Gradients of trees by a set of names and by all indices of states; equal subtrees are differentiated once."""

    def __init__(self, variables: Iterable[str]) -> None:
        self.variables = frozenset(variables)
        self._done: dict[Node, Gradient] = {}

    def gradient(self, node: Node) -> Gradient:
        """Return the nonzero partial derivatives of a tree."""
        if node not in self._done:
            for part in upwards(node):
                if part not in self._done:
                    self._done[part] = self._differentiate(part)
        return self._done[node]

    def by_name(self, node: Node) -> dict[str, Node]:
        """Return the nonzero partial derivatives by name; for trees without indexed states."""
        return {str(variable.args[0]): partial for (variable, _), partial in self.gradient(node).items()}

    def _differentiate(self, node: Node) -> Gradient:
        op = node.op
        if op in ("slot", "at") or (op == "name" and node.args[0] in self.variables):
            return self._of_variable(node)
        if op == "name":
            return {}
        if op == SUM:
            return self._sum(node)
        parts = [self.gradient(operand) for operand in node.operands]
        if not any(parts):
            return {}
        a = node.operands
        if op == "add":
            return self._weighted([(ONE, part) for part in parts])
        if op == "mul":
            others = [mul(*a[:i], *a[i + 1 :]) if part else ONE for i, part in enumerate(parts)]
            return self._weighted(list(zip(others, parts, strict=True)))
        if op == "neg":
            return {key: neg(partial) for key, partial in parts[0].items()}
        if op == "div":
            # d(u/v) = du/v - (u/v)/v dv, which shares the quotient itself
            return self._weighted([(div(ONE, a[1]), parts[0]), (neg(div(node, a[1])), parts[1])])
        if op == "pow":
            down = mul(a[1], power(a[0], add(a[1], neg(ONE)) if a[1].value is None else number(a[1].value - 1.0)))
            return self._weighted([(down, parts[0]), (mul(node, Node("log", a[0])), parts[1])])
        if op == "where":
            return self._choose(a[0], parts[1], parts[2])
        if op in ("min", "max"):
            return self._extreme(op, a, parts)
        if op in OPERATIONS and OPERATIONS[op].flat:
            return {}
        partials = [partial if part else ONE for partial, part in zip(_outer(node), parts, strict=True)]
        return {
            key: partial
            for key, partial in self._weighted(list(zip(partials, parts, strict=True))).items()
            if partial.value != 0.0
        }

    def _of_variable(self, node: Node) -> Gradient:
        return {(node, ()): ONE}

    def _sum(self, node: Node) -> Gradient:
        index, first, last, body = node.args
        found: Gradient = {}
        for (variable, loops), partial in self.gradient(body).items():
            moving = any(key == index for key, _ in variable.args[1:]) if variable.op == "slot" else False
            if moving:
                found[variable, (Loop(index, int(first.args[0]), int(last.args[0])), *loops)] = partial
            else:
                whole = Node(SUM, index, first, last, partial)
                found[variable, loops] = add(found[variable, loops], whole) if (variable, loops) in found else whole
        return found

    @staticmethod
    def _weighted(terms: list[tuple[Node, Gradient]]) -> Gradient:
        gathered: dict[Variable, list[Node]] = {}
        for weight, part in terms:
            for key, partial in part.items():
                gathered.setdefault(key, []).append(mul(weight, partial))
        return {key: add(*partials) for key, partials in gathered.items()}

    @staticmethod
    def _choose(condition: Node, chosen: Gradient, otherwise: Gradient) -> Gradient:
        """Return the gradient of a choice between two formulas.

        Parameters
        ----------
        condition : Node
        chosen : Gradient
            Where the condition holds.
        otherwise : Gradient
            Elsewhere.

        Returns
        -------
        Gradient
        """
        zero = number(0.0)
        return {
            key: where(condition, chosen.get(key, zero), otherwise.get(key, zero))
            for key in dict.fromkeys((*chosen, *otherwise))
        }

    def _extreme(self, op: str, operands: tuple[Node, ...], parts: list[Gradient]) -> Gradient:
        """Return the gradient of the smallest or largest of some formulas.

        Parameters
        ----------
        op : str
            "min" or "max".
        operands : tuple of Node
        parts : list of Gradient
            Of the operands.

        Returns
        -------
        Gradient
        """
        best, partial = operands[0], parts[0]
        for operand, part in zip(operands[1:], parts[1:], strict=True):
            partial = self._choose(Node("ge" if op == "max" else "le", best, operand), partial, part)
            best = Node(op, best, operand)
        return partial


def derivative_along(node: Node, rates: Mapping[str, Node]) -> Node:
    """Return the derivative of a formula where the names in it have these rates, in their order."""
    partials = Differentiator(rates).by_name(node)
    return add(*(mul(partials[key], rate) for key, rate in rates.items() if key in partials))


class _AlongDirection(Differentiator):
    """Derivatives along one direction, whose numbers stand behind the states: the only variable is the way along it."""

    def __init__(self, layout: Layout) -> None:
        super().__init__(layout.scalars)
        self._layout = layout

    def _of_variable(self, node: Node) -> Gradient:
        column, moves = _column(node, self._layout)
        return {WAY: Node("slot", self._layout.size + column, *sorted(moves.items()))}


def jacobian(rates: tuple[IndexedFormula, ...], layout: Layout) -> tuple[IndexedFormula, ...]:
    """Return the nonzero entries of d rates / d states as blocks of the row-major square matrix."""
    n = layout.size
    differentiator = Differentiator(layout.scalars)
    entries = []
    for formula in rates:
        partials = differentiator.gradient(formula.node)
        # two references of a loop may meet in one place: u[i-1] and u[1], say
        adds = any(loops for _, loops in partials) or (bool(formula.loops) and len(partials) > 1)
        for (variable, loops), partial in partials.items():
            column, moves = _column(variable, layout)
            run = (*formula.loops, *loops)
            rows = dict(zip((loop.index for loop in formula.loops), formula.strides, strict=True))
            strides = tuple(n * rows.get(loop.index, 0) + moves.get(loop.index, 0) for loop in run)
            entries.append(IndexedFormula(run, n * formula.base + column, strides, partial, adds))
    return tuple(entries)


def along_direction(rates: tuple[IndexedFormula, ...], layout: Layout) -> tuple[IndexedFormula, ...]:
    """Return the derivative of rates along a direction, as blocks of a vector: the Jacobian times the direction.

    The direction stands behind the states: its number k has the index ``layout.size + k``.
    """
    differentiator, nothing = _AlongDirection(layout), number(0.0)
    return tuple(replace(formula, node=differentiator.gradient(formula.node).get(WAY, nothing)) for formula in rates)


class _AlongTime(Differentiator):
    """Derivatives by the time alone: the only variable is the way along it."""

    def __init__(self, in_time: Mapping[str, Node]) -> None:
        super().__init__(in_time)
        self._in_time = in_time

    def _of_variable(self, node: Node) -> Gradient:
        return {WAY: self._in_time[str(node.args[0])]} if node.op == "name" else {}


def time_derivatives(rates: tuple[IndexedFormula, ...], in_time: Mapping[str, Node]) -> tuple[IndexedFormula, ...]:
    """Return the nonzero derivatives of rates by the time alone, as blocks of a vector.

    Parameters
    ----------
    rates : tuple of IndexedFormula
    in_time : mapping of str to Node
        The rates of the time, and of what follows from it.

    Returns
    -------
    tuple of IndexedFormula
    """
    differentiator = _AlongTime(in_time)
    partials = [(formula, differentiator.gradient(formula.node).get(WAY)) for formula in rates]
    return tuple(replace(formula, node=partial) for formula, partial in partials if partial is not None)


def one_after_the_other(
    entries: tuple[IndexedFormula, ...], n: int
) -> tuple[tuple[IndexedFormula, ...], IntArray, IntArray]:
    """Return the blocks of a Jacobian's entries, written one after the other, and the row and column of each entry."""
    moved, where, base = [], [np.empty(0, dtype=np.int64)], 0
    for formula in entries:
        lengths = [loop.last - loop.first + 1 for loop in formula.loops]
        strides = [math.prod(lengths[k + 1 :]) for k in range(len(lengths))]
        first = sum(loop.first * stride for loop, stride in zip(formula.loops, strides, strict=True))
        moved.append(IndexedFormula(formula.loops, base - first, tuple(strides), formula.node))
        moves = {loop.index: stride for loop, stride in zip(formula.loops, formula.strides, strict=True)}
        where.append(flat_indices(formula.loops, formula.base, moves))
        base += where[-1].size
    together = np.concatenate(where)
    return tuple(moved), together // n, together % n


def _column(variable: Node, layout: Layout) -> tuple[int, dict[str, int]]:
    if variable.op == "name":
        return layout.scalars[str(variable.args[0])], {}
    return int(variable.args[0]), dict(variable.args[1:])
