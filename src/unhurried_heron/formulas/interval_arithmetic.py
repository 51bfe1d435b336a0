"""Bounds of formulas over intervals of time, for many intervals at once.

R. E. Moore, R. B. Kearfott and M. J. Cloud, *Introduction to Interval Analysis* (2009), chapters 2 and 5.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import TIME, Node, upwards
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import OPERATIONS

Bounds = tuple[Any, Any]


def enclose(root: Node, values: Mapping[str, Any], low: Any, high: Any) -> Bounds:
    """Return lower and upper bounds of a formula of ``t`` and parameters for ``t`` in [low, high].

    Parameters
    ----------
    root : Node
    values : mapping of str to float or (float, float)
        Of what is known within bounds alone, these.
    low, high : ndarray, shape (n,)

    Returns
    -------
    (ndarray, ndarray)
        Lower and upper bounds on each cell.
    """
    done: dict[Node, Bounds] = {}
    with np.errstate(all="ignore"):
        for node in upwards(root):
            a, b = _bounds(node, values, low, high, done)
            if node.op in ("number", "name"):
                # Python's own numbers would refuse to be divided by zero
                done[node] = (np.asarray(a, dtype=float), np.asarray(b, dtype=float))
                continue
            # where a bound is no number, part of the interval lies outside the formula's domain, and nothing is known;
            # a little is added for rounding
            slack = 4e-16 * np.maximum(np.abs(a), np.abs(b))
            unknown = np.isnan(a) | np.isnan(b)
            lower, upper = np.where(unknown, -np.inf, a - slack), np.where(unknown, np.inf, b + slack)
            done[node] = (lower, upper)
    below, above = done[root]
    return np.broadcast_to(below, low.shape), np.broadcast_to(above, low.shape)


def of_rows(values: Mapping[str, Any], rows: Any) -> dict[str, Any]:
    """Return values of some rows: of arrays these elements, of numbers themselves."""
    return {name: each[rows] if np.ndim(each) else each for name, each in values.items()}


def _bounds(node: Node, values: Mapping[str, Any], low: Any, high: Any, done: Mapping[Node, Bounds]) -> Bounds:
    """Return bounds of a node on cells of time, whose operands have them.

    Parameters
    ----------
    node : Node
    values : mapping of str to float or ndarray
        Values by name.
    low : ndarray, shape (n_cells,)
    high : ndarray, shape (n_cells,)
    done : mapping of Node
        What is known of parts that were seen before.

    Returns
    -------
    Bounds

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    op, operands = node.op, [done[operand] for operand in node.operands]
    if op == "number":
        return node.args[0], node.args[0]
    if op == "name":
        named = str(node.args[0])
        if named == TIME:
            return low, high
        return values[named] if isinstance(values[named], tuple) else (values[named], values[named])
    if op == "pow" and node.operands[1].value is not None:
        return _power(operands[0], float(node.operands[1].args[0]))
    if op in _RULES:
        return _RULES[op](*operands)
    function = OPERATIONS.get(op)
    # a power with an exponent that varies may do anything
    kind = function.bounds if function and op != "pow" else "unknown"
    if kind == "flag":
        return np.zeros_like(low), np.ones_like(low)
    if kind == OWN_RULE:
        raise unforeseen(f"no rule to bound '{op}'")
    if function and kind in ("rising", "falling"):
        ends = [function.value(operands[0][0]), function.value(operands[0][1])]
        return (ends[0], ends[1]) if kind == "rising" else (ends[1], ends[0])
    return np.full_like(low, -np.inf), np.full_like(low, np.inf)


def _sum(*parts: Bounds) -> Bounds:
    return sum(part[0] for part in parts), sum(part[1] for part in parts)


def _negative(part: Bounds) -> Bounds:
    return -part[1], -part[0]


def _quotient(over: Bounds, under: Bounds) -> Bounds:
    holds_zero = (under[0] <= 0) & (under[1] >= 0)
    quotient = _product(over, (1.0 / under[1], 1.0 / under[0]))
    return np.where(holds_zero, -np.inf, quotient[0]), np.where(holds_zero, np.inf, quotient[1])


def _symmetric(of: Callable[[Any], Any], least: float) -> Callable[[Bounds], Bounds]:
    """Bounds of a function that falls to its least value at zero and rises from there as it fell."""

    def bounds(part: Bounds) -> Bounds:
        ends = [of(part[0]), of(part[1])]
        return np.where((part[0] <= 0) & (part[1] >= 0), least, np.minimum(*ends)), np.maximum(*ends)

    return bounds


