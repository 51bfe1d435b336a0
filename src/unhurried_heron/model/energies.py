"""Equations of motion from energies: Lagrange's and Hamilton's.

H. Goldstein, C. Poole and J. Safko, *Classical Mechanics*, 3rd ed. (2002), sections 1.4, 2.7 and 8.1.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass
from types import MappingProxyType

from unhurried_heron.errors import ExpressionError, NameClashError, UndefinedNameError, listing
from unhurried_heron.formulas.differentiate import Differentiator, derivative_along
from unhurried_heron.formulas.expression import ZERO, Node, add, mul, name, names_in, neg, rewrite
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.simplify import simplified
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.formulas.state_name import StateName, base_of
from unhurried_heron.input.equation_lines import EquationLine
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_name, in_order
from unhurried_heron.model.reduction import Residual

KINETIC, POTENTIAL, LAGRANGIAN, HAMILTONIAN, ENERGY = "kinetic", "potential", "lagrangian", "hamiltonian", "energy"


@dataclass(frozen=True)
class Motion:
    """What energies say: equations as residuals, or rates; and the energy."""

    orders: dict[str, int]
    residuals: tuple[Residual, ...]
    rates: dict[str, Node]
    energy: Node


def read_forces(forces: Mapping[str, str], coordinates: Sequence[str], collector: ErrorCollector) -> dict[str, Formula]:
    """Read the forces along coordinates.

    Parameters
    ----------
    forces : Mapping[str, str]
    coordinates : Sequence[str]
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    dict[str, Formula]

    Raises
    ------
    ExpressionError, UndefinedNameError
    """
    found = {}
    for named, text in forces.items():
        with collector.gathering():
            if named not in coordinates:
                raise UndefinedNameError(
                    f"a force along '{named}', which is no coordinate",
                    names=(named,),
                    location="forces",
                    expected="forces along " + listing(coordinates),
                )
            found[named] = read(Source(str(text), f"the force along '{named}'"))
    return found


def check_coordinates(coordinates: Sequence[str]) -> None:
    """Refuse names that cannot be coordinates.

    Raises
    ------
    ExpressionError, NameClashError
    """
    for named in coordinates:
        check_name(named, "coordinates")
    if not coordinates or len(set(coordinates)) < len(coordinates):
        raise NameClashError(
            "the coordinates must be different names",
            name="coordinates",
            location="coordinates",
            expected='names such as ["z", "w"]',
            given=listing(coordinates) or "none",
        )


def _written_out(
    statements: Sequence[EquationLine], wanted: Sequence[str], moving: Mapping[str, Node] = MappingProxyType({})
) -> dict[str, Node]:
    """Return the named formulas of a text in terms of coordinates, parameters and time.

    The velocity of a position that is such a formula, as x' is where x = l*sin(angle), follows by the chain rule.

    Parameters
    ----------
    statements : sequence of EquationLine
    wanted : sequence of str
        Formulas that must be there.
    moving : mapping of str to Node, optional
        The rates of what moves: coordinates, the time, measured quantities.

    Returns
    -------
    dict[str, Node]

    Raises
    ------
    ExpressionError, NameClashError
        One is missing, or defined by itself.
    """
    formulas = {}
    for statement in statements:
        target = statement.target
        if target is None or target.primes or target.indices or statement.ranges:
            raise ExpressionError(
                "a text of energies holds formulas only",
                location=statement.location,
                expected="name = formula, with " + " and ".join(wanted),
                given=statement.text[:80],
            )
        if target.name in formulas:
            raise NameClashError(
                f"'{target.name}' is defined twice",
                name=target.name,
                location=statement.location,
                expected="one formula for each name",
                given="a second one",
            )
        formulas[target.name] = statement.right.node
    ready: dict[str, Node] = {}

    def defined(part: Node) -> Node | None:
        if part.op != "name":
            return None
        named = str(part.args[0])
        if named in ready:
            return ready[named]
        moved = named.removesuffix("'") if moving else ""
        return total_derivative(ready[moved], moving) if moved != named and moved in ready else None

    needs = {
        key: rewrite(node, lambda part: name(base_of(str(part.args[0]))) if part.op == "name" else None, {})
        for key, node in formulas.items()
    }
    for key in in_order(needs):
        ready[key] = rewrite(formulas[key], defined, {})
    return ready


def velocities_of(statements: Sequence[EquationLine], moving: Mapping[str, Node]) -> dict[str, Node]:
    """Return the velocities that the text uses of positions which are formulas, by name: ``x'``."""
    used = {mention for statement in statements for mention in statement.right.mentions}
    if not any(StateName.read(each).primes and base_of(each) not in moving for each in used):
        return {}
    ready = _written_out(statements, (KINETIC, POTENTIAL), moving)
    return {key + "'": total_derivative(node, moving) for key, node in ready.items() if key + "'" in used}


