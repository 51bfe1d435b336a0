"""Iterations in the place of factors, by products with the Jacobian.

Y. Saad and M. H. Schultz, SIAM J. Sci. Stat. Comput. 7 (1986) 856-869; P. N. Brown and A. C. Hindmarsh, SIAM J. Numer.
Anal. 23 (1986) 610-638. Where there is no matrix, products are derivatives of the rates along a vector, or differences
of the rates of a Python function, and what is kept as the Jacobian is where it is taken: the time, the state and the
rates there.
"""

from __future__ import annotations

import ctypes
import importlib
from collections.abc import Callable
from typing import Any, Final

import numpy as np
from scipy.sparse import coo_array, csc_array
from scipy.sparse.linalg import LinearOperator, gmres

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, unforeseen
from unhurried_heron.families.error_scale import Measure
from unhurried_heron.families.factorisations import identity_of
from unhurried_heron.families.large_linear import LargeSolver
from unhurried_heron.families.linear import LinearDemand
from unhurried_heron.families.linear_choice import INCOMPLETE
from unhurried_heron.kernels.linear_algebra.context import UNKNOWN
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address
from unhurried_heron.model.mass_matrix import MassMatrix

_RATES: Final = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)
# Vectors of the basis before it is begun anew,
_BASIS: Final = 40
# and how often that is done at most.
_RESTARTS: Final = 5
# The residual is this share of the tolerance of a solution.
_SHARE: Final = 0.1
# The length of a difference, of the size of the state,
_NUDGE: Final = float(np.sqrt(np.finfo(float).eps))
# and that of a central one.
_TO_BOTH_SIDES: Final = float(np.cbrt(np.finfo(float).eps))


class _Iterations:
    """Iterations on shift*M - J of one context, all vectors in units of the allowed errors."""

    def __init__(self, kind: type, demand: LinearDemand) -> None:
        if demand.measure is None:
            raise unforeseen("iterations are told the units of their vectors")
        self.kind, self._n, self._control = kind, demand.n, demand.control
        self._measure: Measure = demand.measure
        self._build = demand.preconditioner if callable(demand.preconditioner) else None
        if demand.preconditioner == "multigrid":
            self._build = _multigrid
        self._unit: Array = np.ones(demand.n)
        self._precondition: Callable[[Any], Any] | None = None

    def _begin(self, matrix: Any) -> int | None:
        """Note the units, and make the preconditioner; return UNKNOWN, for no sign can be told, or None without one."""
        self._unit = self._measure.units()
        if self._build is not None:
            made = self._build(matrix)
            if made is None:
                return None
            self._precondition = _solving(made)
        return UNKNOWN

    def product(self, vector: Any) -> Any:
        """Return the product of the matrix and a vector."""
        raise NotImplementedError

    def _in_units(self, vector: Any) -> Any:
        if self._control["stop"][0] != 0:
            return np.full(self._n, np.nan)
        return self.product(vector.ravel() * self._unit) / self._unit

    def _preconditioned(self, vector: Any) -> Any:
        if self._precondition is None:
            return vector
        found = np.asarray(self._precondition(vector.ravel() * self._unit))
        if found.shape != (self._n,):
            raise OptionError("a preconditioner returned no vector of all unknowns", name="preconditioner",
                              location="preconditioner", expected=f"shape ({self._n},)",
                              given=f"shape {found.shape}")  # fmt: skip
        return found / self._unit

    def _count(self, _: Any) -> None:
        self._control["linear_iterations"] += 1

    def solve(self, right: Any, tolerance: float) -> Any:
        """Return the solution, None where iterations do not come to the tolerance."""
        shape = (self._n, self._n)
        matrix: Any = LinearOperator(shape, matvec=self._in_units, dtype=self.kind)
        inverse: Any = LinearOperator(shape, matvec=self._preconditioned, dtype=self.kind)
        with np.errstate(all="ignore"):
            found, missed = gmres(
                matrix,
                right / self._unit,
                M=None if self._precondition is None else inverse,
                rtol=_SHARE * tolerance,
                atol=0.0,
                restart=min(self._n, _BASIS),
                maxiter=_RESTARTS,
                callback=self._count,
                callback_type="pr_norm",
            )
        return found * self._unit if missed == 0 and np.isfinite(found).all() else None


