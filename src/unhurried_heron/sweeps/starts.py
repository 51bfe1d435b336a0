"""Where the members of a sweep begin."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.member_times import member_values
from unhurried_heron.input.measured_rates import readings
from unhurried_heron.input.starting_values import told_by
from unhurried_heron.problem.consistent_rows import consistent_members
from unhurried_heron.problem.following import free_starts, starts_follow
from unhurried_heron.problem.jump_sides import going_on
from unhurried_heron.problem.problem import Problem


def starts_of(
    first: Problem, parameters: Mapping[str, Array], initial: Mapping[str, Array], rows: Array
) -> Array | None:
    """Return where members begin, shape (n_members, n_states); None where constraints tell no single start of one.

    Parameters
    ----------
    first : Problem
        Of the first member.
    parameters, initial : mapping of str to ndarray, shape (n_members,)
        What differs.
    rows : ndarray, shape (n_members, n_parameters)
        Parameters, into which those that differ are written.

    Returns
    -------
    ndarray or None
    """
    model, starts = first.model, np.tile(first.start, (len(rows), 1))
    for name, values in parameters.items():
        rows[:, model.parameters.index(name)] = values
    for name, values in initial.items():
        starts[:, model.layout.slot(name)] = values
    if not starts_follow(first.assembled.definitions, model):
        return starts
    around = {**readings(first.inputs), **member_values(first, rows, parameters)}
    known = free_starts(first), told_by(first.user_input.never_negative, model.layout)
    return consistent_members(model, starts, known, going_on(first.interval[0], first.interval), around)
