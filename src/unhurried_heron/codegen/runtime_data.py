"""What all native functions of one system read beside time and state, in one array: a change reaches all of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.expression_ir import SymbolTable
from unhurried_heron.formulas.layout import Layout
from unhurried_heron.input.measured import Measured
from unhurried_heron.kernels.machine_code.signature import HEADER_BYTES, address
from unhurried_heron.model.switch_types import HeldSwitch
from unhurried_heron.problem.problem import Problem


@dataclass(frozen=True)
class RuntimeData:
    """The array and what stands where in it.

    Attributes
    ----------
    array : ndarray of float64
        Parameters; for each measured input the address of its table and of the row in use; switches and widths of
        roots; last, as a whole number, how many times the parameters were changed.
    parameters : tuple of str
        They come first.
    inputs, slots : dict of str to int
        Where each measured input and each switch stands.
    tables : tuple
        Measured inputs: the table, its rows in memory, and where their addresses stand.
    """

    array: Array
    parameters: tuple[str, ...]
    inputs: dict[str, int]
    slots: dict[str, int]
    tables: tuple[tuple[Measured, Array, int], ...]

    def names(self, layout: Layout, *, held: bool) -> SymbolTable:
        """Return where formulas find their names; ``held``: rows of tables are read from the context, too."""
        # formulas in which nothing is held may ask for widths, and when a switch is left for the sides of others
        indices = {name: index for index, name in enumerate(self.parameters)} | self.slots
        inputs = tuple(self.inputs.items())
        return SymbolTable(tuple(layout.scalars.items()), tuple(indices.items()), inputs, held, layout.size)

    @property
    def values(self) -> Array:
        """The parameters' part of the array."""
        return self.array[: len(self.parameters)]

    @property
    def changes(self) -> IntArray:
        """How many times the parameters were changed, int64 (1,)."""
        return self.array.view(np.int64)[-1:]

    def change(self, values: Iterable[float]) -> None:
        """Give all parameters other values."""
        self.values[:] = list(values)
        self.changes[0] += 1


def context_of(problem: Problem) -> RuntimeData:
    """Return the context of a problem's functions, with the values of its parameters."""
    model = problem.model
    first = len(model.parameters)
    inputs = {name: first + 2 * index for index, name in enumerate(model.inputs)}
    first += 2 * len(inputs)
    held = [switch.slot for switch in model.rates.switches if isinstance(switch, HeldSwitch)]
    held += [switch.width for switch in model.resting_roots]
    slots = {slot: first + index for index, slot in enumerate(held)}
    array = np.zeros(first + len(slots) + 1)
    tables = []
    for name, slot in inputs.items():
        table = problem.inputs[name]
        rows = np.concatenate([[float(table.times.size)], table.pieces.ravel()])
        array.view(np.int64)[slot : slot + 2] = address(rows), address(rows) + HEADER_BYTES
        tables.append((table, rows, slot))
    context = RuntimeData(array, model.parameters, inputs, slots, tuple(tables))
    context.change(parameter_values(problem))
    return context


def parameter_values(problem: Problem) -> list[float]:
    """Return the values of the parameters as a context has them; NaN for one that is still to be given."""
    values = problem.parameters
    return [values.get(name, np.nan) for name in problem.model.parameters]
