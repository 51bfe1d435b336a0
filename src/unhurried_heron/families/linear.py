"""Which linear algebra a march uses, and the contexts that kernels call it with."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.signature import address
from unhurried_heron.errors import MethodError, OptionError, excerpt
from unhurried_heron.kernels.linear_algebra.context import CONTEXT_SIZE, IM, MASS, MATRIX, PIVOTS, RE, SHIFT, STOP, N
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.model.mass_matrix import MassMatrix

if TYPE_CHECKING:
    from unhurried_heron.families.krylov import Operator
    from unhurried_heron.families.large_linear import LargeSolver

# The kernels that implicit families call as a rule.
LINEAR_KERNELS: Final = (
    "linear_algebra.dense_lu.factor",
    "linear_algebra.dense_lu.solve",
    "linear_algebra.eigenvalues.growth",
)
KINDS: Final = ("dense", "banded", "sparse", "krylov")
# The number of states up to which compiled loops on full matrices are fastest, whatever the pattern of the Jacobian is.
# Measured by `benchmarks/run.py --part linear`, as the next one.
MAX_FULL: Final = 100
# The number of states from which LAPACK is faster than compiled loops on full matrices.
MIN_BLOCKS: Final = 500
# The largest full matrix that a run keeps: 200 MB for a real one.
MAX_DENSE: Final = 5000
# The number of states up to which fixed steps keep full matrices, which Newton's full method on all stages needs.
MAX_DAMPED: Final = 500
# The number of states up to which every eigenvalue is examined for growth that an error estimate cannot see.
MAX_EIGENVALUES: Final = 64
# The number of states from which sparse complex factors are too expensive where a method is not named.
MANY_SPARSE: Final = 1000
# The width of a band up to which banded factors are faster than sparse ones.
_WIDEST_BAND: Final = 120
# The share of nonzero entries below which a matrix is sparse.
_SPARSE: Final = 0.1


class Entries(NamedTuple):
    """Where a Jacobian can be nonzero: rows and columns, int64 (n_entries,), in the order in which it is kept."""

    rows: IntArray
    columns: IntArray


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


def entries_with(entries: Entries, mass: MassMatrix | None) -> Entries:
    """Return where shift*M - J can be nonzero, from the entries of J."""
    if mass is None:
        return entries
    return Entries(np.concatenate([entries.rows, mass.rows]), np.concatenate([entries.columns, mass.columns]))


def choose_linear(n: int, entries: Entries | None, wanted: str | None, *, fixed: bool) -> str:
    """Return the kind of linear algebra for a system: "dense", "banded", "sparse" or "krylov".

    Without matrices are systems of which no pattern is known, and which are too large for full ones. Fixed steps may
    need Newton's full method on all stages, which is for full matrices, up to `MAX_DAMPED` states.

    Parameters
    ----------
    n : int
        Number of states.
    entries : Entries or None
        Where the Jacobian can be nonzero; None where that is not known.
    wanted : str or None
        What the user asked for.
    fixed : bool
        Whether steps are fixed.

    Returns
    -------
    str

    Raises
    ------
    OptionError
        What is wanted is no kind, or needs a pattern that is not known.
    """
    if wanted is not None and wanted not in KINDS:
        raise OptionError("there is no such linear algebra", name="linear", location="linear",
                          expected="one of " + ", ".join(KINDS), given=excerpt(wanted))  # fmt: skip
    if entries is None:
        if wanted in ("banded", "sparse"):
            raise OptionError(
                f"{wanted} factors need to know where the Jacobian can be nonzero",
                name="linear",
                location="linear",
                expected="written equations, or sparsity=… beside a Python function without a Jacobian of its own",
                given=excerpt(wanted),
            )
        return wanted or ("dense" if n <= MAX_DENSE else "krylov")
    if wanted is not None:
        return wanted
    if n <= (MAX_DAMPED if fixed else MAX_FULL):
        return "dense"
    from unhurried_heron.families.factorisations import order_for_band

    _, below, above = order_for_band(n, *entries)
    if below + above <= _WIDEST_BAND:
        return "banded"
    return "sparse" if entries.rows.size < _SPARSE * n * n else "dense"


def growth_kernel(linear: LinearSolver, n: int) -> tuple[int, Any]:
    """Return the address of the kernel that looks for growing modes, 0 where there are too many, and what to keep."""
    if linear.jacobian.ndim != 2 or n > MAX_EIGENVALUES:
        return 0, None
    from unhurried_heron.kernels.machine_code.prepare import load_kernels

    (kernel,) = load_kernels("linear_algebra.eigenvalues.growth")
    return kernel.address, kernel


def refuse_large(method: str, n: int) -> None:
    """Refuse full matrices of a size that takes the machine's memory.

    Raises
    ------
    MethodError
    """
    if n > MAX_DENSE:
        raise MethodError(
            f"{method} would solve its equations with full matrices, which {n:,} states make too large",
            name=method,
            location="method",
            expected=f"at most {MAX_DENSE:,} states, sparsity=… beside the rates, or an explicit method",
            given=f"{n:,} states: {4 * 8 * n * n / 1e9:.3g} GB of matrices",
        )


def linear_solver(
    n: int,
    control: Any,
    kind: str,
    entries: Entries | None,
    mass: MassMatrix | None,
    operator: Operator | None = None,
    *,
    fixed: bool,
) -> LinearSolver:
    """Return linear algebra of a kind.

    Where fixed steps may need Newton's full method, its matrices are those of compiled loops.

    Parameters
    ----------
    n : int
        Number of states.
    control : CONTROL
        The control record of the march.
    kind : str
        Of linear algebra: "dense", "banded", "sparse" or "krylov".
    entries : Entries or None
    mass : MassMatrix or None
        None for the identity.
    operator : Operator, optional
        What products with the Jacobian are made of, where there is no matrix.
    fixed : bool
        Whether steps are fixed.

    Returns
    -------
    LinearSolver
    """
    if kind == "krylov" and operator is not None:
        from unhurried_heron.families.krylov import krylov_solver

        without = krylov_solver(n, control, operator, mass)
        return _native(without, np.zeros(2 * n + 1))
    dense = kind == "dense" or entries is None
    if dense and n < (MAX_DAMPED + 1 if fixed else MIN_BLOCKS):
        from unhurried_heron.kernels.linear_algebra.unrolled_solve import MAX_WRITTEN, load_solve
        from unhurried_heron.kernels.machine_code.prepare import load_kernels

        jacobian = np.zeros((n, n))
        factor, solve = load_kernels("linear_algebra.dense_lu.factor", "linear_algebra.dense_lu.solve")
        own = load_solve(n) if n <= MAX_WRITTEN and mass is None else solve
        made = functools.partial(dense_context, n, control, jacobian, mass=mass)
        return LinearSolver(factor.address, own.address, solve.address, jacobian, made, (factor, solve, own))
    from unhurried_heron.families.large_linear import full_solver, structured_solver

    if dense or entries is None:
        solver = full_solver(n, control, mass)
        values: Array = np.zeros((n, n))
    else:
        solver, values = structured_solver(kind, n, entries, control, mass), np.zeros(entries.rows.size)
    return _native(solver, values)


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
