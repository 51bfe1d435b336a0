"""Indices of indexed states: whole numbers that depend linearly on loop indices."""

from __future__ import annotations

import math
from collections.abc import Mapping

from unhurried_heron.errors import IndexedStateError
from unhurried_heron.formulas.expression import BOUND, Node
from unhurried_heron.formulas.printing import to_text

Affine = tuple[int, dict[str, int]]


def whole(value: float | None, words: str, location: str) -> int:
    """Return a whole number.

    Parameters
    ----------
    value : float or None
    words : str
        As the user wrote it.
    location : str
        Where this was said, for messages.

    Returns
    -------
    int

    Raises
    ------
    IndexedStateError
    """
    if value is None or not abs(value) < 1e15 or value != round(value):
        raise IndexedStateError(
            f"'{words}' is no whole number", name=words, location=location, expected="a whole number", given=f"{value}"
        )
    return round(value)


def affine(node: Node, constants: Mapping[str, float], location: str) -> Affine:
    """Return an index such as ``2*i - n + 1`` as a constant and the coefficient of each loop index.

    Parameters
    ----------
    node : Node
    constants : mapping of str to float
    location : str
        Where this was said, for messages.

    Returns
    -------
    Affine

    Raises
    ------
    IndexedStateError
        It is not linear in the loop indices, or not whole.
    """
    op, operands = node.op, node.operands
    if op == "number":
        return whole(node.value, to_text(node), location), {}
    if op == "name":
        named = str(node.args[0])
        return (whole(constants[named], named, location), {}) if named in constants else (0, {named: 1})
    if op in ("add", "neg", "mul"):
        parts = [affine(operand, constants, location) for operand in operands]
        if op == "neg":
            return -parts[0][0], {key: -value for key, value in parts[0][1].items()}
        if op == "add":
            keys = dict.fromkeys(key for _, part in parts for key in part)
            return sum(part[0] for part in parts), {key: sum(part[1].get(key, 0) for part in parts) for key in keys}
        if sum(bool(part[1]) for part in parts) <= 1:
            scale = math.prod(part[0] for part in parts if not part[1])
            varying = next((part for part in parts if part[1]), (1, {}))
            return scale * varying[0], {key: scale * value for key, value in varying[1].items()}
    if op == "div":
        above, below = (affine(operand, constants, location) for operand in operands)
        if not below[1] and below[0] and all(value % below[0] == 0 for value in (above[0], *above[1].values())):
            return above[0] // below[0], {key: value // below[0] for key, value in above[1].items()}
    raise IndexedStateError(
        f"the index '{to_text(node)}' cannot be followed",
        name=to_text(node),
        location=location,
        expected="an index such as i, i-1, n or 2*i+1",
        given=to_text(node),
    )


def extent(index: Affine, ranges: Mapping[str, tuple[int, int]]) -> tuple[int, int]:
    """Return the smallest and the largest value of an index.

    Raises
    ------
    KeyError
        A loop index has no range.
    """
    constant, coefficients = index
    ends = [sorted(factor * end for end in ranges[key]) for key, factor in coefficients.items()]
    return constant + sum(low for low, _ in ends), constant + sum(high for _, high in ends)


def plain_index(index: str) -> str:
    """Return an index as the user wrote it."""
    return index.partition(BOUND)[0]
