"""Constraints that hold no unknown are differentiated along the solution until they do; what they said is kept.

Then the unknowns can be told (index 1), and the states stay where the constraints, and their derivatives, put them: E.
Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), sections VII.1 and VII.2.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Final, NamedTuple

from unhurried_heron.errors import ConstraintError, listing, unforeseen
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import TIME, ZERO, Node, add, mul, name, names_in, replace_names
from unhurried_heron.formulas.layout import Loop
from unhurried_heron.formulas.state_name import StateName, base_of
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.model.indexed_rules import Rule
from unhurried_heron.model.reduction import Residual, linear_answer, tidied
from unhurried_heron.model.structure import Structure, structure_of

# How often a constraint is differentiated, at most: systems of the textbooks have indices up to five.
MOST_DERIVATIVES: Final = 6


class Held(NamedTuple):
    """What states meet all along: a formula that is zero, the constraint it comes from in words, how often derived.

    With loops it is one for each value of their indices.
    """

    node: Node
    words: str
    times: int
    loops: tuple[Loop, ...] = ()

    @property
    def rule(self) -> Rule:
        """The formula for each value of its indices."""
        return Rule("what is zero", tuple(name(loop.index) for loop in self.loops), self.loops, self.node)


class Reduced(NamedTuple):
    """Constraints that can be solved for their unknowns.

    Attributes
    ----------
    constraints : list of Residual
        In terms of states and unknowns.
    unknowns : list of str
        Those that are left.
    solved : dict of str to Node
        Formulas of unknowns that were needed to differentiate.
    by : dict of str to Residual
        The constraints that tell these.
    held : list of Held
    structure : Structure
        Of the constraints.
    """

    constraints: list[Residual]
    unknowns: list[str]
    solved: dict[str, Node]
    by: dict[str, Residual]
    held: list[Held]
    structure: Structure


def reduce_index(
    constraints: Sequence[Residual], unknowns: Sequence[str], rates: Mapping[str, Node], inputs: Mapping[str, Measured]
) -> Reduced:
    """Differentiate constraints until they can be solved for their unknowns, as far as structure tells.

    Parameters
    ----------
    constraints : sequence of Residual
        In terms of states and unknowns.
    unknowns : sequence of str
    rates : mapping of str to Node
        The highest derivative of each state, likewise.
    inputs : mapping of str to Measured

    Returns
    -------
    Reduced
        Its structure has a part with too many equations, or too few, where differentiating leads nowhere.

    Raises
    ------
    ConstraintError
        One of measured quantities would have to be differentiated more often than these can be.
    """
    left, open_ones, solved = list(constraints), list(unknowns), dict[str, Node]()
    held, by = list[Held](), dict[str, Residual]()
    times = dict.fromkeys(range(len(left)), 0)
    while True:
        structure = structure_of([names_in(each.node) & {*open_ones} for each in left], open_ones)
        if structure.over is None or structure.under is None:
            return Reduced(left, open_ones, solved, by, held, structure)
        answer = _answer(left, structure)
        if answer is not None:
            # one of too many equations tells an unknown, and the others are without it
            key, number_of, formula = answer
            solved = {other: _with(node, {key: formula}) for other, node in solved.items()} | {key: formula}
            open_ones.remove(key)
            by[key] = left[number_of]
            del left[number_of]
            times = {k - (k > number_of): count for k, count in times.items() if k != number_of}
            left = [replace(each, node=_with(each.node, {key: formula})) for each in left]
            rates = {label: _with(node, {key: formula}) for label, node in rates.items()}
            continue
        bare = [k for k in structure.over.equations if not names_in(left[k].node) & {*open_ones}]
        if not bare:
            return Reduced(left, open_ones, solved, by, held, structure)
        for k in bare:
            held.append(Held(left[k].node, words_of(left[k]), times[k]))
            times[k] += 1
            node = _derivative(left[k], rates, inputs)
            if times[k] > MOST_DERIVATIVES or node is ZERO or not names_in(node):
                structure = structure._replace(under=None)
                return Reduced(left, open_ones, solved, by, held, structure)
            left[k] = replace(left[k], node=node)


def _answer(constraints: Sequence[Residual], structure: Structure) -> tuple[str, int, Node] | None:
    """Return an unknown in too many equations, the number of one that is solved for it, and its formula.

    Parameters
    ----------
    constraints : sequence of Residual
    structure : Structure

    Returns
    -------
    (str, int, Node) or None

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    if structure.over is None:
        raise unforeseen("unknowns eliminated where none is in too many equations")
    for key in structure.over.unknowns:
        for k in structure.over.equations:
            found = linear_answer([constraints[k]], [key]) if key in names_in(constraints[k].node) else None
            if found:
                return key, k, found[key]
    return None


def words_of(constraint: Residual | Rule) -> str:
    """Return a constraint in the user's words."""
    return constraint.location.partition(": ")[2] or constraint.location


def _with(node: Node, formulas: Mapping[str, Node]) -> Node:
    return replace_names(node, formulas.get, {})


def _derivative(residual: Residual, rates: Mapping[str, Node], inputs: Mapping[str, Measured]) -> Node:
    """Return the derivative of a constraint along the solution.

    Parameters
    ----------
    residual : Residual
    rates : mapping of str to Node
    inputs : mapping of str to Measured

    Returns
    -------
    Node

    Raises
    ------
    ConstraintError
        It holds a measured quantity that jumps where it is differentiated once more.
    """
    measured = names_in(residual.node) & measured_names(inputs)
    jumping = sorted(base_of(label) for label in measured if jumps_beyond(label, inputs))
    if jumping:
        raise refuse_measured(jumping, residual.location, words_of(residual))
    moving = names_in(residual.node) - {TIME}
    terms = []
    for label, partial in Differentiator({*moving, TIME}).by_name(residual.node).items():
        if label == TIME:
            terms.append(partial)
            continue
        named = StateName.read(label)
        above = named._replace(primes=named.primes + 1).text
        rate = rates.get(above)
        if rate is None and above not in _lower(rates) and label not in measured:
            # a parameter
            continue
        terms.append(mul(partial, rate if rate is not None else name(above)))
    return tidied(add(*terms)) if terms else ZERO


def jumps_beyond(label: str, inputs: Mapping[str, Measured]) -> bool:
    """Whether a measured quantity, or a derivative of one, jumps between its rows, and so has no derivative itself."""
    named = StateName.read(label)
    return named.primes >= inputs[named.base].smoothness


def refuse_measured(measured: Sequence[str], location: str, words: str) -> ConstraintError:
    """Return the error of a constraint that holds measured quantities which have no derivative.

    Parameters
    ----------
    measured : sequence of str
    location : str
    words : str
        The constraint as it was written.

    Returns
    -------
    ConstraintError
    """
    return ConstraintError(
        f"a constraint of the measured {listing(measured, quoted=True)} would have to be differentiated more often than"
        " that can be",
        name=listing(measured), location=location, given=words,
        expected='interpolation = "linear" where once is enough, "cubic" for twice, or a formula in its stead',
    )  # fmt: skip


def _lower(rates: Mapping[str, Node]) -> set[str]:
    """Return the derivatives that are states: those below the highest."""
    found = set()
    for label in rates:
        named = StateName.read(label)
        found |= {named._replace(primes=k).text for k in range(1, named.primes)}
    return found
