"""Parameters and starting values that are formulas of others, as one native function."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.codegen.signature import NativeFunction
from unhurried_heron.formulas.expression import Node, replace_names
from unhurried_heron.formulas.layout import single
from unhurried_heron.input.names import in_order
from unhurried_heron.problem.problem import Problem


class Following(NamedTuple):
    """A function of values that follow from parameters, and where these go: indices of states, or n and a slot."""

    function: NativeFunction
    targets: IntArray


def following_values(problem: Problem, moved: Collection[str], context: RuntimeData) -> Following | None:
    """Compile the formulas of parameters and starting values that name others which are to change.

    Parameters
    ----------
    problem : Problem
    moved : collection of str
        The parameters that are given other values.
    context : RuntimeData

    Returns
    -------
    Following or None
        None where a whole indexed state, or the structure of the problem, follows from them.
    """
    model, values = problem.model, problem.parameters
    formulas = {
        name: each.formula for name, each in problem.assembled.definitions.items() if each.formula and name not in moved
    }
    moving = {*moved}
    written: dict[str, Node] = {}
    nodes, targets = list[Node](), list[int]()
    of_parameters = in_order({name: formula.node for name, formula in formulas.items() if name in values}, "parameters")
    for name in [*of_parameters, *(name for name in formulas if name not in values)]:
        formula = formulas[name]
        if moving.isdisjoint(formula.mentions):
            continue
        if name in model.sizes or (name not in values and name not in model.layout.scalars) or model.layout.has_complex:
            return None
        node = replace_names(formula.node, written.get, {})
        if name in values:
            written[name] = node
            moving.add(name)
            targets.append(model.layout.size + model.parameters.index(name))
        else:
            targets.append(model.layout.scalars[name])
        nodes.append(node)
    names = context.names(model.layout, held=False)
    made = compiled(tuple(single(node, k) for k, node in enumerate(nodes)), len(nodes), names, context.array)
    return Following(made, np.array(targets, dtype=np.int64))
