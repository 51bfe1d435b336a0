"""What a model was made of, and the way back: how formulas about that, and runs, are told of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

from unhurried_heron.formulas.expression import Node, replace_names

if TYPE_CHECKING:
    from unhurried_heron.formulas.layout import IndexedFormula
    from unhurried_heron.input.event import Event
    from unhurried_heron.model.switch_types import RootSwitch


class Transformed(Protocol):
    """What transformations ask of the model that was made."""

    @property
    def highest(self) -> Mapping[str, Node]:
        """The highest derivatives of states that are no indexed states, as the formulas they equal."""


class Transformation:
    """A step from what was said, or from another model, to a model; the base of all, which changes nothing.

    A model lists its transformations in the order in which they were made. A formula about what was said goes through
    them in this order (`formula`), and the states of a run are those of `whole`.
    """

    name: ClassVar[str] = ""

    def known(self, model: Transformed) -> tuple[str, ...]:
        """Return the names with which formulas may speak of what the model was made of."""
        return ()

    def formula(self, model: Transformed, node: Node, location: str) -> Node:
        """Return a formula about what the model was made of, in terms of the model.

        Parameters
        ----------
        model : Transformed
        node : Node
        location : str
            Where it was said, for messages.

        Returns
        -------
        Node
        """
        return node

    def whole(self, model: Any) -> Any:
        """Return the model of the motion along no switch, if that is another."""
        return model

    def watched(self, event: Event) -> Node | None:
        """Return what an event of the transformation's own watches; None of all others."""
        return None

    def manifold(self, model: Any, *, held: bool = False) -> tuple[IndexedFormula, ...]:
        """Return formulas of states, parameters and the time that are zero all along, their values from 0 on.

        ``held``: with jumps and kinks taken out, as far as that is done.
        """
        return ()

    def resting_roots(self) -> tuple[RootSwitch, ...] | None:
        """Return the roots that count as zero below a width, where these are not those of the model's own rates."""
        return None


@dataclass(frozen=True)
class FirstOrder(Transformation):
    """The reduction to equations of first order: lower derivatives are states, the highest ones are formulas.

    Attributes
    ----------
    orders : dict of str to int
        How many derivatives of each are states, itself included.
    """

    name: ClassVar[str] = "first order"
    orders: Mapping[str, int] = field(default_factory=dict)

    def known(self, model: Transformed) -> tuple[str, ...]:
        """Return the highest derivatives of states that are no indexed states."""
        return tuple(model.highest)

    def formula(self, model: Transformed, node: Node, location: str) -> Node:
        """Return a formula in terms of the model.

        Parameters
        ----------
        model : Transformed
        node : Node
        location : str

        Returns
        -------
        Node
        """
        return replace_names(node, model.highest.get, {})


@dataclass(frozen=True)
class EquationsOfMotion(Transformation):
    """Equations of motion from energies: positions that are formulas of coordinates have velocities.

    Attributes
    ----------
    velocities : dict of str to Node
        By name: ``x'`` of ``x = length*sin(angle)``.
    """

    name: ClassVar[str] = "equations of motion"
    velocities: Mapping[str, Node] = field(default_factory=dict)

    def known(self, model: Transformed) -> tuple[str, ...]:
        """Return the velocities of positions."""
        return tuple(self.velocities)

    def formula(self, model: Transformed, node: Node, location: str) -> Node:
        """Return a formula in terms of the model.

        Parameters
        ----------
        model : Transformed
        node : Node
        location : str

        Returns
        -------
        Node
        """
        return replace_names(node, self.velocities.get, {})
