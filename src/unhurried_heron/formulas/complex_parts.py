"""Formulas of complex numbers as two formulas of real ones: the real and the imaginary part.

Source: Abramowitz and Stegun (1964), 3.7, 4.1 to 4.5.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Sequence
from typing import Final

from unhurried_heron.errors import ExpressionError, unforeseen
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import (
    ONE,
    SUM,
    ZERO,
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
    walk,
    where,
)
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.simplify import simplified
from unhurried_heron.formulas.source import Source

# The real and the imaginary part of a formula.
Parts = tuple[Node, Node]
# What a name, or a member of an indexed state, is: its parts, or None where it is real.
PartsOf = Callable[[Node], Parts | None]
IMAGINARY_UNIT: Final[Parts] = (ZERO, ONE)
# Whole powers up to this are products.
_MAX_PRODUCT: Final = 16.0


def asks_for_parts(*roots: Node) -> bool:
    """Whether there are functions of complex numbers in formulas."""
    return any(node.op in COMPLEX_FUNCTIONS for node in walk(*roots))


def parts_of(root: Node, known: PartsOf, location: str = "") -> Parts:
    """Return the real and the imaginary part of a formula.

    Parameters
    ----------
    root : Node
    known : callable
        What a name or a member of an indexed state is.
    location : str, optional
        Where this was said, for messages.

    Returns
    -------
    (Node, Node)
        The second is zero where the formula is real.

    Raises
    ------
    ExpressionError
        A function that has no complex arguments is given one.
    """
    done: dict[Node, Parts] = {}
    for node in upwards(root):
        given = [done[operand] for operand in node.operands]
        found = known(node) if node.op in ("name", "at") else None
        if found is None:
            found = _parts(node, given, location)
        done[node] = found
    tidy: dict[Node, Node] = {}
    real, imaginary = done[root]
    return (root, ZERO) if real == root else (rewrite(real, simplified, tidy), rewrite(imaginary, simplified, tidy))


def real_part_only(root: Node, known: PartsOf, location: str = "") -> Node:
    """Return a formula whose value must be real, in real numbers.

    Parameters
    ----------
    root : Node
    known : callable
        What a name or a member of an indexed state is.
    location : str, optional
        Where this was said, for messages.

    Returns
    -------
    Node

    Raises
    ------
    ExpressionError
        It is complex.
    """
    real, imaginary = parts_of(root, known, location)
    if imaginary.value != 0.0:
        raise ExpressionError(
            "a formula is complex where a real number is needed",
            location=location,
            expected="re(…), im(…), abs(…) or arg(…) of it",
            given=to_text(root)[:80],
        )
    return real


def _parts(node: Node, given: Sequence[Parts], location: str) -> Parts:
    """Return the parts of a node from those of its operands.

    Parameters
    ----------
    node : Node
    given : sequence of (Node, Node)
        The parts of its operands.
    location : str
        Where this was said, for messages.

    Returns
    -------
    (Node, Node)

    Raises
    ------
    ExpressionError
        It has no complex operands.
    """
    op = node.op
    if op in COMPLEX_FUNCTIONS:
        a, b = given[0]
        if b.value == 0.0:
            # of a real number, whose angle is 0 or pi
            return (a if op in ("re", "conj") else ZERO if op == "im" else Node("atan2", ZERO, a)), ZERO
        return _by_formulas(COMPLEX_FUNCTIONS[op].parts, given)
    if op == SUM:
        first, last = (part[0] for part in given[:2])
        real, imaginary = (ZERO if each.value == 0.0 else Node(SUM, node.args[0], first, last, each)
                           for each in given[2])  # fmt: skip
        return real, imaginary
    if op == "pow" and node.operands[0].op == "abs" and given[0][0].op == "sqrt" and _is_even(node.operands[1]):
        # the square of a size needs no root
        return power(given[0][0].operands[0], number(float(node.operands[1].args[0]) / 2.0)), ZERO
    if all(part[1].value == 0.0 for part in given):
        operands = tuple(part[0] for part in given)
        return (node if operands == node.operands else node.with_operands(operands)), ZERO
    if op == "pow":
        return _power(node, given)
    if op == "at":
        raise ExpressionError("an index is complex", location=location, expected="whole numbers and loop indices",
                              given=to_text(node)[:80])  # fmt: skip
    rule = OPERATIONS[op].parts
    if rule == OWN_RULE:
        return _own_rule(node, given, location)
    if rule == "none":
        raise ExpressionError(
            f"'{OPERATIONS[op].sign or op}' has no complex arguments",
            location=location,
            expected="re(…), im(…) or abs(…) of what is complex",
            given=to_text(node)[:80],
        )
    return _by_formulas(_rule(op), given)


def _own_rule(node: Node, given: Sequence[Parts], location: str) -> Parts:
    """Return the parts of sums, products, quotients and choices.

    Parameters
    ----------
    node : Node
    given : sequence of (Node, Node)
        The parts of its operands.
    location : str
        Where this was said, for messages.

    Returns
    -------
    (Node, Node)

    Raises
    ------
    ExpressionError
        A condition is complex.
    """
    op = node.op
    if op == "add":
        return add(*(a for a, _ in given)), add(*(b for _, b in given))
    if op == "neg":
        return _minus(given[0][0]), _minus(given[0][1])
    if op == "mul":
        return functools.reduce(_product, given)
    if op == "div":
        return _quotient(given[0], given[1])
    if op == "where":
        condition = given[0][0]
        if given[0][1].value != 0.0:
            raise ExpressionError("a condition is complex", location=location, expected="a comparison of real numbers",
                                  given=to_text(node.operands[0])[:80])  # fmt: skip
        (a, b), (c, d) = given[1], given[2]
        return where(condition, a, c), where(condition, b, d)
    raise unforeseen(f"no rule for the parts of '{op}'")


def _minus(node: Node) -> Node:
    return ZERO if node.value == 0.0 else neg(node)


def _product(one: Parts, other: Parts) -> Parts:
    (a, b), (c, d) = one, other
    return add(mul(a, c), _minus(mul(b, d))), add(mul(a, d), mul(b, c))


def _quotient(one: Parts, other: Parts) -> Parts:
    (a, b), (c, d) = one, other
    if d.value == 0.0:
        return div(a, c), div(b, c)
    if c.value == 0.0:
        return div(b, d), _minus(div(a, d))
    size = add(mul(c, c), mul(d, d))
    return div(add(mul(a, c), mul(b, d)), size), div(add(mul(b, c), _minus(mul(a, d))), size)


def _power(node: Node, given: Sequence[Parts]) -> Parts:
    """Return the parts of a power: a product for whole exponents, by the logarithm for others."""
    base, exponent = given[0], given[1]
    n = exponent[0].value if exponent[1].value == 0.0 else None
    if n is not None and n == round(n) and abs(n) <= _MAX_PRODUCT:
        found = functools.reduce(_product, [base] * int(abs(n)), (ONE, ZERO))
        return found if n >= 0.0 else _quotient((ONE, ZERO), found)
    if base[1].value == 0.0 and base[0].value == math.e:
        logarithm: Parts = (ONE, ZERO)
    elif base[1].value == 0.0:
        logarithm = (Node("log", base[0]), ZERO)
    else:
        logarithm = _by_formulas(_rule("log"), [base])
    return _by_formulas(_rule("exp"), [_product(exponent, logarithm)])


def _of_zero(node: Node) -> Node | None:
    """Return the value of a function of zero, as exp(0)."""
    if OPERATIONS.get(node.op) is None or OPERATIONS[node.op].kind != "function" or node.operands[0].value != 0.0:
        return None
    return number(float(evaluate(node, {}))) if len(node.operands) == 1 else None


def _is_even(exponent: Node) -> bool:
    return exponent.value is not None and exponent.value % 2.0 == 0.0


def _rule(op: str) -> tuple[str, str]:
    rule = OPERATIONS[op].parts
    return rule[0], rule[1]


def _by_formulas(rule: tuple[str, str], given: Sequence[Parts]) -> Parts:
    names = {f"{letter}{k + 1}": part for k, pair in enumerate(given) for letter, part in zip("ab", pair, strict=True)}
    real, imaginary = (rewrite(replace_names(_read(text), names.get, {}), _of_zero, {}) for text in rule)
    return real, imaginary


@functools.cache
def _read(text: str) -> Node:
    return ZERO if text == "0" else read(Source(text, "a part")).node
