"""Equilibria by algebra: where rates are quotients of polynomials, all solutions are known, real and complex ones."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.dynamics.homotopy import MAX_PATHS, Solutions, solutions_of
from unhurried_heron.formulas.expression import Node, name
from unhurried_heron.formulas.rational import Polynomial, degree, rational
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.unrolling import unrolled
from unhurried_heron.problem.problem import Problem

# States of what is looked at.
_MAX_STATES: Final = 12
# Formulas that are written out from indexed states.
_MAX_WRITTEN_OUT: Final = 4000
# A solution whose imaginary parts are below this share of the box may be real: Newton's method tells.
_REAL: Final = 1e-3
# Random constants that are tried where paths came too near to each other.
_ATTEMPTS: Final = 2


def all_solutions(problem: Problem, sizes: Array) -> tuple[Array, Solutions] | None:
    """Return states at which rates may vanish, and what is known of all solutions.

    Parameters
    ----------
    problem : Problem
    sizes : ndarray, shape (n_states,)
        How large the states are.

    Returns
    -------
    (ndarray of shape (n_found, n_states), Solutions), or None
        None where the rates are no quotients of polynomials, or there are too many solutions.
    """
    system = _system(problem, sizes)
    if system is None or np.prod([float(degree(each)) for each in system]) > MAX_PATHS:
        return None
    for seed in range(_ATTEMPTS):
        known = solutions_of(system, seed)
        if known is None or known.complete:
            break
    if known is None:
        return None
    real = np.abs(known.found.imag).max(axis=1, initial=0.0) <= _REAL
    return known.found[real].real * sizes, known


def _system(problem: Problem, sizes: Array) -> list[Polynomial] | None:
    """Return numerators of the rates, of states as shares of their sizes; None where there are none.

    Parameters
    ----------
    problem : Problem
    sizes : ndarray, shape (n_states,)

    Returns
    -------
    list of Polynomial, or None
    """
    rates, n = problem.model.rates, sizes.size
    if not isinstance(rates, WrittenRates) or not 0 < n <= _MAX_STATES or problem.inputs:
        return None
    variables: dict[Node, int] = {name(text): k for text, k in problem.model.layout.scalars.items()}
    variables |= {Node("slot", k): k for k in range(n)}
    system: list[Polynomial] = [{}] * n
    for formula in unrolled(rates.indexed_formulas, lambda _: True, _MAX_WRITTEN_OUT):
        if formula.loops or formula.node.has_condition:
            return None
        quotient = rational(formula.node, variables, problem.parameters)
        if quotient is None or degree(quotient[0]) == 0:
            return None
        scaled = {key: value * float(np.prod(sizes ** np.array(key))) for key, value in quotient[0].items()}
        system[formula.base] = scaled
    return system if all(system) else None
