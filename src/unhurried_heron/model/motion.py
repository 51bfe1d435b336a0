"""Equations of motion from energies, as what a text says."""

from __future__ import annotations

from typing import TYPE_CHECKING

from unhurried_heron.formulas.expression import replace_names
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.names import check_defined
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

if TYPE_CHECKING:
    from unhurried_heron.model.equation_sorting import ClassifiedEquations, Sorter


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
    velocities = {}
    if user_input.form == "lagrangian":
        velocities = velocities_of(sorter.statements, coordinates)
        helpers = {key: replace_names(node, velocities.get, {}) for key, node in helpers.items()}
    written_forces = {key: replace_names(force.node, write_out(helpers).get, {}) for key, force in forces.items()}
    if user_input.form == "lagrangian":
        motion = lagrange(sorter.statements, coordinates, written_forces)
    else:
        motion = hamilton(sorter.statements, dict(zip(coordinates, user_input.momenta, strict=True)), written_forces)
    found.orders = dict(motion.orders)
    found.rates = {with_primes(base, 1): node for base, node in motion.rates.items()}
    found.residuals = list(motion.residuals)
    found.derived = {key: node for key, node in helpers.items() if key != LAGRANGIAN}
    found.derived.setdefault(ENERGY, motion.energy)
    if user_input.form == "lagrangian":
        found.velocities = velocities_of_positions(write_out(found.derived), coordinates)
    states = [with_primes(q, k) for q, order in motion.orders.items() for k in range(order)]
    written = {s.text: s.right for s in sorter.statements} | forces
    check_defined(written, [*states, *helpers, *velocities, *sorter.parameters, *sorter.inputs], "the energies")
