"""Complex states as pairs of real ones: what marches are real and imaginary parts, side by side.

A complex state is a group with a last index besides, 1 of real and 2 of imaginary parts; layouts put the parts together
again (`Layout.take`), which is the way back.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from unhurried_heron.errors import ValueGivenError, listing
from unhurried_heron.formulas.complex_parts import IMAGINARY_UNIT, Parts, asks_for_parts, parts_of, real_part_only
from unhurried_heron.formulas.expression import IMAGINARY, ONE, Node, number
from unhurried_heron.formulas.layout import Layout
from unhurried_heron.formulas.state_name import StateName, base_of
from unhurried_heron.input.definitions import Definition
from unhurried_heron.model.transformation import Transformation, Transformed

TWO = number(2.0)


@dataclass(frozen=True)
class ComplexStates(Transformation):
    """The transformation of complex states to real pairs: which states and derived quantities are complex.

    Attributes
    ----------
    names : frozenset of str
        Without primes.
    imaginary : bool
        Whether ``i`` is the imaginary unit in formulas.
    """

    name: ClassVar[str] = "complex states"
    names: frozenset[str] = frozenset()
    imaginary: bool = False

    def known(self, model: Transformed) -> tuple[str, ...]:
        """Return the name that the imaginary unit has in formulas, if it has one."""
        return (IMAGINARY,) if self.imaginary else ()

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
        return self.real(node, location)

    def parts(self, node: Node, location: str = "") -> Parts:
        """Return the real and the imaginary part of a formula, in terms of those of states.

        Raises
        ------
        ExpressionError
        """
        return parts_of(node, self._parts_of_name, location) if self._concerns(node) else (node, number(0.0))

    def real(self, node: Node, location: str = "") -> Node:
        """Return a formula whose value must be real, in terms of the parts of states.

        Raises
        ------
        ExpressionError
            It is complex.
        """
        return real_part_only(node, self._parts_of_name, location) if self._concerns(node) else node

    def marked(self, layout: Layout) -> Layout:
        """Return a layout whose groups are marked as complex where they are."""
        if not self.names:
            return layout
        groups = (replace(group, complex=base_of(group.name) in self.names) for group in layout.groups)
        return Layout(tuple(groups))

    def _concerns(self, node: Node) -> bool:
        return bool(self.names) or self.imaginary or asks_for_parts(node)

    def _parts_of_name(self, node: Node) -> Parts | None:
        named = str(node.args[0])
        if self.imaginary and node.op == "name" and named == IMAGINARY:
            return IMAGINARY_UNIT
        if base_of(named) not in self.names:
            return None
        indices = node.operands if node.op == "at" else ()
        return Node("at", named, *indices, ONE), Node("at", named, *indices, TWO)


def complex_starts(initial: Mapping[str, Definition], names: Iterable[str]) -> frozenset[str]:
    """Return the states that start from complex numbers, without primes; ``names``: what else has a value."""
    found = set()
    for key, each in initial.items():
        name = StateName.read(key)
        written = each.formula is not None and IMAGINARY in each.formula.mentions
        if np.iscomplexobj(each.value) or (written and IMAGINARY not in (*name.indices, *names)):
            found.add(name.base)
    return frozenset(found)


def refuse_complex(starts: Iterable[str], what: str) -> None:
    """Refuse complex starting values where the rates follow from something else than formulas or functions of them.

    Raises
    ------
    ValueGivenError
    """
    names = sorted(starts)
    if names:
        raise ValueGivenError(f"{what} are of real coordinates", name=listing(names), location="initial",
                              expected="real starting values, or equations for the complex states",
                              given=f"complex numbers for {listing(names)}")  # fmt: skip