def _less(smaller: Bounds, larger: Bounds) -> Bounds:
    return np.where(smaller[1] < larger[0], 1.0, 0.0), np.where(smaller[0] > larger[1], 0.0, 1.0)


def _not(part: Bounds) -> Bounds:
    return np.where(_false(part), 1.0, 0.0), np.where(_true(part), 0.0, 1.0)


def _and(*parts: Bounds) -> Bounds:
    sure = functools.reduce(np.logical_and, map(_true, parts))
    never = functools.reduce(np.logical_or, map(_false, parts))
    return np.where(sure, 1.0, 0.0), np.where(never, 0.0, 1.0)


def _or(*parts: Bounds) -> Bounds:
    return _not(_and(*map(_not, parts)))


def _true(condition: Bounds) -> Any:
    return (condition[0] > 0.0) | (condition[1] < 0.0)


def _false(condition: Bounds) -> Any:
    return (condition[0] == 0.0) & (condition[1] == 0.0)


def _chosen(condition: Bounds, one: Bounds, other: Bounds) -> Bounds:
    """Bounds of either formula where the condition is decided, of both where it is not.

    Parameters
    ----------
    condition : Bounds
    one : Bounds
    other : Bounds

    Returns
    -------
    Bounds
    """
    yes, no = _true(condition), _false(condition)
    low = np.where(yes, one[0], np.where(no, other[0], np.minimum(one[0], other[0])))
    high = np.where(yes, one[1], np.where(no, other[1], np.maximum(one[1], other[1])))
    return low, high


def _product(x: Bounds, y: Bounds) -> Bounds:
    corners = [np.nan_to_num(a * b, nan=0.0, posinf=np.inf, neginf=-np.inf) for a in x for b in y]
    return np.minimum.reduce(corners), np.maximum.reduce(corners)


def _power(base: Bounds, exponent: float) -> Bounds:
    a, b = base
    if exponent != int(exponent):
        return (a**exponent, b**exponent) if exponent > 0 else (b**exponent, a**exponent)
    ends = [a**exponent, b**exponent]
    low, high = np.minimum(*ends), np.maximum(*ends)
    holds_zero = (a <= 0) & (b >= 0)
    if exponent < 0:
        return np.where(holds_zero, -np.inf, low), np.where(holds_zero, np.inf, high)
    return (np.where(holds_zero, 0.0, low), high) if exponent % 2 == 0 else (low, high)


def _wave(a: Any, b: Any, function: Any, shift: float) -> Bounds:
    """Bounds of a wave whose highest points are at shift + 2 pi k.

    Parameters
    ----------
    a : ndarray, shape (n_cells,)
    b : ndarray, shape (n_cells,)
    function : callable
        The wave.
    shift : float

    Returns
    -------
    Bounds
    """
    ends = [function(a), function(b)]
    turns_high = np.floor((b - shift) / (2 * np.pi)) >= np.ceil((a - shift) / (2 * np.pi))
    turns_low = np.floor((b - shift - np.pi) / (2 * np.pi)) >= np.ceil((a - shift - np.pi) / (2 * np.pi))
    return np.where(turns_low, -1.0, np.minimum(*ends)), np.where(turns_high, 1.0, np.maximum(*ends))


_RULES: Final[dict[str, Callable[..., Bounds]]] = {
    "add": _sum,
    "neg": _negative,
    "mul": lambda *parts: functools.reduce(_product, parts),
    "div": _quotient,
    "sin": lambda part: _wave(part[0], part[1], np.sin, 0.5 * np.pi),
    "cos": lambda part: _wave(part[0], part[1], np.cos, 0.0),
    "abs": _symmetric(np.abs, 0.0),
    "cosh": _symmetric(np.cosh, 1.0),
    "min": lambda *parts: tuple(functools.reduce(np.minimum, ends) for ends in zip(*parts, strict=True)),
    "max": lambda *parts: tuple(functools.reduce(np.maximum, ends) for ends in zip(*parts, strict=True)),
    "where": _chosen,
    "lt": _less,
    "le": _less,
    "gt": lambda larger, smaller: _less(smaller, larger),
    "ge": lambda larger, smaller: _less(smaller, larger),
    "not": _not,
    "and": _and,
    "or": _or,
}
