"""The first-order equations of a problem, shown back as text and as LaTeX."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.layout import Loop
from unhurried_heron.formulas.printing import name_latex, to_latex, to_text
from unhurried_heron.formulas.state_name import StateName
from unhurried_heron.model.model import Model


@dataclass(frozen=True)
class FirstOrder:
    """A first-order system, one equation for each state; printing it gives the text.

    Attributes
    ----------
    equations : tuple of (str, Node, str)
        State, formula of its rate, and the ranges of its indices; of a constraint no state, and what is to be zero.
    """

    equations: tuple[tuple[str, Node, str], ...]

    @classmethod
    def of(cls, model: Model) -> FirstOrder:
        """Return the first-order equations of a model.

        Raises
        ------
        OrderError
            The rates are a Python function.
        """
        return cls(tuple((state, node, ranges_of(loops)) for state, node, loops in model.rates.shown()))

    @property
    def text(self) -> str:
        """The equations as one would type them; the derivative of z' is written (z')'."""
        listed = self._telling()
        lefts = [_dotted(state) for state, _, _ in listed]
        width = max(map(len, lefts))
        return "\n".join(
            f"{left:<{width}} = {to_text(node)}" + (f"  for {ranges}" if ranges else "")
            for left, (_, node, ranges) in zip(lefts, listed, strict=True)
        )

    @property
    def latex(self) -> str:
        """The equations as an ``aligned`` block."""
        rows = []
        for state, node, ranges in self._telling():
            left = rf"\frac{{\mathrm{{d}} {_state_latex(state)}}}{{\mathrm{{d}} t}}" if state else "0"
            spoken = ranges.replace(", ", r";\ ").replace("..", r", \dots, ").replace(" in ", " = ")
            suffix = rf" \quad ({spoken})" if ranges else ""
            rows.append(f"{left} &= {to_latex(node)}{suffix}")
        return "\\begin{aligned}\n" + " \\\\\n".join(rows) + "\n\\end{aligned}"

    def _telling(self) -> list[tuple[str, Node, str]]:
        """Return the equations without those that say no more than how a derivative is called: z' = z'."""
        listed = [each for each in self.equations if not _names_itself(each[0], each[1])]
        return listed or list(self.equations)

    def __str__(self) -> str:
        return self.text

    def _repr_latex_(self) -> str:
        return f"$\\displaystyle {self.latex}$"


def ranges_of(loops: Sequence[Loop]) -> str:
    """Return ranges as people write them."""
    return ", ".join(f"{loop.index} in {loop.first}..{loop.last}" for loop in loops)


def _names_itself(state: str, node: Node) -> bool:
    if not state:
        return False
    named = StateName.read(state)
    return to_text(node) == named._replace(primes=named.primes + 1).as_people_write


def _dotted(state: str) -> str:
    if not state:
        return "0"
    return f"({state})'" if StateName.read(state).primes else f"{state}'"


def _state_latex(state: str) -> str:
    named = StateName.read(state)
    return name_latex(named.group) + (f"_{{{named.inside}}}" if named.inside else "")
