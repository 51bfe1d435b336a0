"""Algebraic states as states with rates, for methods that take no constraints.

The derivative of a constraint along the solution is linear in the rates of what it tells. The constraints themselves
are met again after every step, by the algebraic states alone, and by explicit methods in every stage, with Newton's
corrections as formulas: E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section
VI.1.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar

from unhurried_heron.errors import OrderError
from unhurried_heron.formulas.differentiate import Differentiator, derivative_along
from unhurried_heron.formulas.expression import Node, add, name, names_in, replace_names, walk
from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.measured_rates import rates_in_time
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
    corrections, held_corrections : tuple of IndexedFormula
        Newton's corrections of the algebraic states, likewise; empty where they are found by numbers.
    linear : bool
        Whether one correction is enough.
    """

    name: ClassVar[str] = "differentiated constraints"
    constraints: tuple[IndexedFormula, ...] = ()
    algebraic: tuple[str, ...] = ()
    held: tuple[IndexedFormula, ...] = ()
    corrections: tuple[IndexedFormula, ...] = ()
    held_corrections: tuple[IndexedFormula, ...] = ()
    linear: bool = False

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
    if any(part.op in _INDEXED for part in walk(*held.values())):
        return None
    known = {key: formulas[index] for key, index in layout.scalars.items() if key not in held and index in formulas}
    found, moves = dict[str, Node](), dict[str, Node]()
    unknowns, open_ones = list(held), {key: name(with_primes(key, 1)) for key in held}
    known |= rates_in_time(model.inputs) | open_ones
    # the rows belong to their unknowns as the structure matched them
    for component in structure_of([names_in(node) & held.keys() for node in held.values()], unknowns).components:
        own = [held[unknowns[k]] for k in component.equations]
        wanted = [with_primes(key, 1) for key in component.unknowns]
        try:
            found |= solve_highest(_rows((derivative_along(node, known) for node in own), found), wanted)
            moves |= solve_highest(_rows((add(node, derivative_along(node, open_ones)) for node in own), moves), wanted)
        except OrderError:
            return None
    given = {layout.scalars[key]: found[with_primes(key, 1)] for key in held}
    new = tuple(
        single(given[each.base], each.base) if not each.loops and each.base in given else each
        for each in rates.indexed_formulas
    )
    n, m, constraints = layout.size, len(held), tuple(single(node, k) for k, node in enumerate(held.values()))
    corrections = tuple(single(moves[with_primes(key, 1)], k) for k, key in enumerate(held))
    # where a constraint jumps its derivative need not, and yet the march is to stop there
    together = (*new, *_moved(constraints, n), *_moved(corrections, n + m))
    smooth = take_out(unrolled(together), layout, model.inputs, {})
    parts = [
        _moved((each for each in smooth.indexed_formulas if first <= each.first < end), -first)
        for first, end in ((0, n), (n, n + m), (n + m, n + 2 * m))
    ]
    partials = Differentiator(held)
    linear = not any(names_in(each) & held.keys() for node in held.values() for each in partials.by_name(node).values())
    made_of = Differentiated(constraints, tuple(held), parts[1], corrections, parts[2], linear)
    return replace(
        model,
        rates=WrittenRates(layout, new, parts[0], smooth.switches, smooth.left, rates.reduced),
        transformations=(*model.transformations, made_of),
        mass=None,
    )


def _rows(nodes: Iterable[Node], known: dict[str, Node]) -> list[Residual]:
    return [Residual(replace_names(node, known.get, {}), "a constraint") for node in nodes]


def _moved(formulas: Iterable[IndexedFormula], by: int) -> tuple[IndexedFormula, ...]:
    return tuple(replace(each, base=each.base + by) for each in formulas)


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
    return replace(
        model,
        rates=replace(rates, implied=tuple(made.algebraic)),
        transformations=(*model.transformations, Differentiated(tuple(found), tuple(made.algebraic), tuple(held))),
        mass=None,
    )
