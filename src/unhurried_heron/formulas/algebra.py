"""Solving small coupled linear equations with formulas as coefficients, by SymPy's algebra.

Imported only where equations are coupled in their highest derivatives.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Mapping
from typing import Any, Final

import sympy

from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import (
    BOUND,
    Node,
    add,
    div,
    mul,
    name,
    neg,
    number,
    power,
    replace_names,
    rewrite,
    upwards,
)
from unhurried_heron.formulas.simplify import simplified

# More equations than this are eliminated one by one: a determinant that is written out grows too fast.
MAX_TOGETHER: Final = 4
# Formulas of up to this number of terms are handed over as they are, so that common factors cancel; larger ones as
# one symbol.
_MAX_TERMS: Final = {2: 4, 3: 2, 4: 1}
# Terms of a side that is expanded beside the matrix.
_MAX_TERMS_BESIDE: Final = 40
# Whole numbers below this are kept, since they may cancel.
_PLAIN_NUMBERS: Final = 100
# Symbols of a matrix that SymPy is given; beyond, it may take minutes.
_MAX_SYMBOLS: Final = 10


def solve_linear(matrix: list[list[Node]], right: list[Node]) -> list[Node] | None:
    """Return the solution of ``matrix x = right`` by Cramer's rule, or None if the determinant is zero.

    Equations that differ in their names and numbers alone are solved once.
    """
    letters: dict[Node, Node] = {}

    def renamed(node: Node) -> Node | None:
        plain = node.value is not None and node.value == round(node.value) and abs(node.value) < _PLAIN_NUMBERS
        if node.op not in ("name", "number") or plain:
            return None
        return letters.setdefault(node, name(f"{BOUND}{len(letters)}"))

    done: dict[Node, Node] = {}
    rows = tuple(tuple(rewrite(entry, renamed, done) for entry in row) for row in matrix)
    found = _solve(rows, tuple(rewrite(side, renamed, done) for side in right))
    back = {str(letter.args[0]): own for own, letter in letters.items()}
    return None if found is None else [replace_names(node, back.get, {}) for node in found]


@functools.lru_cache(maxsize=512)
def _solve(matrix: tuple[tuple[Node, ...], ...], right: tuple[Node, ...]) -> tuple[Node, ...] | None:
    symbols: dict[Node, sympy.Symbol] = {}
    n = len(right)
    # the determinant has as many terms as an entry has to the power of n, times n factorial
    entries = [[_to_sympy(entry, symbols, _MAX_TERMS[n]) for entry in row] for row in matrix]
    if len(symbols) > _MAX_SYMBOLS:
        symbols.clear()
        entries = [[_to_sympy(entry, symbols, 1) for entry in row] for row in matrix]
    sides = [sympy.expand(_to_sympy(side, symbols, _MAX_TERMS_BESIDE)) for side in right]
    square = sympy.Matrix(entries)
    determinant = _tidy(square.det(method="berkowitz"))
    if determinant == 0:
        return None
    back = {symbol: node for node, symbol in symbols.items()}
    found = []
    for k in range(n):
        # the adjugate's row, so that the right sides stand out as they were written
        weights = [_tidy((-1) ** (k + row) * square.minor(row, k)) for row in range(n)]
        common = _tidy(sympy.gcd_list([*weights, determinant])) if all(map(_polynomial, weights)) else 1
        above = sympy.Add(*(sympy.cancel(w / common) * side for w, side in zip(weights, sides, strict=True)))
        found.append(_quotient(above, _tidy(sympy.cancel(determinant / common)), back))
    return tuple(found)


def _polynomial(expression: Any) -> bool:
    return bool(expression.is_polynomial())


def _tidy(expression: Any) -> Any:
    """Multiply out, and take common factors out again where that is shorter."""
    plain = sympy.expand(expression)
    factored = sympy.factor_terms(plain)
    return factored if factored.count_ops() <= plain.count_ops() else plain


def _quotient(above: Any, below: Any, back: Mapping[Any, Node]) -> Node:
    """Return a quotient that SymPy made, as a tree.

    Parameters
    ----------
    above : SymPy expression
    below : SymPy expression
    back : mapping of symbol to Node
        What the symbols stand for.

    Returns
    -------
    Node
    """
    if below.could_extract_minus_sign():
        above, below = -above, -below
    top, bottom = (rewrite(_to_node(part, back), simplified, {}) for part in (above, below))
    return top if bottom.value == 1.0 else div(top, bottom)


def _to_sympy(root: Node, symbols: dict[Node, Any], most_terms: int) -> Any:
    """Turn sums, products, quotients and whole powers into SymPy's; what would multiply out too far is a symbol.

    Parameters
    ----------
    root : Node
    symbols : dict of Node to symbol
        Gathers the symbols.
    most_terms : int
        Terms beyond which nothing is multiplied out.

    Returns
    -------
    SymPy expression
    """
    done: dict[Node, Any] = {}
    needed = _polynomial_part(root)
    # how many terms each part has when it is multiplied out
    terms: dict[Node, int] = {}
    for node in upwards(root):
        if node not in needed:
            continue
        operands: list[Any] = [done.get(operand) for operand in node.operands]
        sizes = [terms.get(operand, 1) for operand in node.operands]
        terms[node] = {"add": sum(sizes), "mul": math.prod(sizes), "div": math.prod(sizes)}.get(
            node.op, max(sizes, default=1)
        )
        if node.op == "pow" and _small_power(node):
            terms[node] = sizes[0] ** int(float(node.operands[1].args[0]))
        small = terms[node] <= most_terms
        if node.value is not None:
            done[node] = sympy.Rational(*node.value.as_integer_ratio())
        elif node.op == "add" and small:
            done[node] = sympy.Add(*operands)
        elif node.op == "mul" and small:
            done[node] = sympy.Mul(*operands)
        elif node.op == "neg":
            done[node] = -operands[0]
        elif node.op == "div" and small and operands[1] != 0:
            done[node] = operands[0] / operands[1]
        elif node.op == "pow" and small and _small_power(node):
            done[node] = operands[0] ** int(float(node.operands[1].args[0]))
        else:
            done[node] = symbols.setdefault(node, sympy.Dummy(f"s{len(symbols)}"))
            terms[node] = 1
    return done[root]


def _small_power(node: Node) -> bool:
    exponent = node.operands[1].value
    return exponent is not None and exponent == int(exponent) and 0 <= exponent <= 4


def _polynomial_part(root: Node) -> set[Node]:
    """Collect the nodes that are reached through arithmetic alone."""
    seen: set[Node] = set()
    stack = [root]
    while stack:
        node = stack.pop()
        if node in seen:
            continue
        seen.add(node)
        if node.op in ("add", "mul", "neg", "div") or (node.op == "pow" and _small_power(node)):
            stack.extend(node.operands)
    return seen


def _to_node(expression: Any, back: Mapping[Any, Node]) -> Node:
    if expression.is_Symbol:
        return back.get(expression) or name(str(expression))
    if expression.is_Rational:
        value = number(float(abs(expression)))
        return neg(value) if expression < 0 else value
    if expression.is_Pow:
        base, exponent = expression.as_base_exp()
        if exponent.is_negative:
            return div(number(1.0), power(_to_node(base, back), number(float(-exponent))))
        return power(_to_node(base, back), number(float(exponent)))
    if expression.is_Mul:
        negative = expression.could_extract_minus_sign()
        above, below = (-expression if negative else expression).as_numer_denom()
        if below != 1:
            made = div(_to_node(above, back), _to_node(below, back))
        else:
            made = mul(*(_to_node(factor, back) for factor in above.as_ordered_factors()))
        return neg(made) if negative else made
    if expression.is_Add:
        terms = [_to_node(term, back) for term in expression.as_ordered_terms()]
        terms.sort(key=lambda term: term.op == "neg")
        return add(*terms)
    raise unforeseen(f"a rule for {expression}")
