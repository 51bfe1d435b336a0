"""Constraints over the index of an indexed unknown: each equation belongs to the unknown whose members it counts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from unhurried_heron.errors import ConstraintError, listing
from unhurried_heron.formulas.expression import ZERO, Node, add, neg, walk
from unhurried_heron.formulas.layout import Loop
from unhurried_heron.input.equation_lines import EquationLine
from unhurried_heron.model.indexed_rules import Rule
from unhurried_heron.model.structure import structure_of

Indices = tuple[Node, ...]


def indexed_rules(
    statements: Sequence[EquationLine],
    unknowns: Sequence[str],
    loops_of: Callable[[EquationLine], list[Loop]],
    *,
    some: bool,
) -> dict[str, list[Rule]]:
    """Return the equations of each indexed unknown: what is to be zero, for each of its members.

    Parameters
    ----------
    statements : sequence of EquationLine
        Those in which indexed unknowns stand, and nothing alone on the left.
    unknowns : sequence of str
    loops_of : callable
        Returns the loops of a line.
    some : bool
        Whether some unknowns may have no equation.

    Returns
    -------
    dict of str to list of Rule

    Raises
    ------
    ConstraintError
        An equation counts the members of no unknown, or an unknown has no equation.
    """
    loops = [loops_of(each) for each in statements]
    counted = [_counted(each, own, unknowns) for each, own in zip(statements, loops, strict=True)]
    owner: dict[int, str] = {}
    for component in structure_of([each.keys() for each in counted], unknowns).components:
        owner |= dict(zip(component.equations, component.unknowns, strict=True))
    rules: dict[str, list[Rule]] = {name: [] for name in unknowns}
    for k, (statement, own) in enumerate(zip(statements, loops, strict=True)):
        # more than one equation may belong to an unknown, each to a part of its members
        name = owner.get(k) or next(iter(counted[k]), "")
        if not name:
            raise ConstraintError(
                "this equation counts the members of no unknown", location=statement.location,
                expected="an unknown such as q[i] for the index of each range",
                given=f"the unknowns {listing(unknowns, quoted=True)}",
            )  # fmt: skip
        rules[name].append(replace(bare_rule(statement, own), name=name, indices=counted[k][name]))
    empty = [name for name, own in rules.items() if not own]
    if some:
        return {name: own for name, own in rules.items() if own}
    if empty:
        raise ConstraintError(
            f"there are too few equations: none is left for {listing(empty, quoted=True)}", name=listing(empty),
            location="the equations", expected="an equation for each member of each unknown",
            given=f"{len(statements)} equations for {listing(unknowns, quoted=True)}",
        )  # fmt: skip
    return rules


def bare_rule(statement: EquationLine, loops: Sequence[Loop]) -> Rule:
    """Return what an equation makes zero, as a rule of nothing yet."""
    left, right = statement.left.node, statement.right.node
    return Rule("", (), tuple(loops), right if left is ZERO else add(left, neg(right)), statement.location)


def _counted(statement: EquationLine, loops: Sequence[Loop], unknowns: Sequence[str]) -> Mapping[str, Indices]:
    """Return the unknowns whose members an equation counts, with their indices: each range as one of these.

    Parameters
    ----------
    statement : EquationLine
    loops : sequence of Loop
    unknowns : sequence of str

    Returns
    -------
    mapping of str to tuple of Node
    """
    running = {loop.index for loop in loops}
    found: dict[str, Indices] = {}
    for part in walk(statement.left.node, statement.right.node):
        if part.op != "at" or str(part.args[0]) not in unknowns:
            continue
        named = [str(each.args[0]) for each in part.operands if each.op == "name"]
        plain = all(each.value is not None or (each.op == "name" and str(each.args[0]) in running)
                    for each in part.operands)  # fmt: skip
        if plain and sorted(named) == sorted(running):
            found.setdefault(str(part.args[0]), tuple(part.operands))
    return found
