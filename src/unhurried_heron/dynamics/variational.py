"""A problem beside its variational equations: how small differences between solutions grow."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, listing
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import Node, name, names_in, rewrite
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.unrolling import unrolled
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly

# The step of a difference along a direction, as a share of the state: the cube root of the spacing of numbers.
_DIFFERENCE: Final = 6e-6
# States of which variational equations are written.
_MAX_STATES: Final = 64
# Characters of equations that are read and compiled at once.
_MAX_TEXT: Final = 100_000
# Formulas that are written out from indexed states.
_MAX_WRITTEN_OUT: Final = 10000
_STATE: Final = "state_{}_"
_VECTOR: Final = "vector_{}_{}_"
_ENTRY: Final = "entry_{}_{}_"


def jumps_of(problem: Problem) -> str:
    """Return through what variational equations do not go, in words; empty where there is nothing."""
    acting = [event.name for event in problem.events if event.then is not None]
    jumping = [switch.text for switch in problem.switches if switch.kind == "jump"]
    if acting or jumping:
        return f"events act: {listing(acting)}" if acting else f"rates jump: {listing(jumping)}"
    return "a mass matrix" if problem.model.mass is not None else ""


def with_vectors(problem: Problem, count: int) -> Problem:
    """Return a problem whose states are those of another and of ``count`` vectors that follow its Jacobian.

    Parameters
    ----------
    problem : Problem
    count : int

    Returns
    -------
    Problem
        States in order: those of the problem, then those of each vector.

    Raises
    ------
    OptionError
        Events act, or rates jump: vectors would jump there.
    """
    jumps = jumps_of(problem)
    if jumps:
        raise OptionError("differences between solutions are not followed through jumps", name="problem",
                          location="exponents", expected="rates without jumps, events that act, or mass matrices",
                          given=jumps)  # fmt: skip
    nodes = _formulas(problem)
    with quietly():
        written = None if nodes is None else _written(problem, nodes, count)
        return _by_differences(problem, count) if written is None else written


def _formulas(problem: Problem) -> list[Node] | None:
    """Return the rates as formulas of names of ours, in the order of the states; None where they are not written.

    Parameters
    ----------
    problem : Problem

    Returns
    -------
    list of Node, or None
    """
    rates, layout = problem.model.rates, problem.model.layout
    if not isinstance(rates, WrittenRates) or problem.inputs or layout.size > _MAX_STATES:
        return None
    named = {name(state): name(_STATE.format(k)) for state, k in layout.scalars.items()}
    named |= {Node("slot", k): name(_STATE.format(k)) for k in range(layout.size)}
    found: dict[int, Node] = {}
    for formula in unrolled(rates.indexed_formulas, lambda _: True, _MAX_WRITTEN_OUT):
        node = rewrite(formula.node, named.get, {})
        if formula.loops or node.has_indexed:
            return None
        found[formula.base] = node
    return [found[k] for k in range(layout.size)] if len(found) == layout.size else None


def _written(problem: Problem, nodes: list[Node], count: int) -> Problem | None:
    """Return it as equations, with the exact Jacobian; None where these are too long.

    Parameters
    ----------
    problem : Problem
    nodes : list of Node
        The rates.
    count : int

    Returns
    -------
    Problem or None
    """
    n = len(nodes)
    states = {_STATE.format(k): k for k in range(n)}
    differentiator = Differentiator(states)
    # states come in the order of their equations
    lines = [f"{_STATE.format(k)}' = {to_text(node)}" for k, node in enumerate(nodes)]
    entries = [differentiator.by_name(node) for node in nodes]
    # each is written, and read, once for all vectors
    for i, row in enumerate(entries):
        lines += [f"{_ENTRY.format(i, states[state])} = {to_text(each)}" for state, each in row.items()]
    for k in range(count):
        for i, row in enumerate(entries):
            columns = [states[state] for state in row]
            terms = [f"{_ENTRY.format(i, j)}*{_VECTOR.format(k, j)}" for j in columns]
            lines.append(f"{_VECTOR.format(k, i)}' = {' + '.join(terms) or '0'}")
    written = "\n".join(lines)
    if len(written) > _MAX_TEXT:
        return None
    named = [*states, *(_VECTOR.format(k, i) for k in range(count) for i in range(n))]
    mentioned = names_in(*nodes)
    used = {key: value for key, value in problem.parameters.items() if key in mentioned}
    return Problem.from_text(written, parameters=used, initial=dict.fromkeys(named, 0.1), interval=problem.interval,
                             check_units=False)  # fmt: skip


def _by_differences(problem: Problem, count: int) -> Problem:
    """Return it as a function, with differences along the vectors in the place of a Jacobian.

    Parameters
    ----------
    problem : Problem
    count : int

    Returns
    -------
    Problem
    """
    n = problem.model.layout.size

    def rates(t: float, y: Array) -> Array:
        state, vectors = y[:n], y[n:].reshape(count, n)
        size = float(np.abs(state).max()) or 1.0
        lengths = np.maximum(np.abs(vectors).max(axis=1, keepdims=True), 1e-300)
        moves = _DIFFERENCE * size * vectors / lengths
        points = np.vstack([state, state + moves, state - moves])
        found = problem.rates_at(t, points)
        growth = (found[1 : count + 1] - found[count + 1 :]) * lengths / (2.0 * _DIFFERENCE * size)
        answer: Array = np.concatenate([found[0], growth.ravel()])
        return answer

    initial = {f"y_{k}_": 0.1 for k in range(n * (count + 1))}
    return Problem.from_rates(rates, initial=initial, interval=problem.interval)
