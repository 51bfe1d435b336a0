"""Formulas of the states that a march looks at after each step, as native functions."""

from __future__ import annotations

from dataclasses import replace

from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.codegen.signature import NativeFunction
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.layout import single
from unhurried_heron.model.manifold import manifold_columns, manifold_formulas
from unhurried_heron.problem.problem import Problem


def native_guards(problem: Problem, context: RuntimeData) -> NativeFunction | None:
    """Return what must not change its sign within a step, and what is narrow; None where there is nothing."""
    model = problem.model
    watched = [*(each.node for each in model.guards), *(each.argument for each in model.narrow)]
    if not watched:
        return None
    names = context.names(model.layout, held=False)
    return compiled(tuple(single(node, k) for k, node in enumerate(watched)), len(watched), names, context.array)


def native_manifold(problem: Problem, context: RuntimeData) -> NativeFunction | None:
    """Return what is zero all along, and its derivatives by the states, row by row; None where there is nothing."""
    model, n = problem.model, problem.model.layout.size
    count = len(model.manifold)
    if not count:
        return None
    formulas = manifold_formulas(model)
    movable = manifold_columns(model)
    rows = tuple(
        replace(each, base=each.base + count)
        for each in jacobian(formulas, model.layout)
        # one number of one row; loops belong to formulas that move all states
        if each.loops or movable[each.base // n] is None or each.base % n in (movable[each.base // n] or ())
    )
    names = context.names(model.layout, held=False)
    return compiled((*formulas, *rows), count * (1 + n), names, context.array)
