"""Symbolic derivatives of expression trees (the ordinary rules of calculus, chain rule forward).

Jumps and kinks (``abs``, ``min``, ``where``, …) are differentiated on each side; at the kink itself the side
that the value is taken from counts.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Final

from unhurried_heron.problem.expression import ONE, Node, add, div, mul, neg, number, power, where

Gradient = dict[str, Node]

_TWO: Final = number(2.0)
_HALF: Final = number(0.5)


def _call(function: str) -> Callable[[Node], Node]:
    return lambda x: Node(function, x)


# derivative of each function of one argument, as a function of the argument
_OUTER: Final[dict[str, Callable[[Node], Node]]] = {
    "sin": _call("cos"),
    "cos": lambda x: neg(Node("sin", x)),
    "tan": lambda x: add(ONE, power(Node("tan", x), _TWO)),
    "asin": lambda x: div(ONE, Node("sqrt", add(ONE, neg(power(x, _TWO))))),
    "acos": lambda x: neg(div(ONE, Node("sqrt", add(ONE, neg(power(x, _TWO)))))),
    "atan": lambda x: div(ONE, add(ONE, power(x, _TWO))),
    "sinh": _call("cosh"),
    "cosh": _call("sinh"),
    "tanh": lambda x: add(ONE, neg(power(Node("tanh", x), _TWO))),
    "exp": _call("exp"),
    "log": lambda x: div(ONE, x),
    "log10": lambda x: div(number(1.0 / math.log(10.0)), x),
    "sqrt": lambda x: div(_HALF, Node("sqrt", x)),
    "abs": _call("sign"),
}


class Differentiator:
    """Gradients of trees with respect to a fixed set of names; shared subtrees are differentiated once."""

    def __init__(self, variables: tuple[str, ...]) -> None:
        self.variables = frozenset(variables)
        self._done: dict[Node, Gradient] = {}

    def gradient(self, node: Node) -> Gradient:
        """Return the nonzero partial derivatives of a tree by name."""
        found = self._done.get(node)
        if found is None:
            found = self._done[node] = self._differentiate(node)
        return found

    def _differentiate(self, node: Node) -> Gradient:
        op = node.op
        if op == "name":
            return {str(node.args[0]): ONE} if node.args[0] in self.variables else {}
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
            return {key: neg(slope) for key, slope in parts[0].items()}
        if op == "div":
            # d(u/v) = du/v - (u/v)/v dv, which shares the quotient itself
            return self._weighted([(div(ONE, a[1]), parts[0]), (neg(div(node, a[1])), parts[1])])
        if op == "pow":
            down = mul(a[1], power(a[0], add(a[1], neg(ONE)) if a[1].value is None else number(a[1].value - 1.0)))
            return self._weighted([(down, parts[0]), (mul(node, Node("log", a[0])), parts[1])])
        if op == "atan2":
            size = add(power(a[0], _TWO), power(a[1], _TWO))
            return self._weighted([(div(a[1], size), parts[0]), (neg(div(a[0], size)), parts[1])])
        if op == "where":
            return self._choose(a[0], parts[1], parts[2])
        if op in ("min", "max"):
            return self._extreme(op, a, parts)
        outer = _OUTER.get(op)
        # what is left jumps between constants: comparisons, logic, sign, floor, ceil, step, pulse
        return self._weighted([(outer(a[0]), parts[0])]) if outer else {}

    @staticmethod
    def _weighted(terms: list[tuple[Node, Gradient]]) -> Gradient:
        gathered: dict[str, list[Node]] = {}
        for weight, part in terms:
            for key, slope in part.items():
                gathered.setdefault(key, []).append(mul(weight, slope))
        return {key: add(*slopes) for key, slopes in gathered.items()}

    @staticmethod
    def _choose(condition: Node, chosen: Gradient, otherwise: Gradient) -> Gradient:
        zero = number(0.0)
        return {
            key: where(condition, chosen.get(key, zero), otherwise.get(key, zero))
            for key in dict.fromkeys((*chosen, *otherwise))
        }

    def _extreme(self, op: str, operands: tuple[Node, ...], parts: list[Gradient]) -> Gradient:
        best, slope = operands[0], parts[0]
        for operand, part in zip(operands[1:], parts[1:], strict=True):
            slope = self._choose(Node("ge" if op == "max" else "le", best, operand), slope, part)
            best = Node(op, best, operand)
        return slope


def jacobian(rates: list[Node], states: tuple[str, ...]) -> dict[tuple[int, int], Node]:
    """Return the nonzero entries of d rates_i / d state_j as trees, keyed (i, j)."""
    index = {state: j for j, state in enumerate(states)}
    differentiator = Differentiator(states)
    return {
        (i, index[key]): slope for i, rate in enumerate(rates) for key, slope in differentiator.gradient(rate).items()
    }
