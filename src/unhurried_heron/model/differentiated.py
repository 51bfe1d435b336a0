"""Algebraic states as states with rates, for methods that take no constraints.

The derivative of a constraint along the solution is linear in the rates of what it tells. The constraints themselves
are met again after every step, by the algebraic states alone: E. Hairer and G. Wanner, *Solving Ordinary Differential
Equations II*, 2nd ed. (1996), section VI.1.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from unhurried_heron.errors import OrderError
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import TIME, Node, add, mul, name, names_in, replace_names, walk
from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import FunctionRates, WrittenRates
from unhurried_heron.model.reduction import Residual, solve_highest
from unhurried_heron.model.structure import structure_of
from unhurried_heron.model.switch_extraction import take_out
from unhurried_heron.model.transformation import Transformation
from unhurried_heron.model.unrolling import unrolled

# What indexed states are in formulas.
_INDEXED = frozenset({"at", "slot", "sum"})


@dataclass(frozen=True)
class Differentiated(Transformation):
    """Algebraic states that were given rates.

    Attributes
    ----------
    constraints : tuple of IndexedFormula
        What is zero all along, its values from 0 on.
    algebraic : tuple of str
        The states that meet it.
    held : tuple of IndexedFormula
        The constraints with jumps and kinks taken out: beyond one the states meet them on its other side.
    """

    name: ClassVar[str] = "differentiated constraints"
    constraints: tuple[IndexedFormula, ...] = ()
    algebraic: tuple[str, ...] = ()
    held: tuple[IndexedFormula, ...] = ()

    def manifold(self, model: Model, *, held: bool = False) -> tuple[IndexedFormula, ...]:
        """Return the constraints."""
        return self.held if held else self.constraints


def differentiated(model: Model) -> Model | None:
    """Return a model in which algebraic states have rates; None where these cannot be written.

    Parameters
    ----------
    model : Model

    Returns
    -------
    Model or None
    """
    made, rates, layout = model.made_by(Constraints), model.rates, model.layout
    if made is None or not made.algebraic or not isinstance(rates, WrittenRates):
        return None
    if any(key not in layout.scalars for key in made.algebraic):
        return None
    formulas = {formula.base: formula.node for formula in rates.indexed_formulas if not formula.loops}
    held = {key: formulas[layout.scalars[key]] for key in made.algebraic}
    # what is measured has no derivative
    if any(part.op in _INDEXED for part in walk(*held.values())) or names_in(*held.values()) & {*model.inputs}:
        return None
    known = {key: formulas[index] for key, index in layout.scalars.items() if key not in held and index in formulas}
    found: dict[str, Node] = {}
    unknowns = list(held)
    # the rows belong to their unknowns as the structure matched them
    for component in structure_of([names_in(node) & held.keys() for node in held.values()], unknowns).components:
        rows = [_derivative(held[unknowns[k]], known, held) for k in component.equations]
        rows = [replace(each, node=replace_names(each.node, found.get, {})) for each in rows]
        try:
            found |= solve_highest(rows, [with_primes(key, 1) for key in component.unknowns])
        except OrderError:
            return None
    given = {layout.scalars[key]: found[with_primes(key, 1)] for key in held}
    new = tuple(
        single(given[each.base], each.base) if not each.loops and each.base in given else each
        for each in rates.indexed_formulas
    )
    n, constraints = layout.size, tuple(single(node, k) for k, node in enumerate(held.values()))
    # where a constraint jumps its derivative need not, and yet the march is to stop there
    both = (*new, *(replace(each, base=each.base + n) for each in constraints))
    smooth = take_out(unrolled(both), layout, model.inputs, {})
    own = tuple(each for each in smooth.indexed_formulas if each.first < n)
    beside = tuple(replace(each, base=each.base - n) for each in smooth.indexed_formulas if each.first >= n)
    return replace(
        model,
        rates=WrittenRates(layout, new, own, smooth.switches, smooth.left, rates.reduced),
        transformations=(*model.transformations, Differentiated(constraints, tuple(held), beside)),
        mass=None,
    )


def implied(model: Model) -> Model | None:
    """Return a model whose algebraic states have rates that are found by numbers; None where these cannot be had.

    They are those by which the constraints stay met, which their derivatives tell.
    """
    made, rates, layout = model.made_by(Constraints), model.rates, model.layout
    if isinstance(rates, FunctionRates):
        mass = model.mass
        if mass is None or not mass.constraints(layout.size) or (mass.rows != mass.columns).any():
            return None
        return replace(model, rates=replace(rates, implied=mass), mass=None)
    if made is None or not made.algebraic or not isinstance(rates, WrittenRates):
        return None
    found, held, first = list[IndexedFormula](), list[IndexedFormula](), 0
    for key in made.algebraic:
        begin = layout.offsets[key]
        end = begin + layout.by_name[key].size
        for formulas, into in ((rates.indexed_formulas, found), (rates.held, held)):
            own = (each for each in formulas if begin <= each.first < end)
            into += (replace(each, base=each.base + first - begin) for each in own)
        first += end - begin
    # what is measured has no derivative
    if names_in(*(each.node for each in found)) & {*model.inputs}:
        return None
    return replace(
        model,
        rates=replace(rates, implied=tuple(made.algebraic)),
        transformations=(*model.transformations, Differentiated(tuple(found), tuple(made.algebraic), tuple(held))),
        mass=None,
    )


def _derivative(node: Node, rates: dict[str, Node], algebraic: dict[str, Node]) -> Residual:
    """Return the derivative of a constraint along the solution, in which the rates of algebraic states are unknown.

    Parameters
    ----------
    node : Node
    rates : dict of str to Node
        Of the other states.
    algebraic : dict of str to Node

    Returns
    -------
    Residual
    """
    terms = []
    for key, partial in Differentiator({*rates, *algebraic, TIME}).by_name(node).items():
        if key == TIME:
            terms.append(partial)
        else:
            terms.append(mul(partial, name(with_primes(key, 1)) if key in algebraic else rates[key]))
    return Residual(add(*terms), "a constraint")
