"""Names that no line defines, where there are equations that can determine them."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Mapping, Sequence

from unhurried_heron.formulas.expression import Node, names_in, walk
from unhurried_heron.formulas.layout import Box, Loop
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.equation_lines import EquationLine


def single_unknowns(
    statements: Sequence[EquationLine],
    orders: Mapping[str, int],
    highest: Collection[str],
    known: Collection[str],
    parameters: Collection[str],
) -> tuple[str, ...]:
    """Return names without indices that no line defines, in order.

    Parameters
    ----------
    statements : sequence of EquationLine
    orders : mapping of str to int
        The order of each state.
    highest : collection of str
        Their highest derivatives.
    known : collection of str
        Names that a line defines, or a value.
    parameters : collection of str

    Returns
    -------
    tuple of str
    """
    sides = [(each, {**each.left.mentions, **each.right.mentions}) for each in statements if not each.ranges]
    # the value of a state is a constraint where its derivative stands elsewhere, and that of a parameter
    valued = {*orders, *parameters}
    free = [each for each, mentions in sides if not mentions.keys() & {*highest}
            and (each.target is None or (each.target.name in valued and not each.target.primes))]  # fmt: skip
    if not free:
        return ()
    members = _members([each for each, _ in sides])
    indexed = names_in(*(each for part in members for each in part.operands))
    indexed |= {str(part.args[0]) for part in members}
    defined = {*known, *indexed}
    return tuple(dict.fromkeys(named for _, own in sides for named in own if named not in defined))


def indexed_unknowns(
    statements: Sequence[EquationLine],
    orders: Mapping[str, int],
    known: Collection[str],
    loops_of: Callable[[EquationLine], list[Loop]],
) -> tuple[str, ...]:
    """Return names with indices that no line defines, in order; some members may have formulas, as at boundaries.

    Where an equation holds none of them, they may stand in the rates alone.

    Parameters
    ----------
    statements : sequence of EquationLine
    orders : mapping of str to int
        The order of each state.
    known : collection of str
        Names that a line defines, or a value.
    loops_of : callable
        Returns the loops of a line.

    Returns
    -------
    tuple of str
    """
    highest = {with_primes(base, order) for base, order in orders.items()}
    lines = [each for each in statements if each.target is None]
    partly = {each.target.name for each in statements if each.target and each.target.indices} - {*orders}
    counted = {str(part.args[0]) for part in _members([each for each in lines if each.ranges])}
    covered = {name for name in partly & counted if _is_covered(name, statements, loops_of)}
    partly -= covered
    defined = {*known} - (partly & counted)
    found = dict.fromkeys(str(part.args[0]) for part in _members(lines) if str(part.args[0]) not in defined)
    if any(is_bare(each, {*found, *highest}) for each in lines):
        everywhere = _members(statements)
        running = {str(part.args[0]) for part in everywhere if names_in(*part.operands)}
        defined -= partly & running
        found |= dict.fromkeys(str(part.args[0]) for part in everywhere if str(part.args[0]) not in defined)
    return tuple(found)


def _is_covered(name: str, statements: Sequence[EquationLine], loops_of: Callable[[EquationLine], list[Loop]]) -> bool:
    """Whether formulas tell members that equations count, and not such at boundaries alone.

    Parameters
    ----------
    name : str
    statements : sequence of EquationLine
    loops_of : callable

    Returns
    -------
    bool
    """
    boxes: tuple[list[Box], list[Box]] = [], []
    for each in statements:
        own = each.target is not None and each.target.name == name
        if not each.ranges or not (own or each.target is None):
            continue
        ends = {loop.index: (loop.first, loop.last) for loop in loops_of(each)}
        members = [each.target.indices] if own and each.target else [
            part.operands for part in _members([each]) if part.args[0] == name]  # fmt: skip
        for indices in members:
            if all(index.op == "name" and index.args[0] in ends for index in indices):
                boxes[own].append(tuple(ends[str(index.args[0])] for index in indices))
    return any(all(first <= end and begin <= last for (first, last), (begin, end) in zip(box, other, strict=False))
               for box, other in itertools.product(*boxes))  # fmt: skip


def is_bare(statement: EquationLine, others: Collection[str]) -> bool:
    """Whether an equation is about members of indexed states, and holds none of others: unknowns, highest derivatives.

    A line with a range is, where it defines nothing.
    """
    mentions = {*statement.left.mentions, *statement.right.mentions}
    if statement.target is not None or mentions & {*others}:
        return False
    return bool(statement.ranges) or bool(_members([statement]))


def counts_members(statement: EquationLine, indexed: Collection[str], others: Collection[str]) -> bool:
    """Whether an equation belongs to members of an indexed unknown, and to none of the others.

    Parameters
    ----------
    statement : EquationLine
    indexed : collection of str
        Indexed unknowns.
    others : collection of str
        Single unknowns, and highest derivatives.

    Returns
    -------
    bool
    """
    mentions = {*statement.left.mentions, *statement.right.mentions}
    return statement.target is None and bool(mentions & {*indexed}) and not mentions & {*others}


def _members(statements: Sequence[EquationLine]) -> list[Node]:
    """Return the members of indexed states that lines mention."""
    return [part for each in statements for part in walk(each.left.node, each.right.node) if part.op == "at"]
