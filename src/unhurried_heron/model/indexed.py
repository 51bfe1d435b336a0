"""Indexed states: rules with indices become loops whose every reference is a known index."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from unhurried_heron.errors import CircularDerivedError, IndexedStateError
from unhurried_heron.formulas.binding import in_normal_form, renamed_apart, with_names
from unhurried_heron.formulas.expression import BOUND, SUM, Node, add, mul, name, number, replace_names, rewrite, walk
from unhurried_heron.formulas.layout import Box, IndexedFormula, Layout, Loop
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.state_name import base_of
from unhurried_heron.model.indexed_rules import Rule, refuse_without_index
from unhurried_heron.model.indices import Affine, affine, extent, plain_index

# Pieces into which the loops of one rule may be split.
_MAX_PIECES = 20_000
_DEEPEST = 20  # levels of derived quantities that refer to members of each other
# Formulas that may be rewritten for one rule.
_MAX_REWRITTEN = 500


@dataclass(frozen=True)
class Resolver:
    """Turns references to members of indexed states into indices of the state vector.

    Attributes
    ----------
    layout : Layout
        The states.
    constants : mapping of str to float
        Parameters that sizes and indices may use.
    rules : mapping of str to sequence of Rule
        Indexed derived quantities, and members of indexed states that are given by a formula (boundary values).
    """

    layout: Layout
    constants: Mapping[str, float] = field(default_factory=dict)
    rules: Mapping[str, Sequence[Rule]] = field(default_factory=dict)

    def indexed_formulas(
        self, rule: Rule, position: Callable[[Box], tuple[int, tuple[int, ...]]]
    ) -> list[IndexedFormula]:
        """Return the loops that compute a rule; ``element`` gives base and strides of its indexed state's elements."""
        base, strides = position(rule.box())
        out = []
        for loops, node in self._pieces(rule.loops, rule.node, rule.location):
            run = {loop.index: loop for loop in loops if loop.first != loop.last}
            fixed = {loop.index: number(loop.first) for loop in loops if loop.first == loop.last}
            begin, steps = base, {}
            for index, stride in zip(rule.indices, strides, strict=True):
                value = index.value
                if value is not None:
                    begin += stride * int(value)
                elif str(index.args[0]) in fixed:
                    begin += stride * int(fixed[str(index.args[0])].args[0])
                else:
                    steps[str(index.args[0])] = stride
            node = with_fixed(node, fixed)
            out.append(IndexedFormula(tuple(run.values()), begin, tuple(steps.get(index, 0) for index in run), node))
        return out

    def single(self, node: Node, location: str = "") -> Node:
        """Resolve a formula without loops.

        Raises
        ------
        IndexedStateError
        """
        indexed = {*self.rules, *(base_of(group.name) for group in self.layout.indexed)}
        if indexed:
            refuse_without_index(node, indexed, location)
        if not node.has_indexed:
            return node
        (_, found), *_ = self._pieces((), node, location)
        return found

    def _pieces(self, loops: tuple[Loop, ...], node: Node, location: str) -> list[tuple[tuple[Loop, ...], Node]]:
        """Split loops so that each reference stays within one piece of its indexed state, and resolve them.

        Parameters
        ----------
        loops : tuple of Loop
            The loops around it.
        node : Node
        location : str
            Where this was said, for messages.

        Returns
        -------
        list[tuple[tuple[Loop, ...], Node]]

        Raises
        ------
        CircularDerivedError
        """
        out: list[tuple[tuple[Loop, ...], Node]] = []
        level, work = [(loops, node)], 0
        for _ in range(_DEEPEST):
            deeper: list[tuple[tuple[Loop, ...], Node]] = []
            for part in level:
                for found in self._one_level(*part, location):
                    (deeper if any(each.op == "at" for each in walk(found[1])) else out).append(found)
                    work += 1
            if not deeper:
                return out
            level = deeper
            if work > _MAX_REWRITTEN:
                break
        raise CircularDerivedError(
            "indexed derived quantities need each other in a circle, or an indexed state needs itself",
            location=location,
            expected="indexed derived quantities that can be computed from the states",
            given=f"formulas written out {work:,} times, and still not in terms of states",
        )

    def _one_level(self, loops: tuple[Loop, ...], node: Node, location: str) -> list[tuple[tuple[Loop, ...], Node]]:
        """Split loops at the ends of the pieces that are referred to, and put formulas or indices in their stead.

        Parameters
        ----------
        loops : tuple of Loop
            The loops around it.
        node : Node
        location : str
            Where this was said, for messages.

        Returns
        -------
        list[tuple[tuple[Loop, ...], Node]]

        Raises
        ------
        IndexedStateError
        """
        node = self._split_sums(in_normal_form(node), loops, location)
        members = [part for part in walk(node) if part.op == "at"]
        if not members:
            return [(loops, node)]
        ranges = {loop.index: (loop.first, loop.last) for loop in loops}
        cuts: dict[str, set[int]] = {loop.index: set() for loop in loops}
        for member in members:
            self._cut(member, cuts, location)
        parts = [_divided(loop, cuts[loop.index]) for loop in loops]
        if np.prod([len(part) for part in parts], dtype=np.float64) > _MAX_PIECES:
            raise IndexedStateError(
                "the indexed states have too many pieces", location=location, expected="fewer boundary equations"
            )
        sums = {part.args[0]: part for part in walk(node) if part.op == SUM}
        inner = {index: (int(part.args[1].value or 0), int(part.args[2].value or 0)) for index, part in sums.items()}
        out = []
        for chosen in itertools.product(*parts):
            here = {**inner, **ranges, **{loop.index: (loop.first, loop.last) for loop in chosen}}
            found = {member: self._reference(member, here, location) for member in members}
            out.append((chosen, rewrite(node, lambda part, found=found: found.get(part), {})))  # type: ignore[misc]  # bound
        return out

    def _boxes(self, named: str, location: str, count: int) -> list[tuple[Box, Rule | None]]:
        """Return the pieces of an indexed state, with the rule of each.

        Parameters
        ----------
        named : str
            Its name.
        location : str
            Where this was said, for messages.
        count : int
            How many indices the member has.

        Returns
        -------
        list[tuple[Box, Rule | None]]

        Raises
        ------
        IndexedStateError
        """
        group = self.layout.by_name.get(named)
        known: list[tuple[Box, Rule | None]] = [(rule.box(), rule) for rule in self.rules.get(named, ())]
        if group is not None and group.box:
            known.append((group.box, None))
        known = [(box, rule) for box, rule in known if box]
        if not known or len(known[0][0]) != count:
            wanted = f"{named}[{', '.join('ijkl'[: len(known[0][0])])}]" if known else f"{named} without an index"
            raise IndexedStateError(
                f"'{named}' is no indexed state" if not known else f"'{named}' has {len(known[0][0])} indices",
                name=named,
                location=location,
                expected=wanted,
                given=f"{named}[…] with {count} ind{'ex' if count == 1 else 'ices'}",
            )
        return known

    def _cut(self, member: Node, cuts: dict[str, set[int]], location: str) -> None:
        """Note where a reference changes from one piece to another.

        Parameters
        ----------
        member : Node
        cuts : dict of str to set of int
            Gathers the cuts by loop index.
        location : str
            Where this was said, for messages.
        """
        boxes = self._boxes(member.args[0], location, len(member.operands))
        if len(boxes) == 1:
            return
        for d, index in enumerate(member.operands):
            constant, coefficients = affine(index, self.constants, location)
            moving = [(key, coefficient) for key, coefficient in coefficients.items() if coefficient]
            if len(moving) == 1 and moving[0][0] in cuts:
                key, coefficient = moving[0]
                for box, _ in boxes:
                    # the first values of the loop's index on this side and on that side of the piece's ends
                    first, last = box[d][0] - constant, box[d][1] - constant
                    low, high = (first, last) if coefficient > 0 else (last, first)
                    cuts[key] |= {-(-low // coefficient), high // coefficient + 1}

    def _reference(self, member: Node, ranges: Mapping[str, tuple[int, int]], location: str) -> Node:
        """Return the index of a member, or the formula it stands for.

        Parameters
        ----------
        member : Node
        ranges : mapping of str to (int, int)
            First and last value of each loop index.
        location : str
            Where this was said, for messages.

        Returns
        -------
        Node

        Raises
        ------
        IndexedStateError
        """
        named, indices = member.args[0], [affine(index, self.constants, location) for index in member.operands]
        reach = []
        for constant, coefficients in indices:
            for key in coefficients:
                if key not in ranges:
                    raise IndexedStateError(
                        f"the index '{plain_index(key)}' has no range",
                        name=plain_index(key),
                        location=location,
                        expected=f"… for {plain_index(key)} in 1..n at the end of the equation",
                        given=to_text(member),
                    )
            reach.append(extent((constant, coefficients), ranges))
        boxes = self._boxes(named, location, len(indices))
        for box, rule in boxes:
            if all(a <= low and high <= b for (low, high), (a, b) in zip(reach, box, strict=True)):
                return self._place(named, indices) if rule is None else _instance(rule, indices)
        hull = [(min(box[d][0] for box, _ in boxes), max(box[d][1] for box, _ in boxes)) for d in range(len(indices))]
        outside = [low if low < a else high for (low, high), (a, b) in zip(reach, hull, strict=True)]
        moving = [key for key in ranges if any(coefficients.get(key) for _, coefficients in indices)]
        runs = ", ".join(f"{plain_index(key)} from {ranges[key][0]} to {ranges[key][1]}" for key in moving)
        raise IndexedStateError(
            f"'{to_text(member)}' reaches {named}[{','.join(map(str, outside))}], which has no equation",
            name=named,
            location=location,
            expected=f"members from {named}[{','.join(str(a) for a, _ in hull)}] to "
            f"{named}[{','.join(str(b) for _, b in hull)}], or a boundary equation for the others",
            given=runs or to_text(member),
        )

    def _place(self, named: str, indices: Sequence[Affine]) -> Node:
        group = self.layout.by_name[named]
        base, coefficients = self.layout.offsets[named], dict[str, int]()
        for (constant, own), stride, (first, _) in zip(indices, group.strides, group.box, strict=True):
            base += stride * (constant - first)
            for key, coefficient in own.items():
                coefficients[key] = coefficients.get(key, 0) + stride * coefficient
        return Node(
            "slot", base, *sorted((key, coefficient) for key, coefficient in coefficients.items() if coefficient)
        )

    def _split_sums(self, root: Node, loops: tuple[Loop, ...], location: str) -> Node:
        """Give sums whole ends, and split them where a member changes from one piece to another.

        Parameters
        ----------
        root : Node
        loops : tuple of Loop
            The loops around it.
        location : str
            Where this was said, for messages.

        Returns
        -------
        Node
        """
        # one range for each index: two sums that share an index, or two pieces of one sum, reach different members
        ranges: dict[str, tuple[int, int]] = {}

        def piece(index: str, part: Loop, body: Node) -> Node:
            own, ends = index, (part.first, part.last)
            while ranges.setdefault(own, ends) != ends:
                own += BOUND
            return Node(SUM, own, number(part.first), number(part.last), with_names(body, {index: own}))

        def split(node: Node) -> Node | None:
            if node.op != SUM:
                return None
            index, first, last, body = node.args
            ends = []
            for end in (first, last):
                constant, coefficients = affine(end, self.constants, location)
                if coefficients:
                    raise IndexedStateError(
                        "the ends of a sum depend on an index",
                        location=location,
                        expected="ends that are the same for every member",
                        given=to_text(node),
                    )
                ends.append(constant)
            if ends[1] < ends[0]:
                return number(0.0)
            cuts: dict[str, set[int]] = {index: set()}
            for member in walk(body):
                if member.op == "at":
                    self._cut(member, cuts, location)
            pieces = _divided(Loop(index, *ends), cuts[index])
            if len(pieces) > _MAX_PIECES:
                raise IndexedStateError(
                    "the indexed states have too many pieces", location=location, expected="fewer boundary equations"
                )
            return add(*(piece(index, part, body) for part in pieces))

        return rewrite(root, split, {}) if any(part.op == SUM for part in walk(root)) else root


def _divided(loop: Loop, cuts: set[int]) -> list[Loop]:
    begins = sorted({loop.first, *(cut for cut in cuts if loop.first < cut <= loop.last)})
    ends = [begin - 1 for begin in begins[1:]] + [loop.last]
    return [Loop(loop.index, a, b) for a, b in zip(begins, ends, strict=True)]


def _instance(rule: Rule, affines: Sequence[Affine]) -> Node:
    """Return a rule's formula with other indices in place of its own."""
    # written in one way only, so that i-1+1 is i and nothing is written out twice
    indices = [
        add(
            *(mul(number(coefficient), name(key)) for key, coefficient in sorted(coefficients.items())),
            number(constant),
        )
        for constant, coefficients in affines
    ]
    given = {str(own.args[0]): index for own, index in zip(rule.indices, indices, strict=True) if own.value is None}
    # no sum of the formula may catch an index that comes from outside
    return replace_names(renamed_apart(rule.node), given.get, {})


def with_fixed(node: Node, fixed: Mapping[str, Node]) -> Node:
    """Put numbers in place of indices that take one value only."""

    def put(part: Node) -> Node | None:
        if part.op == "name":
            return fixed.get(str(part.args[0]))
        if part.op != "slot":
            return None
        moves = [(key, coefficient) for key, coefficient in part.args[1:] if key not in fixed]
        steps = (coefficient * int(fixed[key].args[0]) for key, coefficient in part.args[1:] if key in fixed)
        return Node("slot", part.args[0] + sum(steps), *moves)

    return rewrite(node, put, {}) if fixed else node
