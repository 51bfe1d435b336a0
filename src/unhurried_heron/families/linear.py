"""Contexts of the linear algebra that kernels call."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.kernels.linear_context import CONTEXT_SIZE, IM, MATRIX, PIVOTS, RE, SHIFT, STOP, N
from unhurried_heron.run.trajectory import Array


def dense_context(n: int, control: Any, matrix: Array | None, *, complex_shift: bool) -> tuple[Any, ...]:
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
    """
    context, shift, pivots = np.zeros(CONTEXT_SIZE, np.int64), np.zeros(2), np.zeros(n, np.int64)
    re, im = np.zeros((n, n)), np.zeros((n, n) if complex_shift else (0, 0))
    context[N], context[STOP] = n, control.ctypes.data
    context[MATRIX] = 0 if matrix is None else matrix.ctypes.data
    context[SHIFT], context[PIVOTS], context[RE] = shift.ctypes.data, pivots.ctypes.data, re.ctypes.data
    context[IM] = im.ctypes.data if complex_shift else 0
    return context, control, matrix, shift, pivots, re, im
