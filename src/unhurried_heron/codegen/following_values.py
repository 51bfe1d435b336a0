"""Parameters and starting values that are formulas of others, as one native function."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import Node, replace_names
from unhurried_heron.formulas.layout import single
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.problem.following import formulas_that_follow
from unhurried_heron.problem.problem import Problem


class Following(NamedTuple):
    """A function of values that follow from parameters, and where these go: indices of states, or n and a slot."""

    function: NativeFunction
    targets: IntArray


def following_values(problem: Problem, moved: Collection[str], context: RuntimeData) -> Following:
    """Compile the formulas of parameters and starting values that name others which are to change.

    Parameters
    ----------
    problem : Problem
    moved : collection of str
        The parameters that are given other values.
    context : RuntimeData

    Returns
    -------
    Following

    Raises
    ------
    HeronError
        `formulas_that_follow` finds more than single values.
    """
    model, written = problem.model, dict[str, Node]()
    follow = formulas_that_follow(problem.assembled.definitions, moved, model)
    if follow is None:
        raise unforeseen("values of a whole indexed state follow")
    nodes, targets = list[Node](), list[int]()
    for name, formula in follow.items():
        node = replace_names(formula.node, written.get, {})
        if name in model.parameters:
            written[name] = node
            targets.append(model.layout.size + model.parameters.index(name))
        else:
            targets.append(model.layout.scalars[name])
        nodes.append(node)
    names = context.names(model.layout, held=False)
    made = compiled(tuple(single(node, k) for k, node in enumerate(nodes)), len(nodes), names, context.array)
    return Following(made, np.array(targets, dtype=np.int64))
