"""Linear systems without matrices: GMRES with products J v, which are differences of the rates.

Y. Saad and M. H. Schultz, SIAM J. Sci. Stat. Comput. 7 (1986) 856-869; P. N. Brown and A. C. Hindmarsh, SIAM J. Numer.
Anal. 23 (1986) 610-638. What is kept as the Jacobian is where it is taken: the time, the state and the rates there.
"""

from __future__ import annotations

import ctypes
from typing import Any, Final, NamedTuple

import numpy as np
from scipy.sparse.linalg import LinearOperator, gmres

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.signature import NativeFunction, address
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.factorisations import identity_of
from unhurried_heron.families.large_linear import LargeSolver
from unhurried_heron.kernels.linear_algebra.context import UNKNOWN
from unhurried_heron.model.mass_matrix import MassMatrix

_RATES: Final = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)
# Vectors of the basis before it is begun anew,
_BASIS: Final = 40
# and how often that is done at most.
_RESTARTS: Final = 5
# The residual is this share of the tolerance of a solution.
_SHARE: Final = 0.1
# The length of a difference, in roots of rounding, of the size of the state.
_NUDGE: Final = float(np.sqrt(np.finfo(float).eps))


class Operator(NamedTuple):
    """What products with the Jacobian are made of: the rates, and the units in which vectors have a length."""

    rates: NativeFunction
    scales: ErrorScale


class _Products:
    """shift*M - J of one context, all vectors in units of the allowed errors."""

    def __init__(self, n: int, kind: type, control: Any, operator: Operator, mass: MassMatrix) -> None:
        self._n, self.kind, self._control, self._operator, self._mass = n, kind, control, operator, mass
        self._call = _RATES(operator.rates.address)
        self._moved, self._found = np.zeros(n), np.zeros(n)

    def factor(self, shifts: Any, values: Array) -> int | None:
        """Note where the Jacobian is taken, and the shift; return UNKNOWN, for no sign can be told."""
        n, scales = self._n, self._operator.scales
        if not np.isfinite(values).all():
            return None
        self._shifts, self._time = shifts, float(values[0])
        self._state, self._rates = values[1 : n + 1].copy(), values[n + 1 :].copy()
        allowed = scales.relative * np.abs(self._state) + scales.absolute
        self._unit = np.where(allowed > 0.0, allowed, 1.0)
        return UNKNOWN

    def _of_jacobian(self, vector: Array) -> Array:
        """Return J v, by a difference whose length is the root of rounding beside the state."""
        length = float(np.sqrt(np.mean((vector / self._unit) ** 2)))
        if not 0.0 < length < np.inf:
            return np.zeros(self._n)
        size = max(float(np.sqrt(np.mean((self._state / self._unit) ** 2))), 1.0)
        share = _NUDGE * size / length
        np.multiply(vector, share, out=self._moved)
        self._moved += self._state
        self._control["rate_evaluations"] += 1
        self._control["for_jacobians"] += 1
        context = self._operator.rates.context_address
        code = self._call(self._time, address(self._moved), address(self._found), context)
        if code < 1:
            self._operator.rates.raise_pending("the rates")
        # where the rates cannot be had there is no product, and no solution
        return (self._found - self._rates) / share if code == 1 else np.full(self._n, np.nan)

    def _product(self, vector: Any) -> Any:
        """Return the product in units of the allowed errors."""
        if self._control["stop"][0] != 0:
            return np.full(self._n, np.nan)
        given = vector.ravel() * self._unit
        found: Any = np.zeros(self._n, dtype=self.kind)
        np.add.at(found, self._mass.rows, self._shifts * given[self._mass.columns])
        found -= self._of_jacobian(given.real)
        if self.kind is complex:
            found -= 1j * self._of_jacobian(given.imag)
        return found / self._unit

    def solve(self, right: Any, tolerance: float) -> Any:
        """Return the solution, None where iterations do not come to the tolerance."""
        matrix: Any = LinearOperator((self._n, self._n), matvec=self._product, dtype=self.kind)
        basis = min(self._n, _BASIS)
        with np.errstate(all="ignore"):
            found, missed = gmres(
                matrix, right / self._unit, rtol=_SHARE * tolerance, atol=0.0, restart=basis, maxiter=_RESTARTS
            )
        return found * self._unit if missed == 0 and np.isfinite(found).all() else None


def krylov_solver(n: int, control: Any, operator: Operator, mass: MassMatrix | None) -> LargeSolver:
    """Return linear algebra without matrices.

    Parameters
    ----------
    n : int
        Number of states.
    control : CONTROL
        The control record of the march, in which evaluations are counted.
    operator : Operator
    mass : MassMatrix or None
        None for the identity.

    Returns
    -------
    LargeSolver
    """
    known = identity_of(n) if mass is None else mass
    return LargeSolver(n, lambda kind: _Products(n, kind, control, operator, known), known)
