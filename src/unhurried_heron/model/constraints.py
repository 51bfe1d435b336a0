"""Constraints among the equations: unknowns that no rate and no formula tells, and what is known of them beforehand.

An equation in which no highest derivative stands is a constraint, and so is a derived quantity that needs itself. What
is linear is solved by algebra, a few unknowns at a time; the rest become algebraic states, whose "rate" is what their
constraint misses, with a row of zeros in the mass matrix.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from graphlib import CycleError, TopologicalSorter
from typing import TYPE_CHECKING, ClassVar, Final

import numpy as np

from unhurried_heron.errors import ConstraintError, listing, unforeseen
from unhurried_heron.formulas.expression import Node, add, name, names_in, neg, replace_names
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.names import in_order
from unhurried_heron.model.index_reduction import Held, reduce_index, words_of
from unhurried_heron.model.indexed_reduction import reduce_over_indices
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.model.model import Model, write_out
from unhurried_heron.model.reduction import Residual, highest_of, linear_answer, tidied
from unhurried_heron.model.structure import Component, circles, structure_of
from unhurried_heron.model.transformation import Transformation

if TYPE_CHECKING:
    from unhurried_heron.model.equation_sorting import ClassifiedEquations

# Unknowns that are solved for together by algebra, at most: by Cramer's rule, whose one denominator is the determinant.
_BY_ALGEBRA: Final = 3


@dataclass(frozen=True)
class Constraints(Transformation):
    """What constraints made of unknowns: formulas, or algebraic states.

    Attributes
    ----------
    algebraic : dict of str to str
        The states that constraints determine, each with its constraint in the user's words.
    solved : dict of str to str
        Unknowns that were solved for by algebra, likewise.
    held : tuple of Held
        What states meet all along: constraints that hold no unknown, and their derivatives.
    """

    name: ClassVar[str] = "constraints"
    algebraic: Mapping[str, str] = field(default_factory=dict)
    solved: Mapping[str, str] = field(default_factory=dict)
    held: tuple[Held, ...] = ()

    @property
    def index(self) -> int:
        """Of the problem as written: how often constraints are differentiated until all rates are known."""
        return max((each.times + 2 for each in self.held), default=1)

    @property
    def ties_starts(self) -> bool:
        """Whether starting values of states follow from others."""
        return bool(self.algebraic or self.held)

    def manifold(self, model: Model, *, held: bool = False) -> tuple[IndexedFormula, ...]:
        """Return formulas that are zero all along."""
        return model.one_behind_another([each.rule for each in self.held])


def with_constraints(
    found: ClassifiedEquations, preferred: Collection[str], values: Mapping[str, float], inputs: Mapping[str, Measured]
) -> tuple[ClassifiedEquations, Constraints]:
    """Return what a text says with its constraints as formulas, or as algebraic states.

    Parameters
    ----------
    found : ClassifiedEquations
    preferred : collection of str
        Names that were given a starting value or a guess.
    values : mapping of str to float
        Of parameters, as far as they are known.
    inputs : mapping of str to Measured

    Returns
    -------
    (ClassifiedEquations, Constraints)

    Raises
    ------
    ConstraintError
        There are too many or too few, or they do not determine what is left open.
    """
    derived, torn = _without_circles(found.derived, preferred)
    formulas = write_out(derived)
    residuals, constraints = [], []
    for residual in found.residuals:
        written = replace_names(replace_names(residual.node, formulas.get, {}), found.rates.get, {})
        if names_in(written) & found.highest:
            residuals.append(residual)
        else:
            constraints.append(residual)
    constraints += [
        Residual(add(name(key), neg(node)), f"{key} = {to_text(node)[:80]}", ()) for key, node in torn.items()
    ]
    unknowns = [*found.unknowns, *torn]
    if not constraints and not unknowns and not found.indexed_constraints and not found.bare:
        return found, Constraints()
    plain = [replace(each, node=replace_names(each.node, found.rates.get, {})) for each in constraints]
    rows = [names_in(replace_names(each.node, formulas.get, {})) & {*unknowns} for each in plain]
    structure, held, rates = structure_of(rows, unknowns), list[Held](), dict(found.rates)
    algebraic, solved = dict[str, str](), dict[str, str]()
    if structure.over is not None and structure.under is not None:
        rates |= highest_of(residuals, found.rates, formulas, sorted(found.highest))
        full = [replace(each, node=replace_names(each.node, formulas.get, {})) for each in plain]
        in_states = {label: replace_names(node, formulas.get, {}) for label, node in rates.items()}
        plain, unknowns, eliminated, by, held, structure = reduce_index(full, unknowns, in_states, inputs)
        constraints, residuals = plain, []
        derived |= eliminated
        solved |= {key: words_of(each) for key, each in by.items()}
    # what stands over indices may tell unknowns that are none
    waiting = structure.under.unknowns if structure.under and not structure.over and found.bare else ()
    _refuse_misfit(structure.over, None if waiting else structure.under, constraints, found.derived)
    made = replace(
        found,
        derived=dict(derived),
        residuals=residuals,
        rates=rates,
        orders=dict(found.orders),
        rate_rules=dict(found.rate_rules),
    )
    for component in structure.components:
        own = [plain[k] for k in component.equations]
        words = {key: words_of(constraints[k]) for k, key in zip(component.equations, component.unknowns, strict=True)}
        answers = _by_algebra(own, component, derived, found.derived)
        if answers is not None:
            made.derived.update(answers)
            solved |= words
            continue
        algebraic |= words
        for key, residual in zip(component.unknowns, own, strict=True):
            made.orders[key] = 1
            made.rates[with_primes(key, 1)] = residual.node
    indexed = dict(found.indexed_constraints)
    if found.bare:
        all_waiting = [*waiting, *(key for key in found.indexed_unknowns if key not in indexed)]
        over = reduce_over_indices(replace(found, rates=rates), all_waiting, values, inputs)
        indexed |= over.rules
        held += over.held
        made.beyond = over.beyond
    for key, rules in indexed.items():
        made.orders[key] = 1
        algebraic[key] = words_of(rules[0])
    made.rate_rules.update(indexed)
    return made, Constraints(algebraic, solved, tuple(held))


def _without_circles(
    derived: Mapping[str, Node], preferred: Collection[str]
) -> tuple[dict[str, Node], dict[str, Node]]:
    """Return derived quantities none of which needs itself, and those taken out so that it is so."""
    left, torn = dict(derived), dict[str, Node]()
    while True:
        needs = {key: names_in(node) & left.keys() for key, node in left.items()}
        try:
            TopologicalSorter(needs).prepare()
            return left, torn
        except CycleError:
            found = circles(needs)
        for part in found:
            within = {key: needs[key] & set(part) for key in part}
            used = {key: sum(key in others for others in within.values()) for key in part}
            chosen = max(part, key=lambda key: (key in preferred, len(within[key]) * used[key]))
            torn[chosen] = left.pop(chosen)


def _refuse_misfit(
    over: Component | None, under: Component | None, constraints: Sequence[Residual], derived: Mapping[str, Node]
) -> None:
    """Refuse constraints that are too many or too few for their unknowns, or that hold none.

    Parameters
    ----------
    over, under : Component or None
        The part with too many equations, and that with too few.
    constraints : sequence of Residual
    derived : mapping of str to Node
        As as_written, with those that need themselves.

    Raises
    ------
    ConstraintError, CircularDerivedError
    """
    if over is None and under is None:
        return
    named = over.unknowns if over else ()
    wrong = [constraints[k] for k in over.equations] if over else []
    if over:
        if not wrong[0].sides:
            # those that need each other in a circle are named
            in_order(derived)
        what = f"for {listing(named, quoted=True)}" if named else "on states that have rates of their own"
        raise ConstraintError(
            f"there are too many equations: {len(wrong)} {what}",
            name=listing(named) or wrong[0].location,
            location="; ".join(each.location for each in wrong),
            expected="as many constraints as unknowns in them; a constraint on states alone needs an unknown, such as "
            "the force that keeps it, in their rates",
            given="; ".join(words_of(each) for each in wrong),
        )
    if under is None:
        raise unforeseen("constraints refused that fit")
    count = len(under.equations)
    raise ConstraintError(
        f"there are too few equations: {count} for {listing(under.unknowns, quoted=True)}, which have no value, no "
        "rate and no formula",
        name=listing(under.unknowns),
        location="; ".join(constraints[k].location for k in under.equations) or "the equations",
        expected="an equation for each of them, or a value among the parameters",
        given=f"{count} equation{'s' * (count != 1)} for {len(under.unknowns)}",
    )


def _by_algebra(
    residuals: list[Residual], component: Component, derived: Mapping[str, Node], as_written: Mapping[str, Node]
) -> dict[str, Node] | None:
    """Return the formulas of unknowns that stand linearly in their equations; None where these are left to the march.

    Parameters
    ----------
    residuals : list of Residual
    component : Component
    derived : mapping of str to Node
    as_written : mapping of str to Node
        With those that need themselves.

    Returns
    -------
    dict of str to Node, or None

    Raises
    ------
    CircularDerivedError
        One needs itself in a way that does not determine it.
    """
    if len(component.unknowns) > _BY_ALGEBRA:
        return None
    wanted = set(component.unknowns)
    carriers = {key: node for key, node in write_out(derived).items() if names_in(node) & wanted}
    own = [replace(each, node=replace_names(each.node, carriers.get, {})) for each in residuals]
    if len(own) == 1 and not own[0].sides and not names_in(tidied(own[0].node)) & wanted:
        in_order(as_written)
    return linear_answer(own, component.unknowns)


def mass_of(layout: Layout, algebraic: Collection[str]) -> MassMatrix | None:
    """Return the mass matrix with rows of zeros for algebraic states; None where there are none."""
    if not algebraic:
        return None
    moving = np.array([
        k for group in layout.groups if group.name not in algebraic
        for k in range(layout.offsets[group.name], layout.offsets[group.name] + group.size)
    ], dtype=np.int64)  # fmt: skip
    return MassMatrix(moving, moving, np.ones(moving.size))
