"""Incomplete LU factors without fill-in, of the entries of a matrix or of some of them.

Y. Saad, *Iterative Methods for Sparse Linear Systems*, 2nd ed. (2003), section 10.3. A pattern that holds all that
elimination fills has exact factors, as the blocks of the unknowns of one cell have.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import DONE, FAILED, ITERATION, RE, STOP, N
from unhurried_heron.kernels.linear_algebra.iteration import (
    DIAGONALS,
    FACTOR_COLUMNS,
    FACTOR_SOURCES,
    FACTOR_STARTS,
    FACTORS,
    INDEX,
)
from unhurried_heron.kernels.linear_algebra.structure import assemble
from unhurried_heron.kernels.machine_code.compiling import inner, inner_fast_sums
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs


@inner_fast_sums
def _eliminate(table, i):
    """Take the rows above from row i where both have entries; the inverse of the pivot is kept in its place.

    Parameters
    ----------
    table : int64 pointer
        Of `iteration`.
    i : int

    Returns
    -------
    bool
        Whether there is a pivot.
    """
    starts, columns = as_longs(table[FACTOR_STARTS]), as_longs(table[FACTOR_COLUMNS])
    diagonals, values, index = as_longs(table[DIAGONALS]), as_doubles(table[FACTORS]), as_longs(table[INDEX])
    for k in range(starts[i], starts[i + 1]):
        index[columns[k]] = k
    for k in range(starts[i], diagonals[i]):
        j = columns[k]
        factor = values[k] * values[diagonals[j]]
        values[k] = factor
        for m in range(diagonals[j] + 1, starts[j + 1]):
            here = index[columns[m]]
            if here >= 0:
                values[here] -= factor * values[m]
    for k in range(starts[i], starts[i + 1]):
        index[columns[k]] = -1
    pivot = values[diagonals[i]]
    values[diagonals[i]] = 1.0 / pivot
    return 0.0 < abs(pivot) < np.inf


def factor(address):
    """Form the shifted matrix of a context and its incomplete factors; return DONE or FAILED."""
    context = as_longs(address)
    table, control, matrix = as_longs(context[ITERATION]), as_control(context[STOP]), as_doubles(context[RE])
    assemble(context)
    control.fill = max(control.fill, as_longs(table[FACTOR_STARTS])[context[N]])
    starts, sources = as_longs(table[FACTOR_STARTS]), as_longs(table[FACTOR_SOURCES])
    values = as_doubles(table[FACTORS])
    for k in range(starts[context[N]]):
        values[k] = matrix[sources[k]] if sources[k] >= 0 else 0.0
    for i in range(context[N]):
        if control.stop != 0 or not _eliminate(table, i):
            return FAILED
    return DONE


@inner
def apply(table, n, x):
    """Solve with the factors, in place.

    Parameters
    ----------
    table : int64 pointer
        Of `iteration`.
    n : int
    x : float pointer, (n,)
        The right-hand side; the solution afterwards.
    """
    starts, columns = as_longs(table[FACTOR_STARTS]), as_longs(table[FACTOR_COLUMNS])
    diagonals, values = as_longs(table[DIAGONALS]), as_doubles(table[FACTORS])
    for i in range(n):
        total = x[i]
        for k in range(starts[i], diagonals[i]):
            total -= values[k] * x[columns[k]]
        x[i] = total
    for i in range(n - 1, -1, -1):
        total = x[i]
        for k in range(diagonals[i] + 1, starts[i + 1]):
            total -= values[k] * x[columns[k]]
        x[i] = total * values[diagonals[i]]
