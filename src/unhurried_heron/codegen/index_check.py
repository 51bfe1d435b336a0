"""Holding laid-out blocks to the arrays they read and write, before they become machine code.

Formulation has proven every index already. This looks at the result alone, by other means, so that no slip there can
reach memory: each index is a linear form, whose least and greatest value over its loops and sums must lie inside.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final

from unhurried_heron.errors import HeronError
from unhurried_heron.formulas.expression import SUM, Node, upwards
from unhurried_heron.formulas.layout import IndexedFormula, Loop

# The smallest and largest value so far, and the indices that are still to be bounded.
Form = tuple[int, int, tuple[tuple[str, int], ...]]
# Indices beyond this are refused: doubles no longer hold every whole number.
_FURTHEST: Final = 2**53
_NOTHING: Final[frozenset[Form]] = frozenset()


def hold_within(indexed_formulas: Iterable[IndexedFormula], size: int, n_states: int) -> None:
    """Refuse blocks that would read outside ``n_states`` numbers or write outside ``size``.

    Parameters
    ----------
    indexed_formulas : Iterable[IndexedFormula]
    size : int
        How many numbers are written.
    n_states : int
        Number of states.

    Raises
    ------
    HeronError
        An index lies outside: formulation has let through what it should have refused.
    """
    indexed_formulas = list(indexed_formulas)
    forms: dict[Node, frozenset[Form]] = {}
    # a tree without members of indexed states reads names only, each of which the emitter itself must find
    for node in upwards(*(formula.node for formula in indexed_formulas if formula.node.has_indexed)):
        forms[node] = _reach(node, forms, n_states)
    for formula in indexed_formulas:
        _inside(
            _over((formula.base, formula.base, _moving(formula.strides, formula.loops)), formula.loops),
            size,
            "written to",
        )
        for form in forms.get(formula.node, _NOTHING):
            _inside(_over(form, formula.loops), n_states, "read from")


def _moving(strides: tuple[int, ...], loops: tuple[Loop, ...]) -> tuple[tuple[str, int], ...]:
    return tuple((loop.index, stride) for loop, stride in zip(loops, strides, strict=True) if stride)


def _reach(node: Node, forms: dict[Node, frozenset[Form]], n_states: int) -> frozenset[Form]:
    """Return where a tree reads, as far as that depends on indices from around it.

    Parameters
    ----------
    node : Node
    forms : dict of Node to frozenset of Form
        What is known of its parts.
    n_states : int
        Number of states.

    Returns
    -------
    frozenset[Form]
    """
    if node.op == "slot":
        base, *moves = node.args
        return _open({(base, base, tuple(moves))}, n_states)
    inner = [forms[part] for part in node.operands if forms[part]]
    if not inner:
        return _NOTHING
    found = _NOTHING.union(*inner)
    if node.op == SUM:
        index, first, last = str(node.args[0]), int(node.args[1].args[0]), int(node.args[2].args[0])
        return _open({_over(form, (Loop(index, first, last),)) for form in found}, n_states)
    return found


def _open(forms: set[Form], n_states: int) -> frozenset[Form]:
    """Look at forms without indices at once, and return the others."""
    for form in forms:
        if not form[2]:
            _inside(form, n_states, "read from")
    return frozenset(form for form in forms if form[2])


def _over(form: Form, loops: tuple[Loop, ...]) -> Form:
    low, high, moves = form
    ends = {loop.index: (loop.first, loop.last) for loop in loops}
    left = []
    for index, coefficient in moves:
        if index in ends:
            reach = (coefficient * ends[index][0], coefficient * ends[index][1])
            low, high = low + min(reach), high + max(reach)
        else:
            left.append((index, coefficient))
    return low, high, tuple(left)


def _inside(form: Form, size: int, what: str) -> None:
    """Refuse a form of indices that leaves an array.

    Parameters
    ----------
    form : Form
    size : int
        How long the array is.
    what : str
        What is spoken of, for messages.

    Raises
    ------
    HeronError
        It does.
    """
    low, high, moves = form
    if moves or not (0 <= low <= high < size) or max(abs(low), abs(high)) > _FURTHEST:
        raise HeronError(
            f"a formula would be {what} memory that is not its own; nothing was run",
            name="indexed state",
            location="the laid-out equations",
            expected=f"indices 0 to {size - 1}",
            given=f"{low} to {high}" + "".join(f", an index '{index}' without a range" for index, _ in moves),
        )
