"""Linear algebra of a kind, made ready for a march, and the contexts that kernels call it with."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.families.error_scale import Measure
from unhurried_heron.families.linear_choice import MAX_DAMPED, Entries, entries_with
from unhurried_heron.formulas.layout import Layout
from unhurried_heron.kernels.linear_algebra.context import CONTEXT_SIZE, IM, MASS, MATRIX, PIVOTS, RE, SHIFT, STOP, N
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.model.mass_matrix import MassMatrix

if TYPE_CHECKING:
    from unhurried_heron.families.large_linear import LargeSolver

# The kernels that implicit families call as a rule.
LINEAR_KERNELS: Final = (
    "linear_algebra.dense_lu.factor",
    "linear_algebra.dense_lu.solve",
    "linear_algebra.eigenvalues.growth",
)
# The number of states from which LAPACK is faster than compiled loops on full matrices.
MIN_BLOCKS: Final = 500
# The number of states up to which every eigenvalue is examined for growth that an error estimate cannot see.
MAX_EIGENVALUES: Final = 64


class LinearSolver(NamedTuple):
    """Linear algebra ready for a march.

    ``factor``, ``solve`` and, for systems of another order, ``solve_others`` are addresses, ``jacobian`` the array that
    the Jacobian is to be found in, ``context`` makes the context of a real or complex shift (True), ``keep`` must stay
    alive, and ``pending`` returns an exception that could not pass through native code.
    """

    factor: int
    solve: int
    solve_others: int
    jacobian: Array
    context: Callable[[bool], tuple[Any, ...]]
    keep: Any
    pending: Callable[[], BaseException | None] = lambda: None


def growth_kernel(linear: LinearSolver, n: int) -> tuple[int, Any]:
    """Return the address of the kernel that looks for growing modes, 0 where there are too many, and what to keep."""
    if linear.jacobian.ndim != 2 or n > MAX_EIGENVALUES:
        return 0, None
    from unhurried_heron.kernels.machine_code.prepare import load_kernels

    (kernel,) = load_kernels("linear_algebra.eigenvalues.growth")
    return kernel.address, kernel


class LinearDemand(NamedTuple):
    """What linear algebra is made for.

    Attributes
    ----------
    n : int
        Number of states.
    control : CONTROL
        The control record of the march.
    kind : str
        Of linear algebra (`linear_choice`).
    entries : Entries or None
        Where the Jacobian can be nonzero.
    mass : MassMatrix or None
        None for the identity.
    fixed : bool
        Whether steps are fixed: Newton's full method, which these may need, is of compiled loops.
    rates : NativeFunction or None
        What products with the Jacobian are differences of, where there is no matrix,
    product : NativeFunction or None
        and what gives them exactly, of the state and a vector behind it.
    measure : Measure or None
        What vectors are measured in by iterations.
    preconditioner : str, callable or None
        What is wanted for iterations.
    layout : Layout or None
        Of the states, which tells the unknowns of one cell.
    insists : bool
        Whether iterations were asked for by name.
    once : bool
        Whether each system is solved once, and nothing corrects what its solution is missed by.
    """

    n: int
    control: Any
    kind: str
    entries: Entries | None = None
    mass: MassMatrix | None = None
    fixed: bool = False
    rates: NativeFunction | None = None
    product: NativeFunction | None = None
    measure: Measure | None = None
    preconditioner: Any = None
    layout: Layout | None = None
    insists: bool = False
    once: bool = False


def linear_solver(demand: LinearDemand) -> LinearSolver:
    """Return linear algebra of a kind, ready for a march."""
    n, control, kind, entries, mass = demand[:5]
    if kind not in ("dense", "banded", "sparse"):
        from unhurried_heron.families.krylov import iterative_solver

        return _native(
            iterative_solver(demand), np.zeros(2 * n + 1 if kind == "krylov" or entries is None else entries.rows.size)
        )
    dense = kind == "dense" or entries is None
    if dense and n < (MAX_DAMPED + 1 if demand.fixed else MIN_BLOCKS):
        from unhurried_heron.codegen.unrolled_solve import MAX_WRITTEN, load_solve
        from unhurried_heron.kernels.machine_code.prepare import load_kernels

        jacobian = np.zeros((n, n))
        factor, solve = load_kernels("linear_algebra.dense_lu.factor", "linear_algebra.dense_lu.solve")
        own = load_solve(n) if n <= MAX_WRITTEN and mass is None else solve
        made = functools.partial(dense_context, n, control, jacobian, mass=mass)
        return LinearSolver(factor.address, own.address, solve.address, jacobian, made, (factor, solve, own))
    if dense or entries is None:
        from unhurried_heron.families.large_linear import full_solver

        return _native(full_solver(n, control, mass), np.zeros((n, n)))
    if kind == "banded":
        return _banded(n, control, entries, mass)
    from unhurried_heron.families.large_linear import sparse_solver

    return _native(sparse_solver(n, entries, control, mass), np.zeros(entries.rows.size))


def _banded(n: int, control: Any, entries: Entries, mass: MassMatrix | None) -> LinearSolver:
    """Return banded factors of compiled code.

    Parameters
    ----------
    n : int
    control : CONTROL
    entries : Entries
    mass : MassMatrix or None

    Returns
    -------
    LinearSolver
    """
    from unhurried_heron.families.factorisations import identity_of, order_for_band
    from unhurried_heron.families.stored_entries import banded_storage, stored_context
    from unhurried_heron.kernels.machine_code.prepare import load_kernels

    factor, solve = load_kernels("linear_algebra.banded_lu.factor", "linear_algebra.banded_lu.solve")
    known, values = identity_of(n) if mass is None else mass, np.zeros(entries.rows.size)
    band = order_for_band(n, *entries_with(entries, known))
    storage = banded_storage(n, entries, known, band, scaled=mass is not None)
    made = functools.partial(stored_context, n, control, values, storage=storage)
    return LinearSolver(factor.address, solve.address, solve.address, values, made, (factor, solve))


def _native(solver: LargeSolver, values: Array) -> LinearSolver:
    """Return linear algebra of Python functions, which takes the Jacobian from an array."""
    return LinearSolver(
        solver.factor,
        solver.solve,
        solver.solve,
        values,
        lambda pair: (solver.context(values, complex_shift=pair),),
        solver,
        lambda: solver.pending,
    )


def dense_context(
    n: int, control: Any, matrix: Array | None, complex_shift: bool, mass: MassMatrix | None = None
) -> tuple[Any, ...]:
    """Return the context of a full shifted matrix and the arrays that must be kept alive beside it.

    Parameters
    ----------
    n : int
        Its order.
    control : ndarray, shape (1,)
        The control record of the march.
    matrix : ndarray, shape (n, n), or None
        What is taken from the shift; None where the kernel writes the whole matrix.
    complex_shift : bool
    mass : MassMatrix, optional

    Returns
    -------
    tuple
        The context, and the arrays that it points to.
    """
    context, shift, pivots = np.zeros(CONTEXT_SIZE, np.int64), np.zeros(3), np.zeros(n, np.int64)
    re, im = np.zeros((n, n)), np.zeros((n, n) if complex_shift else (0, 0))
    context[N], context[STOP] = n, address(control)
    context[MATRIX] = 0 if matrix is None else address(matrix)
    context[SHIFT], context[PIVOTS], context[RE] = address(shift), address(pivots), address(re)
    context[IM] = address(im) if complex_shift else 0
    scales = np.ones(n)
    table = None if mass is None else address_table(mass.rows.size, *mass, scales)
    context[MASS] = 0 if table is None else address(table)
    return context, control, matrix, shift, pivots, re, im, mass, scales, table
