"""Sliding along a switch to which both sides lead back: the convex combination that stays on it.

A. F. Filippov, *Differential Equations with Discontinuous Righthand Sides* (1988), section 4.
"""

from __future__ import annotations

from collections.abc import Iterable
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

# one for each switch that a solution slides along, in their order: that it leaves it
LEAVES: Final = tuple(
    Event("0 = 1", name=f"leaves the {place}. switch", going="down", stop=True) for place in range(1, 9)
)


@dataclass(frozen=True)
class Surface:
    """A switch that a solution slides along.

    Attributes
    ----------
    switch : HeldSwitch
    share : Node
        The share of the side where the switch is true; the motion leaves the switch where it comes to 0 or 1.
    gap : Node
        The formula of the switch, which stays zero.
    slopes : tuple of (int, Node)
        Its derivatives by the states, by their places.
    """

    switch: HeldSwitch
    share: Node
    gap: Node
    slopes: tuple[tuple[int, Node], ...]


@dataclass(frozen=True)
class SlidingModel(Model):
    """A model along one switch or several, its rates those of the sliding motion.

    On several, each is slid along on both sides of those after it, and the sides are combined so that all stay: exact
    where each switch moves the rates by a term of its own, as dry friction on several masses does.

    Attributes
    ----------
    above, below : Node
        How fast the formula of the last switch changes on the side where it is true and on the other.
    surfaces : tuple of Surface
        The switches.
    """

    above: Node = ZERO
    below: Node = ZERO
    surfaces: tuple[Surface, ...] = ()

    def watch(self, event: Event, units):  # type: ignore[no-untyped-def]  # as of a model
        """Return what is watched; of `LEAVES` the share that is left on either side."""
        for known, surface in zip(LEAVES, self.surfaces, strict=False):
            if event is known:
                # what is watched is asked where no switch is held
                live = {each.slot: each.live for each in self.rates.switches if isinstance(each, HeldSwitch)}
                share = replace_names(surface.share, live.get, {})
                return Node("min", share, add(ONE, neg(share)))
        return super().watch(event, units)


def sliding_along(model: Model, switches: Iterable[HeldSwitch]) -> Model | None:
    """Return the model of the motion along several switches; None where that cannot be written."""
    found: Model | None = model
    for switch in switches:
        found = None if found is None else sliding_model(found, switch)
    return found


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
    before: tuple[Surface, ...] = getattr(model, "surfaces", ())
    if len(before) == len(LEAVES) or any(switch.slot in names_in(each.gap) for each in before):
        return None
    # on this switch, those before it are slid along by what both its sides make of their shares
    joined = tuple(replace(each, share=_on_both(share, each.share, switch.slot)) for each in before)
    surfaces = (*joined, Surface(switch, share, switch.gap, tuple(slopes)))
    return SlidingModel(**{**known, "rates": sliding}, above=above, below=below, surfaces=surfaces)


def _on_both(share: Node, node: Node, slot: str) -> Node:
    one, other = _with(node, slot, ONE), _with(node, slot, ZERO)
    return one if one == other else _mixed(share, one, other)


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
