"""Values of expression trees in NumPy: constants of a problem, starting values, checks before a run."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.cost_limit import refuse_many
from unhurried_heron.formulas.expression import BOUND, SUM, Node, free_names, upwards
from unhurried_heron.formulas.layout import IndexedFormula, flat_indices
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS

# The key under which `evaluate` finds the whole state vector, if there is one.
STATE: Final = "the state"
# The key of an array of zeros that gives results the axes of the indices, where many rows are evaluated at once.
_INDICES_KEY: Final = "the indices"
# Trees whose order is kept: those that are evaluated again and again while something is looked for.
_ORDERS: Final = 8


def evaluate(node: Node, values: Mapping[str, Any]) -> Any:
    """Return the value of a tree; names, loop indices and measured inputs take theirs from ``values``.

    Parameters
    ----------
    values : mapping of str to float, array or callable
        A callable is a measured input: it is called with the time ``t``. Arrays must fit each other.

    Returns
    -------
    float or ndarray

    Raises
    ------
    KeyError
        A name has no value.
    """
    with np.errstate(all="ignore"):
        return _evaluate(node, values)


def _evaluate(root: Node, values: Mapping[str, Any]) -> Any:
    done: dict[Node, Any] = {}
    order, within = _order(root)
    for node in order:
        # what stands inside a sum is computed there, where its index has values
        if node in within and any(BOUND in name and name not in values for name in free_names(node)):
            continue
        done[node] = _value(node, values, done)
    return done[root]


@functools.lru_cache(maxsize=_ORDERS)
def _order(root: Node) -> tuple[tuple[Node, ...], set[Node]]:
    """Return the nodes of a tree, operands first, and those that stand within sums."""
    order = tuple(upwards(root))
    return order, {part for node in order if node.op == SUM for part in upwards(node.args[3])}


def _value(node: Node, values: Mapping[str, Any], done: Mapping[Node, Any]) -> Any:
    """Return the value of a node whose operands are known.

    Parameters
    ----------
    node : Node
    values : mapping of str to float or ndarray
        Values by name.
    done : mapping of Node
        What is known of parts that were seen before.

    Returns
    -------
    float or ndarray
    """
    op = node.op
    if op == "number":
        return node.args[0]
    if op == "name":
        value = values[str(node.args[0])]
        return value(values["t"]) if callable(value) else value
    if op == "slot":
        position = node.args[0] + values.get(_INDICES_KEY, 0)
        for index, coefficient in node.args[1:]:
            position = position + coefficient * values[index]
        state, indices = values[STATE], np.asarray(position, dtype=np.int64)
        return state[..., indices]
    if op == SUM:
        index, first, last, body = node.args
        begin, end = round(_evaluate(first, values)), round(_evaluate(last, values))
        around = max(
            (value.size for key, value in values.items() if isinstance(value, np.ndarray) and key != STATE), default=1
        )
        refuse_many((end - begin + 1) * max(around, 1), "a sum")
        steps = np.arange(begin, end + 1.0)
        inner = {
            key: value[..., None] if isinstance(value, np.ndarray) and value.ndim and key != STATE else value
            for key, value in values.items()
        }
        inside = _evaluate(body, {**inner, index: steps})
        return np.sum(np.broadcast_to(inside, np.broadcast_shapes(np.shape(inside), steps.shape)), axis=-1)
    operands = [done[operand] for operand in node.operands]
    if op in COMPLEX_FUNCTIONS:
        return COMPLEX_FUNCTIONS[op].value(operands[0])
    operation = OPERATIONS[op]
    if operation.arguments[1] is None:
        return functools.reduce(operation.value, operands)
    if op == "pow":
        operands[0] = np.asarray(operands[0], dtype=np.float64)
    return operation.value(*operands)


def filled(
    indexed_formulas: tuple[IndexedFormula, ...], size: int, values: Mapping[str, Any], rows: tuple[int, ...] = ()
) -> Any:
    """Evaluate blocks into an array, shape (*rows, size); of many rows, ``values`` are columns, shape (rows, 1).

    Parameters
    ----------
    indexed_formulas : tuple[IndexedFormula, ...]
    size : int
        How many numbers are written.
    values : mapping of str to float or ndarray
        Values by name.
    rows : tuple of int, optional
        Shape of the rows.

    Returns
    -------
    ndarray
    """
    out: Any = np.zeros((*rows, size))
    for where, found in evaluated(indexed_formulas, values, rows):
        np.add.at(out.T, where, np.broadcast_to(found, (*rows, *where.shape)).T)
    return out


def evaluated(
    indexed_formulas: Iterable[IndexedFormula], values: Mapping[str, Any], rows: tuple[int, ...] = ()
) -> Iterator[tuple[Any, Any]]:
    """Yield where the values of each block go, and these, as `filled` does.

    Parameters
    ----------
    indexed_formulas : iterable of IndexedFormula
    values : mapping of str to float or ndarray
        Values by name.
    rows : tuple of int, optional
        Shape of the rows.

    Yields
    ------
    (ndarray of int64, float or ndarray)
    """
    for formula in indexed_formulas:
        strides = dict(zip((loop.index for loop in formula.loops), formula.strides, strict=True))
        ranges = [np.arange(loop.first, loop.last + 1.0) for loop in formula.loops]
        grids = np.meshgrid(*ranges, indexing="ij") if ranges else []
        here = {loop.index: grid.ravel() for loop, grid in zip(formula.loops, grids, strict=True)}
        here |= {_INDICES_KEY: np.zeros(1)} if rows else {}
        yield flat_indices(formula.loops, formula.base, strides), evaluate(formula.node, {**values, **here})
