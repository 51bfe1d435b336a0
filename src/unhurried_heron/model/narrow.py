"""Where written rates vary within a small part of what a state runs through: a peak, a front, a switch that is smooth.

A formula that depends on states through one argument alone is looked at as a function of that argument, as formulas of
time are (`formulas.narrow_features`). A march that moves the argument across such a part in one step would not see it.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.expression import TIME, Node, free_names, name, names_in, rewrite, upwards, walk
from unhurried_heron.formulas.layout import IndexedFormula, Layout
from unhurried_heron.formulas.narrow_features import CANDIDATES, narrow_windows
from unhurried_heron.model.unrolling import unrolled

# Formulas of states that are searched for narrow parts.
MAX_FORMULAS: Final = 24
# Narrow parts of a problem.
MAX_PARTS: Final = 128
# Distance from zero up to which an argument is searched, as a multiple of the largest number of the formula.
_REACH: Final = 16.0
# The step across a part, as a share of the step of a window, on both ends of which a step lands.
_SHORTER: Final = 0.5


@dataclass(frozen=True)
class Narrow:
    """A formula of one argument, a formula of states; the time stands for the argument in ``formula``."""

    argument: Node
    formula: Node

    @cached_property
    def parameters(self) -> tuple[str, ...]:
        """The parameters in the formula."""
        return tuple(sorted(free_names(self.formula) - {TIME}))

    @cached_property
    def largest(self) -> float:
        """The size of the largest number in the formula."""
        return max((abs(part.value) for part in walk(self.formula) if part.value is not None), default=0.0)


class Part(NamedTuple):
    """A part of the range of an argument in which a step must not move it by more than ``longest``."""

    argument: int
    low: float
    high: float
    longest: float


def narrow_formulas(
    indexed_formulas: tuple[IndexedFormula, ...], layout: Layout, parameters: Iterable[str]
) -> tuple[Narrow, ...]:
    """Return the formulas in rates that depend on states through one argument and can vary narrowly.

    Parameters
    ----------
    indexed_formulas : tuple[IndexedFormula, ...]
    layout : Layout
        Of the states.
    parameters : iterable of str
        Their names.

    Returns
    -------
    tuple[Narrow, ...]
    """
    allowed = {TIME, *parameters}
    found: dict[Narrow, None] = {}
    for part_formula in unrolled(indexed_formulas, _can_be_narrow, MAX_FORMULAS):
        for node in upwards(part_formula.node) if not part_formula.loops else ():
            argument = _argument(node, layout) if _can_be_narrow(node) and len(found) < MAX_FORMULAS else None
            if argument is None or not free_names(argument) <= allowed | layout.scalars.keys():
                continue
            formula = rewrite(node, lambda part, own=argument: name(TIME) if part == own else None, {})  # type: ignore[misc]  # bound
            if not formula.has_indexed and free_names(formula) <= allowed and formula != node:
                found[Narrow(argument, formula)] = None
    return tuple(found)


def _can_be_narrow(node: Node) -> bool:
    exponent = node.operands[1].value if node.op == "pow" else None
    polynomial = exponent is not None and exponent >= 0.0 and exponent == round(exponent)
    constant = node.op == "div" and node.operands[1].value is not None
    return node.op in CANDIDATES and not polynomial and not constant


def _argument(node: Node, layout: Layout) -> Node | None:
    """Return the only part of a formula through which it depends on states, None where there are several."""
    states = layout.states_in(node)
    if not states:
        return None
    if len(states) == 1 and TIME not in names_in(node):
        return next(part for part in walk(node) if _is_state(part, layout))
    while not _is_state(node, layout):
        moving = [part for part in node.operands if layout.states_in(part) or TIME in names_in(part)]
        if len(set(moving)) != 1:
            return node if node.op in ("add", "mul", "neg") else None
        node = moving[0]
    return node


def _is_state(node: Node, layout: Layout) -> bool:
    return (node.op == "name" and node.args[0] in layout.scalars) or (node.op == "slot" and not node.args[1:])


def parts_of(found: tuple[Narrow, ...], parameters: Mapping[str, Any]) -> Array:
    """Return the narrow parts of each argument, the narrowest first, shape (n_parts, 4): rows of `Part`."""
    names = sorted({named for each in found for named in each.parameters})
    return _parts(found, tuple([(named, float(parameters[named])) for named in names]))


@lru_cache(maxsize=64)
def _parts(found: tuple[Narrow, ...], values: tuple[tuple[str, float], ...]) -> Array:
    return parts_of_many(found, dict(values), 1)[0]


def parts_of_many(found: tuple[Narrow, ...], parameters: Mapping[str, Any], count: int) -> list[Array]:
    """Return the narrow parts for many values of parameters, as `parts_of` does.

    Parameters
    ----------
    found : tuple of Narrow
    parameters : mapping of str to float or ndarray, shape (count,)
    count : int

    Returns
    -------
    list of ndarray, shapes (n_parts, 4)
    """
    parts: list[list[Part]] = [[] for _ in range(count)]
    for k, each in enumerate(found):
        size = np.full(count, each.largest)
        for named in each.parameters:
            size = np.maximum(size, np.abs(parameters[named]))
        known = np.flatnonzero((size > 0.0) & (size < math.inf))
        own = {named: np.broadcast_to(parameters[named], count)[known] for named in each.parameters}
        reach = _REACH * size[known]
        for row, windows in zip(known.tolist(), narrow_windows((each.formula,), own, -reach, reach), strict=True):
            parts[row] += [Part(k, window.start, window.end, _SHORTER * window.longest) for window in windows]
    for own_parts in parts:
        own_parts.sort(key=lambda part: part.longest)
    return [np.array(each[:MAX_PARTS], dtype=np.float64).reshape(-1, 4) for each in parts]