class _WithoutMatrix(_Iterations):
    """Products with J are derivatives along a vector, of written rates, or differences of the rates."""

    def __init__(self, kind: type, demand: LinearDemand, mass: MassMatrix) -> None:
        super().__init__(kind, demand)
        if demand.rates is None:
            raise unforeseen("iterations without a matrix are told the rates")
        self._mass, self._of_rates = mass, demand.rates
        self._call = _RATES(demand.rates.address)
        self._moved, self._found = np.zeros(demand.n), np.zeros(demand.n)
        self._beside = np.zeros(2 * demand.n)
        differences = self._by_central_differences if demand.once else self._by_differences
        self._along = differences if demand.product is None else self._by_derivatives(demand.product)

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Note where the Jacobian is taken, and the shift."""
        n = self._n
        if not np.isfinite(values).all():
            return None
        self._shifts, self._time = shifts, float(values[0])
        self._state, self._rates = values[1 : n + 1].copy(), values[n + 1 :].copy()
        self._beside[:n] = self._state
        return self._begin(LinearOperator((n, n), matvec=lambda each: self.product(each.ravel()), dtype=self.kind))

    def _by_derivatives(self, product: NativeFunction) -> Callable[[Array], Array]:
        """Return what gives J v exactly."""
        call = _RATES(product.address)

        def along(vector: Array) -> Array:
            self._beside[self._n :] = vector
            code = call(self._time, address(self._beside), address(self._found), product.context_address)
            return self._found if code == 1 else np.full(self._n, np.nan)

        return along

    def _by_differences(self, vector: Array) -> Array:
        """Return J v, by a difference whose length is the root of rounding beside the state."""
        share = self._share(vector, _NUDGE)
        return (self._rates_along(vector, share) - self._rates) / share if share else np.zeros(self._n)

    def _by_central_differences(self, vector: Array) -> Array:
        """Return J v where nothing corrects a solution: rounding is a thousandth of that of other differences."""
        share = self._share(vector, _TO_BOTH_SIDES)
        if not share:
            return np.zeros(self._n)
        ahead = self._rates_along(vector, share).copy()
        return (ahead - self._rates_along(vector, -share)) / (2.0 * share)

    def _share(self, vector: Array, nudge: float) -> float:
        """Return which share of a vector a state is moved by, 0 along nothing."""
        length = float(np.sqrt(np.mean((vector / self._unit) ** 2)))
        size = max(float(np.sqrt(np.mean((self._state / self._unit) ** 2))), 1.0)
        return nudge * size / length if 0.0 < length < np.inf else 0.0

    def _rates_along(self, vector: Array, share: float) -> Array:
        """Return the rates where a state is moved by a share of a vector, NaN where they cannot be had."""
        np.multiply(vector, share, out=self._moved)
        self._moved += self._state
        self._control["rate_evaluations"] += 1
        self._control["for_jacobians"] += 1
        code = self._call(self._time, address(self._moved), address(self._found), self._of_rates.context_address)
        if code < 1:
            self._of_rates.raise_pending("the rates")
        # where the rates cannot be had there is no product, and no solution
        return self._found if code == 1 else np.full(self._n, np.nan)

    def product(self, vector: Any) -> Any:
        """Return the product of shift*M - J and a vector."""
        found: Any = np.zeros(self._n, dtype=self.kind)
        np.add.at(found, self._mass.rows, self._shifts * vector[self._mass.columns])
        found -= self._along(vector.real)
        if self.kind is complex:
            found -= 1j * self._along(vector.imag)
        return found


class Matrix(_Iterations):
    """With a matrix, and a preconditioner that is given in Python."""

    def __init__(self, kind: type, demand: LinearDemand, mass: MassMatrix) -> None:
        super().__init__(kind, demand)
        if demand.entries is None:
            raise unforeseen("a matrix has a pattern")
        rows, columns = demand.entries
        self._indices = np.concatenate([rows, mass.rows]), np.concatenate([columns, mass.columns])

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Form the matrix, and make the preconditioner."""
        numbers = np.concatenate([-values, shifts])
        if not np.isfinite(numbers).all():
            return None
        self._formed = csc_array(coo_array((numbers, self._indices), shape=(self._n, self._n)))
        return self._begin(self._formed)

    def product(self, vector: Any) -> Any:
        """Return the product of shift*M - J and a vector."""
        return self._formed @ vector


def _solving(made: Any) -> Callable[[Any], Any]:
    """Return what solves with a preconditioner: itself, or its method of that name, or its product with a vector."""
    for name in ("solve", "matvec"):
        if hasattr(made, name):
            method: Callable[[Any], Any] = getattr(made, name)
            return method
    if callable(made):
        solving: Callable[[Any], Any] = made
        return solving
    raise OptionError("a preconditioner was made that solves nothing", name="preconditioner", location="preconditioner",
                      expected="a function of a vector, or an object with `solve` or `matvec`",
                      given=type(made).__name__)  # fmt: skip


def _multigrid(matrix: Any) -> Any:
    """Return multigrid by smoothed aggregation: P. Vaněk, J. Mandel and M. Brezina, Computing 56 (1996) 179-196."""
    try:
        library = importlib.import_module("pyamg")
    except ImportError as error:
        raise OptionError("the multigrid preconditioner is not installed", name="preconditioner",
                          location="preconditioner", expected="pip install 'unhurried-heron[multigrid]'",
                          given='preconditioner="multigrid"') from error  # fmt: skip
    return library.smoothed_aggregation_solver(matrix.tocsr()).aspreconditioner()


def iterative_solver(demand: LinearDemand) -> LargeSolver:
    """Return iterations: with incomplete factors, with what is given in their place, or with neither."""
    known = identity_of(demand.n) if demand.mass is None else demand.mass
    rows = None if demand.mass is None or demand.entries is None else demand.entries.rows
    if demand.kind == INCOMPLETE:
        from unhurried_heron.families.preconditioned import IncompleteFactors

        return LargeSolver(demand.n, lambda kind: IncompleteFactors(kind, demand, known), known, rows)
    if demand.kind == "krylov":
        return LargeSolver(demand.n, lambda kind: _WithoutMatrix(kind, demand, known), known)
    return LargeSolver(demand.n, lambda kind: Matrix(kind, demand, known), known, rows)