def velocities_of_positions(
    formulas: Mapping[str, Node], coordinates: Sequence[str], moving: Mapping[str, Node]
) -> dict[str, Node]:
    """Return the velocities of all formulas of coordinates, by name: ``x'``.

    Parameters
    ----------
    formulas : mapping of str to Node
        In terms of coordinates, velocities, parameters and time.
    coordinates : sequence of str
    moving : mapping of str to Node
        The rates of what moves.

    Returns
    -------
    dict of str to Node
    """
    own, still = {*coordinates}, {name + "'" for name in coordinates}
    positions = {key: node for key, node in formulas.items() if names_in(node) & own and not names_in(node) & still}
    return {key + "'": total_derivative(node, moving) for key, node in positions.items()}


def total_derivative(node: Node, moving: Mapping[str, Node]) -> Node:
    """Return the derivative by the time of a formula of what moves."""
    return _tidy(derivative_along(node, moving))


def _missing(names: str, statements: Sequence[EquationLine], wanted: str) -> ExpressionError:
    """Return the error that names formulas which are not there.

    Parameters
    ----------
    names : str
        Of the formulas.
    statements : Sequence[EquationLine]
    wanted : str
        What must be there.

    Returns
    -------
    ExpressionError
    """
    return ExpressionError(
        f"the text gives no {names}",
        name=names,
        location="the energies",
        expected=wanted,
        given="; ".join(statement.text for statement in statements)[:80] or "nothing",
    )


def lagrange(
    statements: Sequence[EquationLine],
    coordinates: Sequence[str],
    forces: Mapping[str, Node],
    moving: Mapping[str, Node],
) -> Motion:
    """Return the equations of motion d/dt(dL/dq') - dL/dq = Q, and the energy q' dL/dq' - L.

    Parameters
    ----------
    statements : Sequence[EquationLine]
    coordinates : Sequence[str]
    forces : Mapping[str, Node]
    moving : mapping of str to Node
        The rates of what moves: coordinates, the time, measured quantities.

    Returns
    -------
    Motion

    Raises
    ------
    ExpressionError
        The text gives neither a ``lagrangian`` nor both ``kinetic`` and ``potential``.
    """
    known = _written_out(statements, (KINETIC, POTENTIAL), moving)
    if LAGRANGIAN in known:
        function = known[LAGRANGIAN]
    elif KINETIC in known and POTENTIAL in known:
        function = add(known[KINETIC], neg(known[POTENTIAL]))
    else:
        missing = POTENTIAL if KINETIC in known else KINETIC
        raise _missing(f"'{missing}'", statements, "kinetic = … and potential = …, or lagrangian = …")
    others = moving.keys() - {*coordinates}
    _refuse_accelerations(function, coordinates, others)
    function = _tidy(function)
    speeds = [q + "'" for q in coordinates]
    rates = {**{v: name(v + "'") for v in speeds}, **moving}
    first = Differentiator((*coordinates, *speeds)).by_name(function)
    residuals = []
    for q, speed in zip(coordinates, speeds, strict=True):
        change = [derivative_along(_tidy(first.get(speed, ZERO)), rates)]
        change += [neg(first.get(q, ZERO)), neg(forces.get(q, ZERO))]
        residuals.append(Residual(_tidy(add(*change)), f"the equation of motion of '{q}'"))
    energy = add(*(mul(name(v), first.get(v, ZERO)) for v in speeds), neg(function))
    return Motion(dict.fromkeys(coordinates, 2), tuple(residuals), {}, _energy(known, energy, others))


