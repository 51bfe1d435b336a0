"""How fast a formula changes along the solution."""

from __future__ import annotations

import math
from typing import Final

import numpy as np

from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import COMPARISONS, TIME, ZERO, Node, add, mul, name, number, upwards, walk
from unhurried_heron.formulas.layout import Block, Layout, places
from unhurried_heron.model.indexed import with_fixed

# longer ones cost more than looking along the step
_LONGEST: Final = 400
# how many radians of a swing each of these goes through while its argument changes by one
_TURNING: Final = {"sin": 1.0, "cos": 1.0, "tan": 1.0, "floor": 2.0 * math.pi, "ceil": 2.0 * math.pi}
_MOST_TURNING: Final = 20
# what can leap from one side of zero to the other without being zero between
_BREAKING: Final = COMPARISONS | {"floor", "ceil", "sign", "step", "pulse", "tan", "log", "log10", "div"}
_STRAIGHT: Final = frozenset({"name", "add", "neg", "mul", "where"})


def along_the_flow(formula: Node, rates: tuple[Block, ...], layout: Layout) -> Node | None:
    """Return the derivative of a formula along the solution; None where it cannot be written, or is long."""
    terms: list[Node] = []
    for (variable, loops), slope in Differentiator({*layout.scalars, TIME}).gradient(formula).items():
        if variable.op == "name" and variable.args[0] == TIME:
            terms.append(slope)
            continue
        place = layout.scalars.get(str(variable.args[0])) if variable.op == "name" else variable.args[0]
        rate = rate_of(int(place), rates) if place is not None and not loops and len(variable.args) == 1 else None
        if rate is None:
            return None
        terms.append(mul(slope, rate))
    whole = add(*terms) if terms else ZERO
    return whole if sum(1 for _ in walk(whole)) <= _LONGEST else None


def swings(formula: Node) -> bool:
    """Whether a formula follows the time other than in a line, so that a long step may hide what it does."""
    moves: dict[Node, bool] = {}
    for node in upwards(formula):
        moves[node] = node == name(TIME) or any(moves[operand] for operand in node.operands)
        if moves[node] and node.op not in _STRAIGHT:
            return True
    return False


def phase_speed(formula: Node, rates: tuple[Block, ...], layout: Layout) -> Node | None:
    """Return how fast the sines, cosines and teeth of saws in a formula turn along the solution, all together.

    None where there are none, or it cannot be written.
    """
    turning: dict[Node, float] = {}
    for node in upwards(formula):
        if node.op in _TURNING:
            argument = node.operands[0]
            turning[argument] = max(turning.get(argument, 0.0), _TURNING[node.op])
    drifts = {each: along_the_flow(each, rates, layout) for each in turning}
    known = [
        mul(number(turning[each]), Node("abs", drift)) for each, drift in drifts.items() if drift not in (None, ZERO)
    ]
    return add(*known) if known and len(drifts) < _MOST_TURNING else None


def can_break(formula: Node) -> bool:
    """Whether a formula can change its sign without being zero: by a jump, or through a pole."""
    return any(
        node.op in _BREAKING or (node.op == "pow" and not (node.operands[1].value or -1.0) > 0.0)
        for node in upwards(formula)
        if node.op != "div" or node.operands[1].value is None
    )


def rate_of(place: int, rates: tuple[Block, ...]) -> Node | None:
    """Return the rate of one state, a member of a family perhaps; None where several blocks add up to it."""
    found: list[Node] = []
    for block in rates:
        strides = dict(zip((loop.index for loop in block.loops), block.strides, strict=True))
        turns = np.flatnonzero(places(block.loops, block.base, strides) == place)
        if turns.size and (block.adds or turns.size > 1):
            return None
        if turns.size:
            lengths = [loop.last - loop.first + 1 for loop in block.loops]
            steps = np.unravel_index(int(turns[0]), lengths) if lengths else ()
            fixed = {loop.index: number(float(loop.first + int(step)))
                     for loop, step in zip(block.loops, steps, strict=True)}  # fmt: skip
            found.append(with_fixed(block.node, fixed))
    # what no block fills is zero
    return found[0] if len(found) == 1 else None if found else ZERO
