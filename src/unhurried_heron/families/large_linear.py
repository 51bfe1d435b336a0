"""Linear algebra for large systems behind native calls of Python functions.

What a call from Python costs, some ten microseconds, is nothing beside the work on a large system.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.families.factorisations import (
    FullFactors,
    SparseFactors,
    identity_of,
)
from unhurried_heron.kernels.linear_algebra.context import CONTEXT_SIZE, DONE, FAILED, SHIFT, SIGN, B, D, N
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.model.mass_matrix import MassMatrix

_CALL: Final = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.POINTER(ctypes.c_int64), ctypes.c_void_p, ctypes.c_int64)


class LargeSolver:
    """Factors and solves by Python functions at native addresses; keep it alive while a kernel runs.

    Parameters
    ----------
    n : int
        Order of the matrices.
    system : callable
        Makes what factors and solves, of numbers of a kind (float or complex): ``factor(shifts, values)`` of entries of
        shift*M and J returns the sign of the determinant, UNKNOWN where that is not known, None where there are no
        factors; ``solve(right, tolerance)`` the solution, None where it misses the tolerance.
    mass : MassMatrix
    rows : ndarray of int64, optional
        With another mass matrix than the identity, of the entries of J, none for full matrices: rows of the matrix are
        divided by their largest entries then, for those of constraints are in no unit of the others.

    Attributes
    ----------
    factor, solve : int
        Addresses (`kernels.linear`).
    pending : BaseException or None
        What went wrong in one of them.
    """

    def __init__(self, n: int, system: Callable[[type], Any], mass: MassMatrix, rows: Any = None) -> None:
        self._n, self._system, self._mass, self._rows = n, system, mass, rows
        self._systems: dict[int, tuple[Any, Any, Array, Array, Array]] = {}
        self.pending: BaseException | None = None
        self._calls = _CALL(self._factor), _CALL(self._solve)
        self.factor, self.solve = (ctypes.cast(call, ctypes.c_void_p).value or 0 for call in self._calls)

    def context(self, jacobian: Array, *, complex_shift: bool) -> Any:
        """Return the context of a shifted matrix; ``jacobian`` holds the matrix, or its entries."""
        context, shift = np.zeros(CONTEXT_SIZE, np.int64), np.zeros(3)
        context[N], context[SHIFT] = self._n, address(shift)
        system = self._system(complex if complex_shift else float)
        self._systems[address(context)] = (system, context, shift, jacobian, np.ones(self._n))
        return context

    def _factor(self, result: Any, _: Any, address: int) -> int:
        """Factor the matrix of a context; called by the march.

        Parameters
        ----------
        result : ctypes pointer
            Takes the answer.
        _ : ctypes pointer
            Not used.
        address : int
            Of the context.

        Returns
        -------
        int
            0: the answer stands in ``result``.
        """
        result[0] = FAILED
        try:
            system, context, shift, values, scales = self._systems[address]
            shifts = self._mass.values * (complex(*shift[:2]) if system.kind is complex else shift[0])
            if self._rows is not None:
                scales[:] = self._scales(shifts, values)
                values = values * (scales[:, None] if values.ndim == 2 else scales[self._rows])
                shifts = shifts * scales[self._mass.rows]
            sign = system.factor(shifts, values)
            if sign is not None:
                result[0], context[SIGN] = DONE, sign
        except BaseException as error:  # nothing may pass through native code
            self.pending = error
        return 0

    def _scales(self, shifts: Any, values: Array) -> Array:
        """Return one over the largest entry of each row of shift*M and J, shape (n,)."""
        largest = np.abs(values).max(axis=1) if values.ndim == 2 else np.zeros(self._n)
        if values.ndim == 1:
            np.maximum.at(largest, self._rows, np.abs(values))
        np.maximum.at(largest, self._mass.rows, np.abs(shifts))
        usable = (largest > 0.0) & (largest < np.inf)
        return 1.0 / np.where(usable, largest, 1.0)

    def _solve(self, result: Any, _: Any, address: int) -> int:
        """Solve with the factors of a context; called by the march.

        Parameters
        ----------
        result : ctypes pointer
            Takes the answer.
        _ : ctypes pointer
            Not used.
        address : int
            Of the context.

        Returns
        -------
        int
            0: the answer stands in ``result``.
        """
        result[0] = FAILED
        system, context, shift, _values, scales = self._systems[address]
        real = self._at(int(context[B]))
        if self._rows is not None:
            real *= scales
        try:
            if system.kind is complex:
                imaginary = self._at(int(context[D]))
                if self._rows is not None:
                    imaginary *= scales
                found = system.solve(real + 1j * imaginary, float(shift[2]))
                if found is not None:
                    real[:], imaginary[:], result[0] = found.real, found.imag, DONE
            else:
                found = system.solve(real, float(shift[2]))
                if found is not None:
                    real[:], result[0] = found, DONE
        except BaseException as error:  # nothing may pass through native code
            # A matrix with NaN is refused until the exception can be raised.
            self.pending, real[:] = error, np.nan
        return 0

    def _at(self, address: int) -> Array:
        found: Array = np.ctypeslib.as_array((ctypes.c_double * self._n).from_address(address))
        return found


def full_solver(n: int, control: Any, mass: MassMatrix | None) -> LargeSolver:
    """Return full factors; ``control`` is the march's control record, which tells when to stop.

    Parameters
    ----------
    n : int
        Number of states.
    control : CONTROL
    mass : MassMatrix or None
        None for the identity.

    Returns
    -------
    LargeSolver
    """
    known = identity_of(n) if mass is None else mass
    rows = None if mass is None else np.empty(0, dtype=np.int64)
    return LargeSolver(n, lambda kind: FullFactors(n, kind, control, known), known, rows)


def sparse_solver(n: int, entries: tuple[Any, Any], control: Any, mass: MassMatrix | None) -> LargeSolver:
    """Return sparse factors for a pattern.

    Parameters
    ----------
    n : int
        Number of states.
    entries : (ndarray of int64, ndarray of int64)
        Rows and columns of those of the Jacobian.
    control : CONTROL
        The control record of the march.
    mass : MassMatrix or None
        None for the identity.

    Returns
    -------
    LargeSolver
    """
    known = identity_of(n) if mass is None else mass
    rows = None if mass is None else entries[0]
    return LargeSolver(n, lambda kind: SparseFactors(n, entries, kind, control, known), known, rows)
