"""The number of terms of a formula. One evaluation cannot be interrupted, so this number is bounded."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Final

from unhurried_heron.errors import IndexedStateError
from unhurried_heron.formulas.expression import SUM, Node, free_names, upwards
from unhurried_heron.formulas.layout import IndexedFormula, Loop

# Additions of about a tenth of a second.
MAX_TERMS: Final = 50_000_000


def refuse_endless(indexed_formulas: Iterable[IndexedFormula], location: str) -> None:
    """Refuse blocks whose sums and loops come to too many terms for one evaluation.

    Raises
    ------
    IndexedStateError
    """
    total, within = 0, dict[Node, frozenset[Node]]()
    for formula in indexed_formulas:
        total += math.prod(map(_turns, formula.loops))
        if formula.node.has_indexed:
            total += sum(_terms(each, formula.loops, within) for each in _sums_within(formula.node, within))
    refuse_many(total, location)


def refuse_many(terms: int, location: str) -> None:
    """Refuse a number of terms that is too large.

    Raises
    ------
    IndexedStateError
    """
    if terms > MAX_TERMS:
        raise IndexedStateError(
            "the sums and indexed states come to too many terms",
            name="sum",
            location=location,
            expected=f"at most {MAX_TERMS:,} terms in one evaluation, which nothing can interrupt",
            given=f"{terms:,} terms",
        )


def _turns(loop: Loop) -> int:
    return loop.last - loop.first + 1


def _terms(node: Node, loops: tuple[Loop, ...], within: dict[Node, frozenset[Node]]) -> int:
    """How many terms a sum comes to within loops: it is computed where its outermost needed index is known.

    Parameters
    ----------
    node : Node
    loops : tuple of Loop
        The loops around it.
    within : dict of Node to frozenset of Node
        What is computed within each sum.

    Returns
    -------
    int
    """
    needed = free_names(node)
    depth = max((position + 1 for position, loop in enumerate(loops) if loop.index in needed), default=0)
    index, first, last, body = node.args
    own = Loop(index, int(first.args[0]), int(last.args[0]))
    around = (*loops[:depth], own)
    return math.prod(map(_turns, around)) + sum(_terms(each, around, within) for each in _sums_within(body, within))


def _sums_within(root: Node, within: dict[Node, frozenset[Node]]) -> frozenset[Node]:
    """Return the outermost sums of a tree."""
    for node in upwards(root):
        if node not in within:
            below = frozenset[Node]().union(*(within[part] for part in node.operands if within[part]))
            within[node] = frozenset({node}) if node.op == SUM else below
    return within[root]
