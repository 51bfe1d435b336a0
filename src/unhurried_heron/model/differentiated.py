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
from unhurried_heron.formulas.expression import ZERO, Node, add, div, mul, name, names_in, neg, replace_names, walk
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
# Unknowns of one group up to which their formulas are short quotients of determinants.
_FEW = 4


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


def differentiated(model: Model, *, shortly: bool = False) -> Model | None:
    """Return a model in which algebraic states have rates; None where these cannot be written.

    Parameters
    ----------
    model : Model
    shortly : bool, optional
        Whether long formulas count as none.

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
        # with names in the place of what the solution leaves of each, which is given for both
        left = [name(f"_left{k}") for k in range(len(own))]
        within = {key: open_ones[key] for key in component.unknowns}
        if len(own) <= _FEW:
            partials = Differentiator(within)
            matrix = [[partials.by_name(node).get(key, ZERO) for key in within] for node in own]
            whole = _determinant(matrix)
            if whole.value == 0.0:
                return None
            answers = dict(zip(wanted, _by_determinants(matrix, left, whole), strict=True))
        elif shortly:
            return None
        else:
            rows = [
                Residual(add(derivative_along(node, within), each), "") for node, each in zip(own, left, strict=True)
            ]
            try:
                answers = solve_highest(rows, wanted)
            except OrderError:
                return None
        others = {key: rate for key, rate in known.items() if key not in within}
        found |= _filled(answers, [derivative_along(node, others) for node in own], found)
        others = {key: rate for key, rate in open_ones.items() if key not in within}
        moves |= _filled(answers, [add(node, derivative_along(node, others)) for node in own], moves)
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


def _by_determinants(matrix: list[list[Node]], left: list[Node], whole: Node) -> list[Node]:
    """Return x of ``matrix`` x + ``left`` = 0 by Cramer's rule.

    Parameters
    ----------
    matrix : list of list of Node
    left : list of Node
    whole : Node
        The determinant of the matrix.

    Returns
    -------
    list of Node
    """
    replaced = (
        [[*row[:k], each, *row[k + 1 :]] for row, each in zip(matrix, left, strict=True)] for k in range(len(left))
    )
    return [neg(div(_determinant(each), whole)) for each in replaced]


def _determinant(rows: list[list[Node]]) -> Node:
    if len(rows) == 1:
        return rows[0][0]
    terms = []
    for k, each in enumerate(rows[0]):
        term = mul(each, _determinant([[*row[:k], *row[k + 1 :]] for row in rows[1:]]))
        terms.append(neg(term) if k % 2 else term)
    return add(*terms)


def _filled(answers: dict[str, Node], left: list[Node], known: dict[str, Node]) -> dict[str, Node]:
    """Return answers with what is left of their equations, in which there are other answers.

    Parameters
    ----------
    answers : dict of str to Node
    left : list of Node
    known : dict of str to Node
        The other answers.

    Returns
    -------
    dict of str to Node
    """
    filled = {f"_left{k}": replace_names(node, known.get, {}) for k, node in enumerate(left)}
    return {key: replace_names(node, filled.get, {}) for key, node in answers.items()}


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
