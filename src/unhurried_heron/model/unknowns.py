"""Names that no line defines, where there are equations that can determine them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from unhurried_heron.formulas.expression import Node, names_in, walk
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
    statements: Sequence[EquationLine], orders: Collection[str], known: Collection[str]
) -> tuple[str, ...]:
    """Return names with indices that no line defines, in order; some members may have formulas, as at boundaries.

    Parameters
    ----------
    statements : sequence of EquationLine
    orders : collection of str
        Names of states.
    known : collection of str
        Names that a line defines, or a value.

    Returns
    -------
    tuple of str
    """
    lines = [each for each in statements if each.target is None]
    partly = {each.target.name for each in statements if each.target and each.target.indices} - {*orders}
    counted = {str(part.args[0]) for part in _members([each for each in lines if each.ranges])}
    defined = {*known} - (partly & counted)
    return tuple(dict.fromkeys(str(part.args[0]) for part in _members(lines) if str(part.args[0]) not in defined))


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
