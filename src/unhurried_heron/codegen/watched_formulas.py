"""Formulas of the states that a march looks at after each step, as native functions."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.formulas.differentiate import jacobian, one_after_the_other
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.model.manifold import movable_states
from unhurried_heron.model.model import Model
from unhurried_heron.model.switch_types import HeldSwitch
from unhurried_heron.problem.problem import Problem


def native_guards(problem: Problem, context: RuntimeData) -> NativeFunction | None:
    """Return what must not change its sign within a step, and what is narrow; None where there is nothing."""
    model = problem.model
    watched = [*(each.node for each in model.guards), *(each.argument for each in model.narrow)]
    if not watched:
        return None
    names = context.names(model.layout, held=False)
    return compiled(tuple(single(node, k) for k, node in enumerate(watched)), len(watched), names, context.array)


class NativeManifold(NamedTuple):
    """What is zero all along, ``n_formulas`` numbers, and the entries of its derivatives by the states that may move.

    Attributes
    ----------
    function : NativeFunction
        Writes the numbers, and the entries behind them.
    n_formulas : int
    rows, columns : ndarray of int64, shape (n_entries,)
        Where each entry stands; entries of one place are added.
    """

    function: NativeFunction
    n_formulas: int
    rows: IntArray
    columns: IntArray


def native_manifold(problem: Problem, context: RuntimeData, *, held: bool) -> NativeManifold | None:
    """Return what is zero all along, with its derivatives; None where there is nothing.

    Parameters
    ----------
    problem : Problem
    context : RuntimeData
    held : bool
        Whether the march holds the switches and crosses them one by one.

    Returns
    -------
    NativeManifold or None
    """
    model = problem.model
    count = model.n_manifold
    if not count:
        return None
    slots = {each.slot for each in model.rates.switches if isinstance(each, HeldSwitch)}
    # along a switch that the solution slides on there is no side of it
    taken_out = names_in(*(each.node for each in model.held_manifold)) - names_in(
        *(each.node for each in model.manifold)
    )
    held = held and taken_out <= slots
    formulas = model.held_manifold if held else model.manifold
    entries, rows, columns = model.remembered(("manifold entries", held), lambda: _entries(model, formulas))
    names = context.names(model.layout, held=held)
    function = compiled((*formulas, *entries), count + rows.size, names, context.array)
    return NativeManifold(function, count, rows, columns)


def _entries(
    model: Model, manifold: tuple[IndexedFormula, ...]
) -> tuple[tuple[IndexedFormula, ...], IntArray, IntArray]:
    """Return the formulas of the derivatives by the states that may move, one behind the other, and where they stand.

    Those over an index tell the derivatives by other states, too: their columns are below zero.
    """
    n, first, groups = model.layout.size, 0, list[tuple[int, int, Any]]()
    for each in movable_states(model):
        if each.states is not None:
            rests = np.ones(n, dtype=bool)
            rests[each.states] = False
            groups.append((first, first + each.n_formulas, rests))
        first += each.n_formulas
    wanted = []
    for formula in jacobian(manifold, model.layout):
        row, column = divmod(formula.base, n)
        if formula.loops or not any(begin <= row < end and rests[column] for begin, end, rests in groups):
            wanted.append(formula)
    formulas, rows, columns = one_after_the_other(tuple(wanted), n)
    for begin, end, rests in groups:
        columns[(begin <= rows) & (rows < end) & rests[columns]] = -1
    return tuple(replace(each, base=each.base + model.n_manifold) for each in formulas), rows, columns
