"""What a switch can be: held at a value while the march runs between its crossings, or merely passed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Final, Literal

import numpy as np

from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import ONE, ZERO, Node, add, name, names_in, neg
from unhurried_heron.model.functions import NamedFunction

Kind = Literal["jump", "kink"]
Cause = Literal["time", "state", "input"]
Whole = Literal["floor", "ceil"]
SLOT: Final = "switch "
WIDTH: Final = "width of "


@dataclass(frozen=True)
class Switch:
    """A condition at which a formula jumps or has a kink.

    Attributes
    ----------
    text : str
        The condition in the user's words, such as ``level > crest``.
    kind : {"jump", "kink"}
        Whether a value can jump there, or only its derivative (``abs``, ``min``, ``max``, measured inputs).
    cause : {"time", "state", "input"}
        What it follows from. The times of a switch that follows from time and parameters alone are known before a run.
    times : tuple of float, or None
        Where it is crossed within the interval, if that is known beforehand.
    """

    text: str
    kind: Kind
    cause: Cause
    times: tuple[float, ...] | None = field(default=None, kw_only=True)

    @property
    def watched(self) -> Node | NamedFunction:
        """What tells that the switch is reached, where its times are not known beforehand."""
        return ZERO

    def __repr__(self) -> str:
        if self.times is None and self.cause == "time":
            return f"<Switch {self.text}: {self.kind}, its times waiting for parameters>"
        if self.times is None:
            return f"<Switch {self.text}: {self.kind}, located during the run>"
        return f"<Switch {self.text}: {self.kind} at {len(self.times)} known time{'s' * (len(self.times) != 1)}>"


@dataclass(frozen=True, repr=False)
class FunctionSwitch(Switch):
    """The zero of a function of the user's."""

    function: NamedFunction

    @property
    def watched(self) -> NamedFunction:
        """The function."""
        return self.function


@dataclass(frozen=True, repr=False)
class UnheldSwitch(Switch):
    """The zero of a formula said beside rates that are a function, in which nothing can be held."""

    gap: Node

    @property
    def watched(self) -> Node:
        """The formula."""
        return self.gap


@dataclass(frozen=True, repr=False)
class HeldSwitch(Switch):
    """A comparison whose truth is held between its crossings.

    Attributes
    ----------
    slot : str
        The name that stands for the value of the switch in formulas.
    gap : Node
        The difference of both sides of the comparison. The other switches in it keep their present values.
    live : Node
        The condition as it is evaluated afresh, together with all conditions within it.
    opposite : bool
        Whether the user wrote the negation of this comparison.
    """

    slot: str
    gap: Node
    live: Node
    opposite: bool = False

    @property
    def watched(self) -> Node:
        """The formula that is positive as long as the switch keeps its value."""
        return Node("where", name(self.slot), self.gap, neg(self.gap))

    @cached_property
    def nested(self) -> bool:
        """Whether the switch depends on others."""
        return any(found.startswith(SLOT) for found in names_in(self.gap))

    @property
    def as_number(self) -> Node:
        """The value of the switch as a formula, with no switch held."""
        return Node("where", self.live, ONE, ZERO) if self.live.op == "ge" else self.live

    def as_written(self, value: float) -> float:
        """Return the value of the condition as the user wrote it: 1 true, 0 false, or a whole number."""
        return 1.0 - value if self.opposite else value

    def value(self, around: Mapping[str, Any]) -> float:
        """Return the value of the switch at a time and a state, with no switch held."""
        return float(evaluate(self.live, around))


@dataclass(frozen=True, repr=False)
class WholeSwitch(HeldSwitch):
    """A whole number that is held: ``floor`` or ``ceil`` of the gap."""

    op: Whole = "floor"

    @property
    def watched(self) -> Node:
        held = name(self.slot)
        if self.op == "floor":
            return Node("min", add(self.gap, neg(held)), add(held, ONE, neg(self.gap)))
        return Node("min", add(held, neg(self.gap)), add(self.gap, ONE, neg(held)))


@dataclass(frozen=True, repr=False)
class RootSwitch(HeldSwitch):
    """Whether the argument of a root, of a power below 1, is above a small width, below which the root counts as zero.

    The derivative of a root is infinite at zero, which a solution can reach in finite time, to rest there or to pass.
    The width is less than the tolerance tells apart, and set for each run (`kernels.march.initialise`).

    Attributes
    ----------
    width : str
        The name of the width.
    argument : Node
        The argument, in which nothing is held.
    """

    width: str = ""
    argument: Node = ZERO

    @property
    def watched(self) -> Node:
        """As of others; but the root is left at one width and returned to at two, so that it can rest between."""
        twice = add(name(self.width), neg(self.gap))
        return Node("where", name(self.slot), self.gap, twice)


def input_switch(named: str, kinks: Any, jumps: bool, interval: tuple[float, float]) -> Switch:
    """Return the switch that stands for the kinks of a measured input.

    Parameters
    ----------
    named : str
        The input.
    kinks : ndarray, shape (n,)
        Their times.
    jumps : bool
        Whether it jumps there.
    interval : (float, float)
        From when to when.

    Returns
    -------
    Switch
    """
    low, high = min(interval), max(interval)
    inside = np.sort(kinks[(kinks > low) & (kinks < high)])
    times = tuple((inside if interval[0] < interval[1] else inside[::-1]).tolist())
    return Switch(f"{named} (measured)", "jump" if jumps else "kink", "input", times=times)
