"""Sliding along a switch to which both sides lead back: the convex combination that stays on it.

A. F. Filippov, *Differential Equations with Discontinuous Righthand Sides* (1988), section 4.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar, Final, TypeGuard

from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import (
    ONE,
    ZERO,
    Node,
    add,
    div,
    mul,
    names_in,
    neg,
    number,
    replace_names,
    rewrite,
)
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured_rates import rates_in_time
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.switch_types import HeldSwitch, RootSwitch, Switch
from unhurried_heron.model.time_derivatives import solution_derivatives
from unhurried_heron.model.transformation import Transformation

# Events that end a slide: one for each switch that a solution slides along, in their order.
LEAVES: Final = tuple(Event("0 > 1", name=f"leaves the {number}. switch", stop=True) for number in range(1, 33))
# Events that end a part of it: where other switches, on which those it slides along depend, are crossed.
JUMPS: Final = tuple(Event("0 = 1", name=f"crosses the {number}. switch beside", stop=True) for number in range(1, 33))

# Distance outside 0 to 1 at which a share leaves its switch. A share may begin at exactly 0, and a function that
# begins at zero has no sign that could change; the distance is larger than rounding and smaller than any tolerance.
LEEWAY: Final = 1e-9


@dataclass(frozen=True)
class Standing:
    """A switch on which a solution may stand.

    Attributes
    ----------
    switch : HeldSwitch
    partials : tuple of (int, Node)
        The derivatives of its formula by the states, by their indices.
    speed : Node
        How fast its formula grows, in which it is held.
    """

    switch: HeldSwitch
    partials: tuple[tuple[int, Node], ...]
    speed: Node

    @property
    def gap(self) -> Node:
        """Its formula, which is zero where the solution stands on it."""
        return self.switch.gap


@dataclass(frozen=True)
class Surface(Standing):
    """A switch that a solution slides along.

    Attributes
    ----------
    share : Node
        The share of the side where the switch is true; the motion leaves the switch where it comes to 0 or 1.
    """

    share: Node


@dataclass(frozen=True)
class Sliding(Transformation):
    """The transformation to the motion along one switch or several.

    On several, each is slid along on both sides of those after it, and the sides are combined so that all stay: exact
    where each switch moves the rates by a term of its own, as dry friction on several masses does.

    Attributes
    ----------
    surfaces : tuple of Surface
        The switches.
    origin : Model
        The model of the motion along none of them.
    """

    name: ClassVar[str] = "sliding"
    surfaces: tuple[Surface, ...]
    origin: Model

    def whole(self, model: Model) -> Model:
        """Return the model of the motion along none of the switches."""
        return self.origin

    def resting_roots(self) -> tuple[RootSwitch, ...]:
        """Return the roots of the whole model: also those that are slid along have their width."""
        return self.origin.resting_roots

    @property
    def beside(self) -> tuple[HeldSwitch, ...]:
        """The switches on which those that are slid along depend."""
        names, own = names_in(*(each.gap for each in self.surfaces)), {each.switch.slot for each in self.surfaces}
        known = (each for each in self.origin.rates.switches if isinstance(each, HeldSwitch))
        return tuple(each for each in known if each.slot in names - own)[: len(JUMPS)]

    def watched(self, event: Event) -> Node | None:
        """Return what is watched of `LEAVES`: by how much the share is outside 0 to 1; of `JUMPS` the switch beside."""
        for known, switch in zip(JUMPS, self.beside, strict=False):
            if event is known:
                return add(Node("name", switch.slot), number(-0.5))
        for known, surface in zip(LEAVES, self.surfaces, strict=False):
            if event is known:
                return add(Node("max", neg(surface.share), add(surface.share, neg(ONE))), number(-LEEWAY))
        return None


def surfaces_of(model: Model) -> tuple[Surface, ...]:
    """Return the switches along which a motion slides; none of a model that slides along none."""
    found = model.made_by(Sliding)
    return found.surfaces if found is not None else ()


def sliding_along(model: Model, switches: Iterable[HeldSwitch]) -> Model | None:
    """Return the model of the motion along several switches; None along none, and where it cannot be written."""
    found: Model = model
    for switch in switches:
        further = _sliding_model(found, switch)
        if further is None:
            return None
        found = further
    return found if found is not model else None


def can_slide(switch: Switch) -> TypeGuard[HeldSwitch]:
    """Whether a solution can slide along switches of this kind: truths and resting roots, but not whole numbers."""
    return type(switch) in (HeldSwitch, RootSwitch)


def standing_on(model: Model, switch: Switch) -> Standing | None:
    """Return a switch as one on which a solution may stand; None if it can slide along none of its kind.

    The switch must depend on states that are no members of an indexed state's loop.
    """
    rates = model.rates
    if not can_slide(switch) or not isinstance(rates, WrittenRates) or switch.slot not in _slots(rates):
        return None
    partials: list[tuple[int, Node]] = []
    terms: list[Node] = []
    in_time = rates_in_time(model.inputs)
    for (variable, loops), partial in Differentiator({*model.layout.scalars, *in_time}).gradient(switch.gap).items():
        if variable.op == "name" and variable.args[0] in in_time:
            terms.append(mul(partial, in_time[str(variable.args[0])]))
            continue
        index = model.layout.scalars.get(str(variable.args[0])) if variable.op == "name" else variable.args[0]
        plain = index is not None and not loops and len(variable.args) == 1
        rate = solution_derivatives(model, held=True).rate_of(int(index)) if plain and index is not None else None
        if index is None or rate is None:
            return None
        partials.append((int(index), partial))
        terms.append(mul(partial, rate))
    return Standing(switch, tuple(partials), add(*terms)) if partials else None


def _sliding_model(model: Model, switch: HeldSwitch) -> Model | None:
    before = surfaces_of(model)
    standing, rates = standing_on(model, switch), model.rates
    too_many = len(before) == len(LEAVES) or any(switch.slot in names_in(each.gap) for each in before)
    if standing is None or too_many or not isinstance(rates, WrittenRates):
        return None
    sides = [tuple(replace(formula, node=_with(formula.node, switch.slot, value)) for formula in rates.held)
             for value in (ONE, ZERO)]  # fmt: skip
    above, below = (_with(standing.speed, switch.slot, value) for value in (ONE, ZERO))
    share = div(below, add(below, neg(above)))
    held = tuple(
        formula if one.node == other.node else replace(formula, node=_mixed(share, one.node, other.node))
        for formula, one, other in zip(rates.held, *sides, strict=True)
    )
    others = tuple(replace(each, gap=replace_names(each.gap, {switch.slot: switch.live}.get, {}))
                   for each in rates.switches if each.slot != switch.slot)  # fmt: skip
    live = {each.slot: each.live for each in others}
    indexed_formulas = tuple(replace(formula, node=replace_names(formula.node, live.get, {})) for formula in held)
    sliding = replace(rates, indexed_formulas=indexed_formulas, held=held, switches=others, marked=None)
    # on this switch, those before it are slid along by what both its sides make of their shares
    joined = tuple(replace(each, share=_on_both(share, each.share, switch.slot)) for each in before)
    surfaces = (*joined, Surface(switch, standing.partials, standing.speed, share))
    others_by = tuple(each for each in model.transformations if not isinstance(each, Sliding))
    return replace(model, rates=sliding, transformations=(*others_by, Sliding(surfaces, model.whole)))


def _on_both(share: Node, node: Node, slot: str) -> Node:
    """Return the mixture of a formula on both sides of a switch.

    Parameters
    ----------
    share : Node
        How much of the true side.
    node : Node
    slot : str
        The switch.

    Returns
    -------
    Node
    """
    one, other = _with(node, slot, ONE), _with(node, slot, ZERO)
    return one if one == other else _mixed(share, one, other)


def _slots(rates: WrittenRates) -> set[str]:
    nesting = [each for each in rates.switches if not isinstance(each, RootSwitch)]
    return {each.slot for each in rates.switches if not any(each.slot in names_in(o.gap) for o in nesting)}


def _mixed(share: Node, one: Node, other: Node) -> Node:
    """Return the mixture of two formulas by a share.

    Parameters
    ----------
    share : Node
        How much of the first.
    one : Node
    other : Node

    Returns
    -------
    Node
    """
    return add(mul(share, one), mul(add(ONE, neg(share)), other))


def _with(node: Node, slot: str, value: Node) -> Node:
    """Put a truth in place of a switch, and drop what it rules out.

    Parameters
    ----------
    node : Node
    slot : str
        The switch.
    value : Node
        The truth.

    Returns
    -------
    Node
    """

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
