"""Bounds of formulas over intervals of time, for many intervals at once: formulas written as tapes for compiled code.

R. E. Moore, R. B. Kearfott and M. J. Cloud, *Introduction to Interval Analysis* (2009), chapters 2 and 5.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Iterable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import TIME, Node, upwards
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import OPERATIONS
from unhurried_heron.kernels.enclosures import tape
from unhurried_heron.kernels.memory.enclosures import Cells, Enclosing

# Formulas whose tapes are kept.
_KEPT: Final = 256
# Operations of two operands, or of any number of them taken two by two.
_OF_TWO: Final = {
    "add": tape.SUM,
    "mul": tape.PRODUCT,
    "div": tape.QUOTIENT,
    "min": tape.LEAST,
    "max": tape.LARGEST,
    "lt": tape.LESS,
    "le": tape.LESS,
    "and": tape.BOTH,
}
# those whose operands change places
_TURNED: Final = {"gt": tape.LESS, "ge": tape.LESS}
_OF_ONE: Final = {"neg": tape.NEGATIVE, "not": tape.NOT, "sign": tape.SIGN, "step": tape.STEP, "implicit": tape.SAME}
# functions of the C library that a number belongs to: the least value, or where a wave is highest
_WITH_NUMBER: Final = {
    "abs": (tape.SYMMETRIC, 0.0),
    "cosh": (tape.SYMMETRIC, 1.0),
    "sin": (tape.WAVE, 0.5 * math.pi),
    "cos": (tape.WAVE, 0.0),
}
_MONOTONE: Final = {"rising": tape.RISING, "falling": tape.FALLING}


class _Writer:
    """Writes the tape of a formula, and adds to the constants, and to the names of values, those that it needs."""

    def __init__(self, constants: list[float], names: list[str]) -> None:
        self.rows: list[list[int]] = []
        self.constants, self.names = constants, names

    def row(self, kind: int, *operands: int, function: int = 0, constant: float | None = None, number: int = 0) -> int:
        """Write a row; return its number.

        Parameters
        ----------
        kind : int
        *operands : int
            Their rows.
        function : int, optional
            Address of a function of the C library.
        constant : float, optional
            A number of its own.
        number : int, optional
            The column of a value.

        Returns
        -------
        int
        """
        if constant is not None:
            number = len(self.constants)
            self.constants.append(constant)
        self.rows.append([kind, *operands, *[0] * (3 - len(operands)), function, number])
        return len(self.rows) - 1

    def rows_of(self, root: Node) -> list[list[int]]:
        """Return the rows of a formula."""
        done: dict[Node, int] = {}
        for node in upwards(root):
            done[node] = self._row_of(node, [done[operand] for operand in node.operands])
        return self.rows

    def _row_of(self, node: Node, operands: list[int]) -> int:
        op = node.op
        if op == "number":
            return self.row(tape.CONSTANT, constant=float(node.args[0]))
        if op == "name":
            named = str(node.args[0])
            if named == TIME:
                return self.row(tape.TIME)
            self.names.append(named)
            return self.row(tape.VALUE, number=len(self.names) - 1)
        if op == "pow":
            # a power with an exponent that varies may do anything
            exponent = node.operands[1].value
            return self.row(tape.UNKNOWN) if exponent is None else self.row(tape.POWER, operands[0], constant=exponent)
        if op == "where":
            return self.row(tape.CHOICE, *operands)
        if op == "or":
            return self.row(tape.NOT, self._in_twos(tape.BOTH, [self.row(tape.NOT, each) for each in operands]))
        if op in _OF_ONE:
            return self.row(_OF_ONE[op], *operands)
        if op in _OF_TWO or op in _TURNED:
            return self._in_twos(_OF_TWO.get(op, tape.LESS), operands if op in _OF_TWO else operands[::-1])
        return self._function(op, operands)

    def _in_twos(self, kind: int, operands: list[int]) -> int:
        return functools.reduce(lambda one, other: self.row(kind, one, other), operands)

    def _function(self, op: str, operands: list[int]) -> int:
        function = OPERATIONS.get(op)
        bounds = function.bounds if function else "unknown"
        if function is None or bounds == "unknown":
            return self.row(tape.UNKNOWN)
        if bounds == "flag":
            return self.row(tape.FLAG)
        # what loads the compiler is loaded when it is needed
        from unhurried_heron.kernels.machine_code.jit import c_function

        if function.code == OWN_RULE or (bounds == OWN_RULE and op not in _WITH_NUMBER):
            raise unforeseen(f"no rule to bound '{op}'")
        # an intrinsic of LLVM is called as the function of the C library that it stands for
        address = c_function(function.code.removeprefix("llvm.").removesuffix(".f64"))
        if op in _WITH_NUMBER:
            kind, number = _WITH_NUMBER[op]
            return self.row(kind, *operands, function=address, constant=number)
        return self.row(_MONOTONE[bounds], *operands, function=address)


@functools.lru_cache(maxsize=_KEPT)
def _written(roots: tuple[Node, ...]) -> tuple[IntArray, IntArray, Array, tuple[str, ...]]:
    """Return the rows of formulas, where those of each begin, the constants, and the names of the values they take."""
    constants, names, rows, begins = list[float](), list[str](), list[list[int]](), [0]
    for root in roots:
        rows += _Writer(constants, names).rows_of(root)
        begins.append(len(rows))
    longs = functools.partial(np.array, dtype=np.int64)
    return longs(rows), longs(begins), np.array(constants or [0.0]), tuple(names)


class Enclosure:
    """Formulas that are enclosed on intervals of time, for rows of values."""

    def __init__(self, roots: Iterable[Node], values: Mapping[str, Any], n_rows: int) -> None:
        """Take formulas and what they are made of.

        Parameters
        ----------
        roots : iterable of Node
        values : mapping of str to float, ndarray, shape (n_rows,), or (float, float)
            Of what is known within bounds alone, these.
        n_rows : int
        """
        rows, begins, constants, names = _written(tuple(roots))
        known = np.zeros((n_rows, max(1, len(names)), 2))
        for column, named in enumerate(names):
            value = values[named]
            known[:, column] = value if isinstance(value, tuple) else np.asarray(value, dtype=float)[..., None]
        ends = np.empty((int(np.diff(begins).max(initial=1)), 2))
        self.bundle = Enclosing(rows, begins, begins.size - 1, constants, known, known.shape[1], ends)

    def on(self, rows: Any, low: Any, high: Any) -> tuple[Array, Array]:
        """Return lower and upper bounds of the first formula on cells of time.

        Parameters
        ----------
        rows : ndarray of int, shape (n_cells,)
            The row of values of each.
        low, high : ndarray, shape (n_cells,)

        Returns
        -------
        (ndarray, ndarray), shapes (n_cells,)
        """
        from unhurried_heron.kernels.machine_code.prepare import load_kernels
        from unhurried_heron.kernels.memory.bundles import address_table

        bounds = np.empty((low.size, 2))
        intervals = np.stack([low, high], axis=1, dtype=np.float64)
        cells = Cells(np.ascontiguousarray(rows, dtype=np.int64), intervals, bounds, low.size)
        load_kernels("enclosures.cells.enclose_cells")[0](address_table(*self.bundle, *cells))
        return bounds[:, 0], bounds[:, 1]


def enclose(root: Node, values: Mapping[str, Any], low: Any, high: Any) -> tuple[Array, Array]:
    """Return lower and upper bounds of a formula of ``t`` and parameters for ``t`` in [low, high].

    Parameters
    ----------
    root : Node
    values : mapping of str to float, ndarray, shape (n,), or (float, float)
        Of what is known within bounds alone, these.
    low, high : ndarray, shape (n,)

    Returns
    -------
    (ndarray, ndarray)
        Lower and upper bounds on each cell.
    """
    return Enclosure([root], values, low.size).on(np.arange(low.size), low, high)


def of_rows(values: Mapping[str, Any], rows: Any) -> dict[str, Any]:
    """Return values of some rows: of arrays these elements, of numbers themselves."""
    return {name: each[rows] if np.ndim(each) else each for name, each in values.items()}
