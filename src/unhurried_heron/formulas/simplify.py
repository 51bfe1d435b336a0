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
    # a pair may make the half of another
    while _sines_and_cosines(scales, first):
        pass
    if len(first) == len(terms) or not all(map(math.isfinite, scales.values())):
        return terms
    # a term that stands alone stays as it was written
    return [
        _made(scales[key], factors) if factors or not key else term
        for key, (term, factors) in first.items()
        if scales[key] != 0.0
    ]


def _sines_and_cosines(
    scales: dict[frozenset[tuple[Node, int]], float],
    first: dict[frozenset[tuple[Node, int]], tuple[Node, list[Node]]],
) -> bool:
    """Put 1 in place of sin^2 + cos^2, other factors alike; True where there was such a pair."""
    found = False
    for key in list(first):
        for factor, count in list(key):
            base, exponent = _whole_power(factor)
            if key not in scales or base.op != "sin" or exponent * count != 2:
                continue
            rest = dict(key)
            del rest[factor]
            cosine = Node("cos", *base.operands)
            others = [
                frozenset({**rest, power(cosine, number(2.0)): 1}.items()),
                frozenset({**rest, cosine: 2}.items()),
            ]
            other = next((each for each in others if scales.get(each) == scales[key] != 0.0), None)
            if other is None:
                continue
            scale = scales.pop(key)
            scales.pop(other)
            first.pop(key)
            first.pop(other)
            together = frozenset(rest.items())
            factors = [part for part, times in rest.items() for _ in range(times)]
            scales[together] = scales.get(together, 0.0) + scale
            first[together] = (_made(scale, factors), factors)
            found = True
    return found


def _factors(node: Node) -> tuple[float, list[Node]]:
    """Return a product as a number and its other factors."""
    flat, scale, rest = [node], 1.0, []
    while flat:
        factor = flat.pop(0)
        if factor.op == "neg":
            scale, factor = -scale, factor.operands[0]
        if factor.op == "mul":
            flat = [*factor.operands, *flat]
        elif factor.value is None:
            rest.append(factor)
        else:
            scale *= factor.value
    return scale, rest


def _made(scale: float, factors: list[Node]) -> Node:
    made = mul(number(abs(scale)), *_gathered(factors))
    return minus(made) if scale < 0 else made


def _gathered(factors: list[Node]) -> list[Node]:
    """Write repeated factors as powers."""
    bases = _bases(factors)
    if len(bases) == len(factors):
        return factors
    return [power(base, number(float(exponent))) for base, exponent in bases.items()]


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
    top, bottom = _cancelled(top, bottom)
    scale = up / down if down else math.nan
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


def _cancelled(top: list[Node], bottom: list[Node]) -> tuple[list[Node], list[Node]]:
    """Cancel whole powers of what stands above and below."""
    above, below = Counter(_bases(top)), Counter(_bases(bottom))
    shared = {base: min(above[base], below[base]) for base in above.keys() & below.keys()}
    if not shared:
        return top, bottom
    return _without(top, dict(shared)), _without(bottom, dict(shared))


def _bases(factors: list[Node]) -> dict[Node, int]:
    found: Counter[Node] = Counter()
    for factor in factors:
        base, exponent = _whole_power(factor)
        found[base] += exponent
    return dict(found)


def _whole_power(factor: Node) -> tuple[Node, int]:
    exponent = factor.operands[1].value if factor.op == "pow" else None
    if exponent is None or exponent != int(exponent) or not 1 <= exponent <= 1000:
        return factor, 1
    return factor.operands[0], int(exponent)


def _without(factors: list[Node], taken: dict[Node, int]) -> list[Node]:
    """Take powers away from a product."""
    left = []
    for factor in factors:
        base, exponent = _whole_power(factor)
        gone = min(exponent, taken.get(base, 0))
        if gone:
            taken[base] -= gone
            factor = power(base, number(float(exponent - gone)))
        if factor is not ONE:
            left.append(factor)
    return left


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
