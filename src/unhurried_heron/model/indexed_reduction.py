"""Constraints over an index that hold no unknown: differentiated along the solution until they do, all members at once.

As `model.index_reduction` does for those of single states: E. Hairer and G. Wanner, *Solving Ordinary Differential
Equations II*, 2nd ed. (1996), sections VII.1 and VII.2.
"""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import BoolArray
from unhurried_heron.errors import ConstraintError, listing
from unhurried_heron.formulas.differentiate import WAY, Differentiator, Gradient
from unhurried_heron.formulas.expression import (
    ONE,
    SUM,
    TIME,
    ZERO,
    Node,
    add,
    name,
    number,
    replace_names,
    walk,
)
from unhurried_heron.formulas.layout import Box, Loop
from unhurried_heron.formulas.state_name import StateName, with_primes
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.model.index_reduction import MOST_DERIVATIVES, Held, jumps_beyond, refuse_measured, words_of
from unhurried_heron.model.indexed_rules import MAX_MEMBERS, Rule
from unhurried_heron.model.indices import affine, extent
from unhurried_heron.model.model import write_out
from unhurried_heron.model.reduction import tidied

if TYPE_CHECKING:
    from unhurried_heron.model.equation_sorting import ClassifiedEquations

# Where members of an unknown have no equation yet.
_Open = tuple[BoolArray, tuple[int, ...]]


class ReducedOverIndices(NamedTuple):
    """Constraints over an index that can be solved for their unknowns.

    Attributes
    ----------
    rules : dict of str to list of Rule
        Those of each unknown.
    held : list of Held
        What states meet all along.
    beyond : dict of str to list of Rule
        Highest derivatives of indexed states, and derivatives of members that have a formula, by their names.
    """

    rules: dict[str, list[Rule]]
    held: list[Held]
    beyond: dict[str, list[Rule]]


class _AlongTime(Differentiator):
    """Derivatives along the solution of formulas of indexed states."""

    def __init__(self, found: ClassifiedEquations, inputs: Mapping[str, Measured]) -> None:
        states = {with_primes(base, k) for base, order in found.orders.items() for k in range(order)}
        super().__init__({TIME, *states, *measured_names(inputs)})
        self._found, self._inputs, self._formulas = found, inputs, write_out(found.derived)
        self.beyond: dict[str, list[Rule]] = {}

    def written_out(self, node: Node) -> Node:
        """Return a formula with single derived quantities as what they are."""
        return replace_names(replace_names(node, self._found.rates.get, {}), self._formulas.get, {})

    def derivative(self, node: Node) -> Node:
        """Return the derivative of a formula along the solution."""
        return tidied(self.gradient(node).get(WAY, ZERO))

    def rules_of(self, label: str) -> Sequence[Rule]:
        """Return the formulas of members of an indexed name that are no states."""
        named = StateName.read(label)
        if not named.primes:
            return self._found.derived_rules.get(label, ())
        if label not in self.beyond:
            own = self.beyond[label] = []
            if self._found.orders.get(named.base) == named.primes:
                own += [replace(rule, name=label) for rule in self._found.rate_rules.get(named.base, ())]
            for rule in self.rules_of(named._replace(primes=named.primes - 1).text):
                own.append(replace(rule, name=label, node=self.derivative(self.written_out(rule.node))))
        return self.beyond[label]

    def unknowns_in(self, node: Node, unknowns: Collection[str]) -> set[str]:
        """Return the unknowns that a formula reaches, through formulas of members too."""
        found, seen, stack = set[str](), set[str](), [node]
        while stack:
            for part in walk(stack.pop()):
                label = str(part.args[0]) if part.op in ("at", "name") else ""
                if label in unknowns:
                    found.add(label)
                elif part.op == "at" and label not in seen:
                    seen.add(label)
                    stack += [self.written_out(rule.node) for rule in self.rules_of(label)]
        return found

    def _of_variable(self, node: Node) -> Gradient:
        label = str(node.args[0])
        if label == TIME:
            return {WAY: ONE}
        named = StateName.read(label)
        above = named._replace(primes=named.primes + 1).text
        if named.base in self._inputs:
            if jumps_beyond(label, self._inputs):
                raise refuse_measured([named.base], "the equations", label)
            return {WAY: name(above)}
        if node.op == "name":
            return {WAY: self.written_out(self._found.rates.get(above, name(above)))}
        self.rules_of(above)
        return {WAY: Node("at", above, *node.operands)}


