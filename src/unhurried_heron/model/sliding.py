"""Sliding along a switch to which both sides lead back: the convex combination that stays on it.

A. F. Filippov, *Differential Equations with Discontinuous Righthand Sides* (1988), section 4.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import (
    ONE,
    TIME,
    ZERO,
    Node,
    add,
    div,
    mul,
    names_in,
    neg,
    replace_names,
    rewrite,
)
from unhurried_heron.model.flow import rate_of
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.switch import HeldSwitch, RootSwitch
from unhurried_heron.words.event import Event

LEAVES: Final = Event("0 = 1", name="leaves the switch", going="down", stop=True)


@dataclass(frozen=True)
class SlidingModel(Model):
    """A model along a switch, its rates those of the sliding motion.

    Attributes
    ----------
    share : Node
        The share of the side where the switch is true; the motion leaves the switch where it comes to 0 or 1.
    above, below : Node
        How fast the switch's formula changes on the side where it is true and on the other.
    gap : Node
        The formula.
    slopes : tuple of (int, Node)
        Its derivatives by the states, by their places.
    """

    share: Node = ONE
    above: Node = ZERO
    below: Node = ZERO
    gap: Node = ZERO
    slopes: tuple[tuple[int, Node], ...] = ()

    def watch(self, event: Event, units):  # type: ignore[no-untyped-def]  # as of a model
        """Return what is watched; of `LEAVES` the share that is left on either side."""
        if event is LEAVES:
            # what is watched is asked where no switch is held
            live = {each.slot: each.live for each in self.rates.switches if isinstance(each, HeldSwitch)}
            share = replace_names(self.share, live.get, {})
            return Node("min", share, add(ONE, neg(share)))
        return super().watch(event, units)


def sliding_model(model: Model, switch: HeldSwitch) -> SlidingModel | None:
    """Return the model of the motion along a switch; None where that cannot be written.

    The switch must depend on states that are no members of a family's loop.
    """
    rates = model.rates
    if type(switch) is not HeldSwitch or not isinstance(rates, WrittenRates) or switch.slot not in _slots(rates):
        return None
    sides = [tuple(replace(block, node=_with(block.node, switch.slot, value)) for block in rates.held)
             for value in (ONE, ZERO)]  # fmt: skip
    slopes: list[tuple[int, Node]] = []
    changes = [[], []]  # type: list[list[Node]]
    for (variable, loops), slope in Differentiator({*model.layout.scalars, TIME}).gradient(switch.gap).items():
        if variable.op == "name" and variable.args[0] == TIME:
            for each in changes:
                each.append(slope)
            continue
        place = model.layout.scalars.get(str(variable.args[0])) if variable.op == "name" else variable.args[0]
        plain = place is not None and not loops and len(variable.args) == 1
        rows = [rate_of(int(place), side) if plain and place is not None else None for side in sides]
        if place is None or None in rows:
            return None
        slopes.append((int(place), slope))
        for each, row in zip(changes, rows, strict=True):
            each.append(mul(slope, row))  # type: ignore[arg-type]  # none of them is None
    if not slopes:
        return None
    above, below = (add(*terms) for terms in changes)
    share = div(below, add(below, neg(above)))
    held = tuple(
        block if one.node == other.node else replace(block, node=_mixed(share, one.node, other.node))
        for block, one, other in zip(rates.held, *sides, strict=True)
    )
    others = tuple(replace(each, gap=replace_names(each.gap, {switch.slot: switch.live}.get, {}))
                   for each in rates.switches if each.slot != switch.slot)  # fmt: skip
    live = {each.slot: each.live for each in others}
    blocks = tuple(replace(block, node=replace_names(block.node, live.get, {})) for block in held)
    sliding = replace(rates, blocks=blocks, held=held, switches=others)
    known = {name: getattr(model, name) for name in Model.__dataclass_fields__}
    return SlidingModel(**{**known, "rates": sliding}, share=share, above=above, below=below, gap=switch.gap,
                        slopes=tuple(slopes))  # fmt: skip


def _slots(rates: WrittenRates) -> set[str]:
    nesting = [each for each in rates.switches if not isinstance(each, RootSwitch)]
    return {each.slot for each in rates.switches if not any(each.slot in names_in(o.gap) for o in nesting)}


def _mixed(share: Node, one: Node, other: Node) -> Node:
    return add(mul(share, one), mul(add(ONE, neg(share)), other))


def _with(node: Node, slot: str, value: Node) -> Node:
    """Put a truth in the place of a switch, and drop what it rules out."""

    def put(part: Node) -> Node | None:
        if part.op == "name" and part.args[0] == slot:
            return value
        known = part.operands[0].value if part.operands and part.operands[0].op == "number" else None
        if known is None:
            return None
        if part.op == "where":
            return part.operands[1] if known else part.operands[2]
        if part.op == "not":
            return ZERO if known else ONE
        return None

    return rewrite(node, put, {}) if slot in names_in(node) else node
