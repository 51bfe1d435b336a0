"""GMRES with a preconditioner on the left, so that what becomes small is about the error of the solution.

Y. Saad and M. H. Schultz, SIAM J. Sci. Stat. Comput. 7 (1986) 856-869. Unknowns are measured in units of their own.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import DONE, FAILED, ITERATION, RE, SHIFT, STOP, STRUCTURE, B, N
from unhurried_heron.kernels.linear_algebra.incomplete_lu import apply
from unhurried_heron.kernels.linear_algebra.iteration import (
    BASIS,
    COLUMNS,
    FOUND,
    HESSENBERG,
    ITERATIONS,
    LARGEST,
    PRODUCT,
    RESTARTS,
    ROTATIONS,
    STARTS,
    UNITS,
)
from unhurried_heron.kernels.linear_algebra.structure import ORDER
from unhurried_heron.kernels.machine_code.compiling import inner, inner_fast_sums
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by

# Of the tolerance of a solution, the share that its error may have.
_SHARE = 0.3


@inner_fast_sums
def _dot(a, b, n):
    """Return the product of two vectors.

    Parameters
    ----------
    a, b : float pointer, (n,)
    n : int

    Returns
    -------
    float
    """
    total = 0.0
    for i in range(n):
        total += a[i] * b[i]
    return total


@inner
def _multiply(context, table, x, y):
    """Multiply a vector in units by the matrix; ``y`` (n,) is what comes out, in no units.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `iteration`.
    x, y : float pointer, (n,)
    """
    n, values, z = context[N], as_doubles(context[RE]), as_doubles(table[PRODUCT])
    starts, columns, units = as_longs(table[STARTS]), as_longs(table[COLUMNS]), as_doubles(table[UNITS])
    for i in range(n):
        z[i] = units[i] * x[i]
    for i in range(n):
        total = 0.0
        for k in range(starts[i], starts[i + 1]):
            total += values[k] * z[columns[k]]
        y[i] = total


@inner
def _precondition(context, table, x):
    """Put a vector through the preconditioner, in place, and into units.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `iteration`.
    x : float pointer, (n,)
    """
    units = as_doubles(table[UNITS])
    apply(table, context[N], x)
    for i in range(context[N]):
        x[i] /= units[i]


@inner
def _residual(context, table, first, y):
    """Leave in ``y`` (n,) what was found leaves of the right-hand side, preconditioned.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `iteration`.
    first : bool
        Whether nothing was found yet.
    y : float pointer, (n,)
    """
    b, order = as_doubles(context[B]), as_longs(as_longs(context[STRUCTURE])[ORDER])
    if not first:
        _multiply(context, table, as_doubles(table[FOUND]), y)
    for i in range(context[N]):
        y[i] = b[order[i]] if first else b[order[i]] - y[i]
    _precondition(context, table, y)


@inner
def _step(context, table, k):
    """Make a vector of the Krylov space orthogonal to those before it; return the residual that is left.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `iteration`.
    k : int
        Index of the last vector.

    Returns
    -------
    float
    """
    n, most = context[N], table[LARGEST] + 1
    basis, rotations = as_doubles(table[BASIS]), as_doubles(table[ROTATIONS])
    h, new = offset_by(as_doubles(table[HESSENBERG]), k * most), offset_by(basis, (k + 1) * n)
    c, s, g = rotations, offset_by(rotations, most), offset_by(rotations, 2 * most)
    _multiply(context, table, offset_by(basis, k * n), new)
    _precondition(context, table, new)
    for i in range(k + 1):
        old = offset_by(basis, i * n)
        h[i] = _dot(old, new, n)
        for j in range(n):
            new[j] -= h[i] * old[j]
    length = np.sqrt(_dot(new, new, n))
    for j in range(n):
        new[j] = new[j] / length if length > 0.0 else 0.0
    for i in range(k):
        h[i], h[i + 1] = c[i] * h[i] + s[i] * h[i + 1], c[i] * h[i + 1] - s[i] * h[i]
    size = np.sqrt(h[k] * h[k] + length * length)
    c[k], s[k] = (h[k] / size, length / size) if size > 0.0 else (1.0, 0.0)
    h[k] = size
    g[k], g[k + 1] = c[k] * g[k], -s[k] * g[k]
    return abs(g[k + 1])


@inner
def _add_found(table, count, n):
    """Add the best combination of the vectors to what was found.

    Parameters
    ----------
    table : int64 pointer
        Of `iteration`.
    count : int
        How many vectors there are.
    n : int
    """
    most, basis, h = table[LARGEST] + 1, as_doubles(table[BASIS]), as_doubles(table[HESSENBERG])
    g = offset_by(as_doubles(table[ROTATIONS]), 2 * most)
    y, x = offset_by(as_doubles(table[ROTATIONS]), 3 * most), as_doubles(table[FOUND])
    for i in range(count - 1, -1, -1):
        total = g[i]
        for j in range(i + 1, count):
            total -= h[j * most + i] * y[j]
        y[i] = total / h[i * most + i] if h[i * most + i] != 0.0 else 0.0
    for i in range(count):
        vector = offset_by(basis, i * n)
        for j in range(n):
            x[j] += y[i] * vector[j]


@inner
def _cycle(context, table, enough):
    """Go on from what was found with a new basis; return the residual that is left.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `iteration`.
    enough : float
        The residual to be reached, of the first one of all; negative: that is not known yet.

    Returns
    -------
    (float, float)
        The residual at the end, and that at the beginning.
    """
    n, basis, control = context[N], as_doubles(table[BASIS]), as_control(context[STOP])
    g, tolerance = offset_by(as_doubles(table[ROTATIONS]), 2 * (table[LARGEST] + 1)), as_doubles(context[SHIFT])[2]
    _residual(context, table, enough < 0.0, basis)
    begun = np.sqrt(_dot(basis, basis, n))
    if not (0.0 < begun < np.inf):
        return begun, begun
    wanted = enough if enough >= 0.0 else _SHARE * tolerance * begun
    g[0], left, count = begun, begun, 0
    for j in range(n):
        basis[j] /= begun
    while left > wanted and count < table[LARGEST] and control.stop == 0:
        left = _step(context, table, count)
        count += 1
        table[ITERATIONS] += 1
    _add_found(table, count, n)
    return left, begun


def solve(address):
    """Solve the system of a context, in place; return DONE, or FAILED where iterations do not come to the tolerance."""
    context = as_longs(address)
    table, n, control = as_longs(context[ITERATION]), context[N], as_control(context[STOP])
    x, b, units = as_doubles(table[FOUND]), as_doubles(context[B]), as_doubles(table[UNITS])
    order, wanted = as_longs(as_longs(context[STRUCTURE])[ORDER]), -1.0
    for i in range(n):
        x[i] = 0.0
    for _ in range(table[RESTARTS]):
        left, begun = _cycle(context, table, wanted)
        if not (begun < np.inf):
            return FAILED
        if wanted < 0.0:
            wanted = _SHARE * as_doubles(context[SHIFT])[2] * begun
        if not (left > wanted) or control.stop != 0:
            break
    if control.stop != 0 or not (left <= wanted):
        return FAILED
    for i in range(n):
        b[order[i]] = units[i] * x[i]
    return DONE