def reduce_over_indices(
    found: ClassifiedEquations, unknowns: Sequence[str], values: Mapping[str, float], inputs: Mapping[str, Measured]
) -> ReducedOverIndices:
    """Differentiate constraints over an index until they hold their unknowns, and share them out among these.

    Parameters
    ----------
    found : ClassifiedEquations
        Its ``bare`` equations hold no unknown.
    unknowns : sequence of str
        Those without an equation, with indices or none.
    values : mapping of str to float
        Of parameters, as far as they are known.
    inputs : mapping of str to Measured

    Returns
    -------
    ReducedOverIndices

    Raises
    ------
    ConstraintError
        There are too many or too few, or differentiating leads nowhere.
    """
    along, held, differentiated = _AlongTime(found, inputs), list[Held](), list[tuple[Rule, set[str]]]()
    for rule in found.bare:
        node, times = along.written_out(rule.node), 0
        while not (reached := along.unknowns_in(node, unknowns)):
            held.append(Held(node, words_of(rule), times, rule.loops))
            node, times = along.derivative(node), times + 1
            if times > MOST_DERIVATIVES or not any(part.op == "at" or part.op == "name" for part in walk(node)):
                raise ConstraintError(
                    "a constraint tells no unknown, however often it is differentiated", name=listing(unknowns),
                    location=rule.location, given=words_of(rule),
                    expected="an unknown, such as the force that keeps it, in the rates of its states",
                )  # fmt: skip
        differentiated.append((replace(rule, node=node), reached))
    open_ones = {key: _members(key, found, values) for key in unknowns}
    rules: dict[str, list[Rule]] = {key: [] for key in unknowns}
    # those with the most ranges first: what stands for single members takes what is left
    for rule, reached in sorted(differentiated, key=lambda each: -len(each[0].loops)):
        for key in sorted(reached):
            taken = _taken(open_ones[key], replace(rule, name=key))
            if taken is not None:
                rules[key].append(taken)
                break
        else:
            raise ConstraintError(
                f"there are too many equations: none of {listing(sorted(reached), quoted=True)} is left for this one",
                name=listing(sorted(reached)), location=rule.location, given=words_of(rule),
                expected="as many constraints as members of unknowns in them",
            )  # fmt: skip
    for key, (is_open, _) in open_ones.items():
        if is_open.any():
            raise ConstraintError(
                f"there are too few equations: none is left for {int(is_open.sum()):,} members of '{key}'", name=key,
                location="the equations", expected="an equation for each member of each unknown, or a value for it",
                given=f"{sum(rule.size for rule in rules[key]):,} equations for {is_open.size:,} members",
            )  # fmt: skip
    # of some unknowns formulas tell all members
    rules = {key: own for key, own in rules.items() if own}
    return ReducedOverIndices(rules, held, {key: own for key, own in along.beyond.items() if own})


def _members(key: str, found: ClassifiedEquations, values: Mapping[str, float]) -> _Open:
    """Return which members of an unknown have no equation yet, and the first value of each index.

    Parameters
    ----------
    key : str
    found : ClassifiedEquations
    values : mapping of str to float

    Returns
    -------
    (ndarray of bool, tuple of int)

    Raises
    ------
    ConstraintError
        It is used with different numbers of indices, or has too many members.
    """
    boxes = [*_references(key, found, values)]
    if len({len(box) for box in boxes}) != 1:
        raise ConstraintError(
            f"'{key}' is used with different numbers of indices", name=key, location="the equations",
            expected="one way of writing it", given=listing(sorted({f"{len(box)}" for box in boxes})),
        )  # fmt: skip
    hull = [(min(low for low, _ in ends), max(high for _, high in ends)) for ends in zip(*boxes, strict=True)]
    shape = [high - low + 1 for low, high in hull]
    if np.prod(shape, dtype=np.float64) > MAX_MEMBERS:
        raise ConstraintError(f"'{key}' has too many members", name=key, location="the equations",
                              expected=f"at most {MAX_MEMBERS:,}", given=" times ".join(map(str, shape)))  # fmt: skip
    is_open: BoolArray = np.ones(shape, dtype=bool)
    for rule in found.derived_rules.get(key, ()):
        is_open[_part(rule.box(), [low for low, _ in hull])] = False
    return is_open, tuple(low for low, _ in hull)


