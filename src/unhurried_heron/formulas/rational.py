"""Formulas that are quotients of polynomials in some names, as coefficients by exponents."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, upwards

# A polynomial: its coefficient for each tuple of exponents.
Polynomial = dict[tuple[int, ...], float]
Quotient = tuple[Polynomial, Polynomial]
# Exponents beyond this are left to other means.
_MAX_DEGREE: Final = 40
# Terms of a polynomial likewise.
_MAX_TERMS: Final = 4000
# What is left of a sum that cancels, beside its parts.
_ROUNDING: Final = 1e-14


def rational(node: Node, variables: Mapping[Node, int], values: Mapping[str, Any]) -> Quotient | None:
    """Return numerator and denominator of a formula; None where it is no quotient of polynomials.

    Parameters
    ----------
    node : Node
    variables : mapping of Node to int
        Of what they are polynomials, and the position of its exponent.
    values : mapping of str to float
        Of all other names.

    Returns
    -------
    (dict of tuple of int to float, dict of tuple of int to float), or None
    """
    size = 1 + max(variables.values(), default=-1)
    none = (0,) * size
    one: Polynomial = {none: 1.0}
    # constants are evaluated where a quotient needs them, whatever they are made of
    found: dict[Node, Quotient | None] = {}
    for part in upwards(node):
        if part in variables:
            found[part] = ({tuple(int(k == variables[part]) for k in range(size)): 1.0}, one)
            continue
        if not part.operands or all(found[each] is None for each in part.operands):
            found[part] = None
            continue
        parts = [found[each] or _constant(each, values, none) for each in part.operands]
        combined = _combined(part, parts, one)
        if combined is None or max(map(len, combined)) > _MAX_TERMS or max(map(degree, combined)) > _MAX_DEGREE:
            return None
        found[part] = combined
    whole = found[node] or _constant(node, values, none)
    return whole if all(np.isfinite(value) for each in whole for value in each.values()) else None


def _constant(node: Node, values: Mapping[str, Any], none: tuple[int, ...]) -> Quotient:
    """Return a formula without variables as a quotient.

    Parameters
    ----------
    node : Node
    values : mapping of str to float
    none : tuple of int
        The exponents of a constant.

    Returns
    -------
    (Polynomial, Polynomial)
    """
    value = float(evaluate(node, values))
    return ({none: value} if value else {}), {none: 1.0}


def degree(polynomial: Polynomial) -> int:
    """Return the largest sum of exponents."""
    return max((sum(exponents) for exponents in polynomial), default=0)


def _combined(node: Node, parts: list[Quotient], one: Polynomial) -> Quotient | None:
    """Return the quotient of an operation on quotients, None of other operations.

    Parameters
    ----------
    node : Node
    parts : list of (Polynomial, Polynomial)
    one : Polynomial

    Returns
    -------
    (Polynomial, Polynomial), or None
    """
    if node.op == "neg":
        return {key: -value for key, value in parts[0][0].items()}, parts[0][1]
    if node.op == "add":
        total = parts[0]
        for each in parts[1:]:
            if total[1] == each[1]:
                total = _sum(total[0], each[0]), total[1]
            else:
                total = _sum(product(total[0], each[1]), product(each[0], total[1])), product(total[1], each[1])
        return total
    if node.op == "mul":
        total = parts[0]
        for each in parts[1:]:
            total = product(total[0], each[0]), product(total[1], each[1])
        return total
    if node.op == "div":
        (above, under), (over, below) = parts
        return product(above, below), product(under, over)
    if node.op == "pow":
        power = parts[1][0].get(next(iter(one)), 0.0) if len(parts[1][0]) <= 1 and parts[1][1] == one else np.nan
        if not (float(power).is_integer() and abs(power) <= _MAX_DEGREE):
            return None
        base = parts[0] if power >= 0 else parts[0][::-1]
        total = one, one
        for _ in range(int(abs(power))):
            total = product(total[0], base[0]), product(total[1], base[1])
        return total
    return None


def _sum(one: Polynomial, other: Polynomial) -> Polynomial:
    total = dict(one)
    for key, value in other.items():
        before = total.get(key, 0.0)
        total[key] = before + value
        if abs(total[key]) <= _ROUNDING * abs(value):
            del total[key]
    return total


def product(one: Polynomial, other: Polynomial) -> Polynomial:
    """Return the product of two polynomials."""
    found: Polynomial = {}
    for left, factor in one.items():
        for right, value in other.items():
            key = tuple(a + b for a, b in zip(left, right, strict=True))
            found[key] = found.get(key, 0.0) + factor * value
    return found