def _energy(known: Mapping[str, Node], general: Node, others: AbstractSet[str]) -> Node:
    """Prefer kinetic plus potential where that is the energy: kinetic quadratic in the speeds, no time.

    Parameters
    ----------
    known : mapping of str to Node
        The formulas of the text.
    general : Node
        The energy by its definition.
    others : set of str
        The time, and what follows from it.

    Returns
    -------
    Node
    """
    if KINETIC not in known or POTENTIAL not in known:
        return _tidy(general)
    kinetic, potential = known[KINETIC], known[POTENTIAL]
    speeds = {named for named in names_in(kinetic) - others if StateName.read(named).primes}
    if any(StateName.read(named).primes for named in names_in(potential) - others):
        return _tidy(general)
    partials = Differentiator(speeds).by_name(kinetic)
    # a form is quadratic where its second derivatives no longer hold speeds and it vanishes with them (Euler)
    seconds = [s for partial in partials.values() for s in Differentiator(speeds).by_name(partial).values()]
    zero = rewrite(kinetic, lambda part: ZERO if part.op == "name" and part.args[0] in speeds else simplified(part), {})
    flat = [
        rewrite(partial, lambda part: ZERO if part.op == "name" and part.args[0] in speeds else simplified(part), {})
        for partial in partials.values()
    ]
    quadratic = not any(names_in(second) & speeds for second in map(_tidy, seconds))
    if quadratic and zero is ZERO and all(part is ZERO for part in flat):
        return add(kinetic, potential)
    return _tidy(general)


def _refuse_accelerations(function: Node, coordinates: Sequence[str], others: AbstractSet[str] = frozenset()) -> None:
    """Refuse an energy of accelerations.

    Parameters
    ----------
    function : Node
    coordinates : sequence of str
    others : set of str, optional
        Names that may have primes all the same.

    Raises
    ------
    ExpressionError
    """
    for named in sorted(names_in(function) - others):
        base, primes, _ = StateName.read(named)
        if primes > 1 or (primes and base not in coordinates):
            raise ExpressionError(
                f"'{named}' cannot stand in an energy",
                name=named,
                location="the energies",
                expected="coordinates (" + listing(coordinates) + ") and their first derivatives",
                given=named,
            )


def hamilton(statements: Sequence[EquationLine], coordinates: Mapping[str, str], forces: Mapping[str, Node]) -> Motion:
    """Return the rates q' = dH/dp, p' = -dH/dq + Q, and the energy H.

    Parameters
    ----------
    statements : Sequence[EquationLine]
    coordinates : mapping of str to str
        The momentum of each.
    forces : Mapping[str, Node]

    Returns
    -------
    Motion

    Raises
    ------
    ExpressionError
        The text gives neither a ``hamiltonian`` nor both ``kinetic`` and ``potential``.
    """
    known = _written_out(statements, (HAMILTONIAN,))
    if HAMILTONIAN in known:
        function = known[HAMILTONIAN]
    elif KINETIC in known and POTENTIAL in known:
        function = add(known[KINETIC], known[POTENTIAL])
    else:
        raise _missing(f"'{HAMILTONIAN}'", statements, "hamiltonian = …, or kinetic = … and potential = …")
    _refuse_accelerations(function, ())
    partials = Differentiator((*coordinates, *coordinates.values())).by_name(function)
    rates = {q: _tidy(partials.get(p, ZERO)) for q, p in coordinates.items()}
    rates |= {p: _tidy(add(neg(partials.get(q, ZERO)), forces.get(q, ZERO))) for q, p in coordinates.items()}
    return Motion(dict.fromkeys(rates, 1), (), rates, function)


def _tidy(node: Node) -> Node:
    return rewrite(node, simplified, {})
