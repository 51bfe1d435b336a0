"""Extremes and integrals of quantities over the steps of runs, found in compiled code."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.crossing_functions import native_watched, ready_of
from unhurried_heron.codegen.runtime_data import RuntimeData, context_of
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.kernels.memory.sweep import LARGEST, N_POINTS, N_RESULTS, StepMeasures
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.piecewise_chebyshev import chebyshev_points
from unhurried_heron.run.run import Run

# Integrals beyond this share of it have no finite value.
_BEYOND: Final = 0.1

_NODES, _TRANSFORM = chebyshev_points(N_POINTS)


class Extent(NamedTuple):
    """The smallest and largest value of a quantity, and its integral."""

    smallest: Array
    largest: Array
    integral: Array


def is_plain(problem: Problem, quantity: str, changing: Collection[str]) -> bool:
    """Whether compiled code can tell a quantity from time and state alone.

    Parameters
    ----------
    problem : Problem
    quantity : str
        A formula.
    changing : collection of str
        Parameters that events change on the way.

    Returns
    -------
    bool
    """
    model = problem.model
    if model.functions or model.layout.has_complex:
        return False
    return names_in(model.read_formula(quantity, quantity)).isdisjoint(changing)


def quantities_in(problem: Problem, quantities: Sequence[str], context: RuntimeData) -> tuple[NativeFunction, ...]:
    """Return quantities as native functions of one number.

    Parameters
    ----------
    problem : Problem
    quantities : sequence of str
        Formulas.
    context : RuntimeData
        Where they find the parameters.

    Returns
    -------
    tuple of NativeFunction
    """
    model = problem.model
    read = [model.read_formula(each, each) for each in quantities]
    return native_watched(ready_of(read, model.layout), context.names(model.layout, held=False), context)


def laid_out(
    functions: Sequence[NativeFunction], steps: tuple[Array, Array, Array], nonnegative: IntArray, results: Array
) -> StepMeasures:
    """Lay out what compiled code works on.

    Parameters
    ----------
    functions : sequence of NativeFunction
    steps : (ndarray, ndarray, ndarray)
        Starts, lengths and coefficients of the steps, (count, degree + 1, n).
    nonnegative : ndarray of int64
    results : ndarray, shape (..., n_functions, 3)

    Returns
    -------
    StepMeasures
    """
    starts, lengths, coefficients = steps
    count, terms, n = coefficients.shape
    return StepMeasures(
        starts=starts,
        steps=lengths,
        coefficients=coefficients,
        n_steps=count,
        size=terms * n,
        n=n,
        end=np.zeros(1),
        n_functions=len(functions),
        functions=np.array([[each.address, each.context_address] for each in functions], dtype=np.int64),
        n_nonnegative=nonnegative.size,
        nonnegative=np.ascontiguousarray(nonnegative, dtype=np.int64),
        nodes=_NODES,
        transform=_TRANSFORM,
        scratch=np.zeros(2 * N_POINTS + n + 1),
        results=results,
    )


def extents_of(results: Array) -> Extent:
    """Return what compiled code left, shape (…, 3), with infinities where values stand for them."""
    smallest, largest, integral = (results[..., k].copy() for k in range(N_RESULTS))
    for each in (smallest, largest):
        # without a step, and without a number, there is none
        each[np.isinf(each)] = np.nan
        each[np.abs(each) >= LARGEST] *= np.inf
    integral[~(np.abs(integral) < _BEYOND * LARGEST)] = np.nan
    return Extent(smallest, largest, integral)


def extents_along(run: Run, quantities: Sequence[str]) -> Extent:
    """Return extremes and integrals of quantities along a run that kept its steps, each shape (n_quantities,).

    Parameters
    ----------
    run : Run
    quantities : sequence of str
        Formulas for which `is_plain` holds.

    Returns
    -------
    Extent
    """
    trajectory: Any = run.data.steps("measures")
    functions = quantities_in(run.problem, quantities, context_of(run.problem))
    results = np.zeros((len(functions), N_RESULTS))
    nonnegative = np.asarray(trajectory.nonnegative, dtype=np.int64).ravel()
    steps = tuple(np.ascontiguousarray(each) for each in (trajectory.starts, trajectory.steps, trajectory.coefficients))
    given = laid_out(functions, (steps[0], steps[1], steps[2]), nonnegative, results)
    given.end[0] = trajectory.end_time
    (kernel,) = load_kernels("march.step_measures.measure_run")
    kernel(address_table(*given))
    return extents_of(results)
