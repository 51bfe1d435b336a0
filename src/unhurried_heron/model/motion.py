"""Equations of motion from energies, as what a text says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from unhurried_heron.errors import ExpressionError, listing
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import ZERO, add, mul, name, names_in, neg, replace_names
from unhurried_heron.formulas.state_name import base_of, with_primes
from unhurried_heron.input.equation_lines import EquationLine, read_statements
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.measured_rates import measured_names, rates_in_time
from unhurried_heron.input.names import check_defined, check_name
from unhurried_heron.model.energies import (
    ENERGY,
    LAGRANGIAN,
    check_coordinates,
    hamilton,
    lagrange,
    read_forces,
    velocities_of,
    velocities_of_positions,
)
from unhurried_heron.model.model import write_out
from unhurried_heron.model.reduction import Residual

if TYPE_CHECKING:
    from unhurried_heron.model.equation_sorting import ClassifiedEquations, Sorter


def _multipliers(given: Sequence[str] | Mapping[str, str], collector: ErrorCollector) -> dict[str, EquationLine]:
    """Return the constraints of coordinates, by the names of their multipliers.

    Parameters
    ----------
    given : sequence of str, or mapping of str to str
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    dict of str to EquationLine
    """
    texts = given if isinstance(given, Mapping) else {f"multiplier_{k + 1}": text for k, text in enumerate(given)}
    found = {}
    for key, text in texts.items():
        check_name(key, "constraints")
        for line in read_statements(text, collector, "constraints"):
            found[key] = line
    return found


def take_motion(sorter: Sorter, found: ClassifiedEquations) -> None:
    """Take the equations of motion from energies.

    Parameters
    ----------
    sorter : Sorter
        Of the energies.
    found : ClassifiedEquations
        Is filled.
    """
    user_input = sorter.user_input
    coordinates = tuple(user_input.coordinates)
    check_coordinates((*coordinates, *user_input.momenta))
    forces = read_forces(user_input.forces, coordinates, sorter.collector)
    helpers = {s.target.name: s.right.node for s in sorter.statements if s.target and not s.target.primes}
    velocities, moving = {}, {q: name(with_primes(q, 1)) for q in coordinates} | rates_in_time(sorter.inputs)
    if user_input.form == "lagrangian":
        velocities = velocities_of(sorter.statements, moving)
        helpers = {key: replace_names(node, velocities.get, {}) for key, node in helpers.items()}
    written_forces = {key: replace_names(force.node, write_out(helpers).get, {}) for key, force in forces.items()}
    multipliers = _multipliers(user_input.constraints, sorter.collector)
    kept = []
    for key, line in multipliers.items():
        held = replace_names(add(line.left.node, neg(line.right.node)), write_out(helpers).get, {})
        partials = Differentiator(coordinates).by_name(held)
        for q, partial in partials.items():
            written_forces[q] = add(written_forces.get(q, ZERO), mul(name(key), partial))
        kept.append(Residual(held, f"constraints: {line.text}", (line.left, line.right)))
    found.unknowns = tuple(multipliers)
    if user_input.form == "lagrangian":
        motion = lagrange(sorter.statements, coordinates, written_forces, moving)
    else:
        motion = hamilton(sorter.statements, dict(zip(coordinates, user_input.momenta, strict=True)), written_forces)
    found.orders = dict(motion.orders)
    found.rates = {with_primes(base, 1): node for base, node in motion.rates.items()}
    found.residuals = [*motion.residuals, *kept]
    found.derived = {key: node for key, node in helpers.items() if key != LAGRANGIAN}
    found.derived.setdefault(ENERGY, motion.energy)
    if user_input.form == "lagrangian":
        found.velocities = velocities_of_positions(write_out(found.derived), coordinates, moving)
    states = [with_primes(q, k) for q, order in motion.orders.items() for k in range(order)]
    written = {s.text: s.right for s in sorter.statements} | forces
    written |= {f"{s.text} {k}": side for s in multipliers.values() for k, side in enumerate((s.left, s.right))}
    known = [*states, *helpers, *velocities, *multipliers, *sorter.parameters, *sorter.measured]
    check_defined(written, known, "the energies")
    beyond = names_in(*(each.node for each in motion.residuals)) & measured_names(sorter.inputs) - sorter.measured
    jumping = sorted({base_of(each) for each in beyond})
    if jumping:
        raise ExpressionError(
            f"the energies hold the measured {listing(jumping, quoted=True)}, which would have to be differentiated"
            " more often than it can be",
            name=listing(jumping), location="the energies", given="a quantity that jumps between its rows",
            expected='interpolation = "linear" where once is enough, "cubic" for twice, or a formula in its stead',
        )  # fmt: skip
