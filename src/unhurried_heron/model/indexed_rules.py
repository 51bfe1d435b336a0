"""The lines that define indexed states, and the layout that they make."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from unhurried_heron.errors import IndexedStateError, NameClashError, listing
from unhurried_heron.formulas.expression import Node, walk
from unhurried_heron.formulas.layout import Box, Group, Layout, Loop
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.state_name import base_of

MAX_MEMBERS = 10_000_000  # states of a problem


@dataclass(frozen=True)
class Rule:
    """An equation of some members of an indexed state: their indices (loop names or numbers), and the formula.

    ``where`` is the equation in the user's words. A quantity that is no indexed state has no indices and no loops.
    """

    name: str
    indices: tuple[Node, ...]
    loops: tuple[Loop, ...]
    node: Node
    location: str = ""

    def box(self) -> Box:
        """First and last value of each index."""
        ends = {loop.index: (loop.first, loop.last) for loop in self.loops}
        found = []
        for index in self.indices:
            value = index.value
            found.append(ends[str(index.args[0])] if value is None else (int(value), int(value)))
        return tuple(found)

    @property
    def size(self) -> int:
        """How many members these are."""
        return math.prod(loop.last - loop.first + 1 for loop in self.loops)


def refuse_two_meanings(rates: Mapping[str, Sequence[Rule]], derived: Mapping[str, Sequence[Rule]]) -> None:
    """Refuse members with a rate and a formula: beyond those with rates, formulas are the values at boundaries.

    Raises
    ------
    NameClashError
    """
    for name in rates.keys() & derived.keys():
        for rule, other in itertools.product(rates[name], derived[name]):
            pairs = list(zip(rule.box(), other.box(), strict=False))
            if all(first <= end and begin <= last for (first, last), (begin, end) in pairs):
                raise NameClashError(
                    f"members of '{name}' are defined twice",
                    name=name,
                    location=f"{rule.location} and {other.location}",
                    expected=f"one equation for each member; what is to hold beside the rates as 0 = {name}[…] - …",
                    given="a rate and a formula",
                )


def layout_of(rules: Mapping[str, Sequence[Rule]], what: str) -> Layout:
    """Return the layout of indexed states and single quantities in the order given.

    Raises
    ------
    IndexedStateError
        The equations of an indexed state leave gaps, overlap, or are too many.
    """
    groups = [_group(named, own, what) for named, own in rules.items()]
    layout = Layout(tuple(groups))
    if layout.size > MAX_MEMBERS:
        raise IndexedStateError(
            "there are too many unknowns",
            name=listing(group.name for group in layout.indexed),
            location=what,
            expected=f"at most {MAX_MEMBERS:,}",
            given=f"{layout.size:,}",
        )
    return layout


def _group(named: str, rules: Sequence[Rule], what: str) -> Group:
    """Return the indexed state that rules define.

    Parameters
    ----------
    named : str
        Its name.
    rules : Sequence[Rule]
    what : str
        What is spoken of, for messages.

    Returns
    -------
    Group

    Raises
    ------
    NameClashError, IndexedStateError
        The pieces leave gaps, or overlap.
    """
    boxes = [rule.box() for rule in rules]
    if len({len(box) for box in boxes}) > 1:
        raise NameClashError(
            f"'{named}' is used with different numbers of indices",
            name=named,
            location="; ".join(rule.location for rule in rules),
            expected="one way of writing it",
            given=", ".join(f"{len(box)} indices" for box in boxes),
        )
    if not boxes[0]:
        return Group(named)
    for (a, one), (b, other) in itertools.combinations(zip(boxes, rules, strict=True), 2):
        if all(max(p[0], q[0]) <= min(p[1], q[1]) for p, q in zip(a, b, strict=True)):
            shared = ",".join(str(max(p[0], q[0])) for p, q in zip(a, b, strict=True))
            raise IndexedStateError(
                f"'{named}[{shared}]' is defined twice",
                name=named,
                location=f"{one.location}; {other.location}",
                expected="one equation for each member",
                given="two",
            )
    hull = tuple((min(box[d][0] for box in boxes), max(box[d][1] for box in boxes)) for d in range(len(boxes[0])))
    group = Group(named, hull)
    if sum(Group("", box).size for box in boxes) != group.size:
        raise IndexedStateError(
            f"no equation says what '{named}[{_first_gap(group, boxes)}]' is",
            name=named,
            location=what + ", " + "; ".join(rule.location for rule in rules),
            expected=f"an equation for every member from {named}[{','.join(str(a) for a, _ in hull)}] "
            f"to {named}[{','.join(str(b) for _, b in hull)}]",
            given=f"{sum(Group('', box).size for box in boxes):,} of {group.size:,}",
        )
    return group


def _first_gap(group: Group, boxes: Iterable[Box]) -> str:
    if group.size > MAX_MEMBERS:
        return "…"
    covered = np.zeros(group.shape, dtype=bool)
    for box in boxes:
        covered[tuple(slice(a - g[0], b - g[0] + 1) for (a, b), g in zip(box, group.box, strict=True))] = True
    gap = np.argwhere(~covered)[0]
    return ",".join(str(int(k) + first) for k, (first, _) in zip(gap, group.box, strict=True))


def refuse_without_index(node: Node, indexed: Iterable[str], location: str, words: str = "") -> None:
    """Refuse a formula that names an indexed state or quantity without its index.

    Parameters
    ----------
    node : Node
    indexed : iterable of str
        Names, without primes, of what has indices.
    location : str
        Where this was said, for messages.
    words : str
        The formula as it was written, if that is at hand.

    Raises
    ------
    IndexedStateError
    """
    known = set(indexed)
    found = sorted(
        str(part.args[0]) for part in walk(node) if part.op == "name" and base_of(str(part.args[0])) in known
    )
    if found:
        raise IndexedStateError(
            f"'{base_of(found[0])}' has an index, and is named without it",
            name=base_of(found[0]),
            location=location,
            expected="one member, {0}[1] or {0}[i], or a sum, sum({0}[i] for i in 1..n)".format(base_of(found[0])),
            given=words or to_text(node)[:80],
        )
