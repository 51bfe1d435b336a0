"""Rates as the sum of an implicit and an explicit part: terms marked ``implicit(…)`` or linear ones, and the others."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any, NamedTuple

from unhurried_heron.errors import FormulationError
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import MARK, SUM, ZERO, Node, add, div, mul, neg, rewrite, walk, where
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.simplify import simplified

_JUMPING = with_fact(lambda each: each.jumps)
Formulas = tuple[IndexedFormula, ...]
_Pair = tuple[Node, Node]


class AdditiveParts(NamedTuple):
    """Formulas of the two parts, each for every state."""

    implicit: Formulas
    explicit: Formulas


def has_marks(formulas: Formulas) -> bool:
    """Whether a term is marked."""
    return any(_marked(each.node) for each in formulas)


def without_marks(formulas: Formulas) -> Formulas:
    """Return formulas as they are evaluated."""
    done: dict[Node, Node] = {}
    return tuple(replace(each, node=rewrite(each.node, _unmarked, done)) for each in formulas)


def marked_parts(formulas: Formulas) -> AdditiveParts:
    """Return the parts that marks tell.

    Raises
    ------
    FormulationError
        A mark stands where its term is not added to the others.
    """
    return _parts(formulas, lambda node: node.op == MARK, lambda node: not _marked(node))


@functools.lru_cache(maxsize=64)
def linear_parts(formulas: Formulas, layout: Layout) -> AdditiveParts:
    """Return terms that are linear in the states as the implicit part, and all others."""
    differentiator = Differentiator(layout.scalars)

    def linear(node: Node) -> bool:
        gradient = differentiator.gradient(node)
        if not gradient or any(differentiator.gradient(partial) for partial in gradient.values()):
            return False
        # what is constant between its jumps has no derivative
        return not any(part.op in _JUMPING for part in walk(node))

    return _parts(formulas, linear, lambda node: not differentiator.gradient(node))


def _parts(formulas: Formulas, implicit: Callable[[Node], bool], plain: Callable[[Node], bool]) -> AdditiveParts:
    """Split formulas.

    Parameters
    ----------
    formulas : tuple of IndexedFormula
    implicit : callable
        Whether a term is.
    plain : callable
        Whether nothing in a factor or term can be.

    Returns
    -------
    AdditiveParts
    """
    done: dict[Node, _Pair] = {}

    def of(node: Node) -> _Pair:
        if node not in done:
            done[node] = split(node)
        return done[node]

    def split(node: Node) -> _Pair:
        """Return the implicit and the explicit part of a term."""
        if implicit(node):
            return node, ZERO
        a = node.operands
        if not plain(node):
            if node.op == "add":
                return _each(zip(*(of(each) for each in a), strict=True), lambda parts: add(*parts))
            if node.op == "neg":
                return _each(of(a[0]), neg)
            if node.op == "mul" and sum(not plain(each) for each in a) == 1:
                k = next(k for k, each in enumerate(a) if not plain(each))
                return _each(of(a[k]), lambda part: mul(*a[:k], part, *a[k + 1 :]))
            if node.op == "div" and plain(a[1]):
                return _each(of(a[0]), lambda part: div(part, a[1]))
            if node.op == "where" and plain(a[0]):
                return _each(zip(of(a[1]), of(a[2]), strict=True), lambda parts: where(a[0], *parts))
            if node.op == SUM:
                index, first, last, body = node.args
                return _each(of(body), lambda part: part if part is ZERO else Node(SUM, index, first, last, part))
        if _marked(node):
            raise FormulationError("a marked term is not added to the others", name=MARK, location="the equations",
                                   expected="implicit(…) in sums, and times or over what has no mark in it",
                                   given=to_text(node)[:80])  # fmt: skip
        return ZERO, node

    found = [of(each.node) for each in formulas]
    one, other = (
        tuple(replace(each, node=pair[k]) for each, pair in zip(formulas, found, strict=True)) for k in range(2)
    )
    return AdditiveParts(without_marks(one), without_marks(other))


def _each(pair: Iterable[Any], made: Callable[[Any], Node]) -> _Pair:
    one, other = map(made, pair)
    return simplified(one), simplified(other)


def _marked(node: Node) -> bool:
    return any(part.op == MARK for part in walk(node))


def _unmarked(node: Node) -> Node | None:
    return node.operands[0] if node.op == MARK else None