def _references(key: str, found: ClassifiedEquations, values: Mapping[str, float]) -> Iterator[Box]:
    """Yield which members of an unknown formulas reach, a range for each index.

    Parameters
    ----------
    key : str
    found : ClassifiedEquations
    values : mapping of str to float

    Yields
    ------
    tuple of (int, int)
    """
    single = [
        Rule(label, (), (), node, label) for group in (found.rates, found.derived) for label, node in group.items()
    ]
    several = [rule for group in (found.rate_rules, found.derived_rules) for own in group.values() for rule in own]
    for rule in (*single, *several):
        members = [part for part in walk(rule.node) if part.op in ("at", "name") and part.args[0] == key]
        if not members:
            continue
        ranges: dict[str, Any] = {loop.index: (loop.first, loop.last) for loop in rule.loops}
        for part in walk(rule.node):
            if part.op == SUM:
                first, last = (affine(end, values, rule.location)[0] for end in part.args[1:3])
                ranges[str(part.args[0])] = first, last
        for member in members:
            indices = member.operands if member.op == "at" else ()
            yield tuple(extent(affine(index, values, rule.location), ranges) for index in indices)
        if rule.name == key:
            yield rule.box()


def _part(box: Box, begins: Sequence[int]) -> tuple[slice, ...]:
    return tuple(slice(low - begin, high - begin + 1) for (low, high), begin in zip(box, begins, strict=True))


def _taken(open_ones: _Open, rule: Rule) -> Rule | None:
    """Return a rule as that of open members, which are open no longer; None where it can be that of none.

    Parameters
    ----------
    open_ones : (ndarray of bool, tuple of int)
    rule : Rule

    Returns
    -------
    Rule, or None
    """
    is_open, begins = open_ones
    for dims in itertools.combinations(range(is_open.ndim), len(rule.loops)):
        counted = dict(zip(dims, rule.loops, strict=True))
        choices = [[*_firsts(is_open, d, begins[d], counted.get(d))] for d in range(is_open.ndim)]
        for firsts in itertools.product(*choices):
            box = tuple((first, first + _length(counted.get(d)) - 1) for d, first in enumerate(firsts))
            part = _part(box, begins)
            if is_open[part].all():
                is_open[part] = False
                return _counting(rule, counted, firsts)
    return None


def _length(loop: Loop | None) -> int:
    return 1 if loop is None else loop.last - loop.first + 1


def _firsts(is_open: BoolArray, d: int, begin: int, loop: Loop | None) -> Iterator[int]:
    """Yield where the members of a rule may begin along an index: where its own range does, or with the first.

    Parameters
    ----------
    is_open : ndarray of bool
    d : int
        The index.
    begin : int
        Its first value.
    loop : Loop or None
        The range of the rule that runs along it.

    Yields
    ------
    int
    """
    if loop is None:
        yield from (np.unique(np.nonzero(is_open)[d]) + begin).tolist()
        return
    latest = begin + is_open.shape[d] - _length(loop)
    yield from (first for first in dict.fromkeys((loop.first, begin)) if begin <= first <= latest)


def _counting(rule: Rule, counted: Mapping[int, Loop], firsts: Sequence[int]) -> Rule:
    """Return a rule whose ranges count the members of its unknown.

    Parameters
    ----------
    rule : Rule
    counted : mapping of int to Loop
        The ranges, by the index of the unknown along which they run.
    firsts : sequence of int
        The first member, an index each.

    Returns
    -------
    Rule
    """
    moved: dict[str, Node] = {}
    loops, indices = [], []
    for d, first in enumerate(firsts):
        loop = counted.get(d)
        if loop is None:
            indices.append(number(float(first)))
            continue
        shift = first - loop.first
        if shift:
            moved[loop.index] = add(name(loop.index), number(float(-shift)))
        loops.append(Loop(loop.index, first, loop.last + shift))
        indices.append(name(loop.index))
    node = replace_names(rule.node, moved.get, {}) if moved else rule.node
    return replace(rule, loops=tuple(loops), indices=tuple(indices), node=node)
