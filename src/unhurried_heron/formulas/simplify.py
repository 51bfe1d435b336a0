"""Taking needless zeros, ones, signs and factors out of formulas that rules have made."""

from __future__ import annotations

import math
from collections import Counter

from unhurried_heron.formulas.expression import ONE, ZERO, Node, add, div, mul, neg, number, power


def simplified(node: Node) -> Node:
    """Return a node without needless parts, its operands being so already."""
    op, operands = node.op, node.operands
    if op == "add":
        terms = [part for term in operands for part in (term.operands if term.op == "add" else (term,))]
        values = [term.value for term in terms if term.value is not None]
        rest = [term for term in terms if term.value is None]
        total = math.fsum(values)
        return add(*_merged(rest), number(total)) if math.isfinite(total) else add(*terms)
    if op == "mul":
        return _product(operands)
    if op == "neg":
        return minus(operands[0])
    if op == "div":
        return _ratio(*operands)
    return power(*operands) if op == "pow" else node


def _merged(terms: list[Node]) -> list[Node]:
    """Add up terms that differ in their numbers only, so that what cancels is gone."""
    scales: dict[frozenset[tuple[Node, int]], float] = {}
    first: dict[frozenset[tuple[Node, int]], tuple[Node, list[Node]]] = {}
    for term in terms:
        scale, factors = _factors(term.operands[0] if term.op == "neg" else term)
        scale = -scale if term.op == "neg" else scale
        key = frozenset(Counter(factors).items())
        if key in first:
            scales[key] += scale
            first[key] = (first[key][0], factors)
        else:
            scales[key], first[key] = scale, (term, [])
    if len(first) == len(terms) or not all(map(math.isfinite, scales.values())):
        return terms
    # a term that stands alone stays as it was written
    return [
        _made(scales[key], factors) if factors else term for key, (term, factors) in first.items() if scales[key] != 0.0
    ]


def _factors(node: Node) -> tuple[float, list[Node]]:
    """Return a product as a number and its other factors."""
    flat = list(node.operands) if node.op == "mul" else [node]
    scale, rest = 1.0, []
    for factor in flat:
        if factor.op == "neg":
            scale, factor = -scale, factor.operands[0]
        if factor.value is None:
            rest.append(factor)
        else:
            scale *= factor.value
    return scale, rest


def _made(scale: float, factors: list[Node]) -> Node:
    made = mul(number(abs(scale)), *factors)
    return minus(made) if scale < 0 else made


def _product(operands: tuple[Node, ...]) -> Node:
    flat = [part for factor in operands for part in (factor.operands if factor.op == "mul" else (factor,))]
    below = [factor.operands[1] for factor in flat if factor.op == "div"]
    if below:
        above = [factor.operands[0] if factor.op == "div" else factor for factor in flat]
        return _ratio(_product(tuple(above)), _product(tuple(below)))
    scale, rest = _factors(Node("mul", *flat) if len(flat) > 1 else flat[0])
    return _made(scale, rest) if math.isfinite(scale) else Node("mul", *operands)


def _ratio(above: Node, below: Node) -> Node:
    if above is ZERO:
        return ZERO
    if above.op == "div":
        return _ratio(above.operands[0], _product((above.operands[1], below)))
    up, top = _factors(above)
    down, bottom = _factors(below)
    for factor in list(top):
        if factor in bottom:
            top.remove(factor)
            bottom.remove(factor)
    scale = up / down if down and math.isfinite(up) and math.isfinite(down) else math.nan
    if not math.isfinite(scale) or scale == 0.0:
        return div(above, below)
    # numbers are joined where that is exact: 2*m/4 is m/2, but x/3 stays as it is
    if abs(scale) != round(abs(scale)) and abs(1.0 / scale) == round(abs(1.0 / scale)):
        up, down = math.copysign(1.0, scale), abs(1.0 / scale)
    elif abs(scale) == round(abs(scale)) or (not bottom and not top):
        up, down = scale, 1.0
    else:
        up, down = math.copysign(abs(up), scale), abs(down)
    under = mul(number(down), *bottom)
    over = mul(number(abs(up)), *top)
    made = over if under is ONE else div(over, under)
    return minus(made) if up < 0 else made


def ratio_of_sums(above: Node, below: Node) -> Node:
    """Return a quotient without the factors that all terms of a sum share with the divisor."""
    terms = list(above.operands) if above.op == "add" else [above]
    parts = [_above_and_below(term) for term in terms]
    scale, rest = _factors(below)
    for factor in list(rest):
        if all(factor in top for top, _ in parts):
            rest.remove(factor)
            for top, _ in parts:
                top.remove(factor)
    made = [_ratio(_product(tuple(top)) if len(top) > 1 else (top or [ONE])[0], bottom) for top, bottom in parts]
    return _ratio(simplified(Node("add", *made)) if len(made) > 1 else made[0], _made(scale, rest))


def _above_and_below(term: Node) -> tuple[list[Node], Node]:
    """Return the factors of a term, its sign among them, and what it is divided by."""
    if term.op == "neg":
        top, bottom = _above_and_below(term.operands[0])
        return [number(-1.0), *top], bottom
    above, bottom = term.operands if term.op == "div" else (term, ONE)
    return list(above.operands) if above.op == "mul" else [above], bottom


def minus(node: Node) -> Node:
    """Return the negative of a tree, the sign taken into a sum and out of a double negation."""
    if node.op == "neg":
        return node.operands[0]
    if node.op == "add":
        parts = [minus(term) for term in node.operands]
        # a positive term goes first, as one would write it
        parts.sort(key=lambda term: term.op == "neg")
        return add(*parts)
    return neg(node)
