"""The fastest growth among the modes of a small full matrix: its largest real part of an eigenvalue.

Reduction to Hessenberg form and implicit double-shift QR iterations, eigenvalues only: G. H. Golub and C. F. Van Loan,
*Matrix Computations*, 4th ed. (2013), sections 7.4 and 7.5.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, offset_by

# The spacing of doubles at one.
_EPSILON = 2.220446049250313e-16
# Sweeps for all eigenvalues; two or three for each are usual.
_MAX_SWEEPS = 40
# real parts below this share of the matrix cannot be told from rounding
_SIGNIFICANT = 1e-9


@inner
def _to_hessenberg(a, n):
    """Eliminate below the first subdiagonal, with exchanges of rows and columns."""
    for m in range(1, n - 1):
        best = m
        for i in range(m, n):
            if abs(a[i * n + m - 1]) > abs(a[best * n + m - 1]):
                best = i
        if best != m:
            for j in range(n):
                a[best * n + j], a[m * n + j] = a[m * n + j], a[best * n + j]
            for i in range(n):
                a[i * n + best], a[i * n + m] = a[i * n + m], a[i * n + best]
        pivot = a[m * n + m - 1]
        if pivot == 0.0:
            continue
        for i in range(m + 1, n):
            factor = a[i * n + m - 1] / pivot
            if factor != 0.0:
                for j in range(m - 1, n):
                    a[i * n + j] -= factor * a[m * n + j]
                a[i * n + m - 1] = 0.0
                for j in range(n):
                    a[j * n + m] += factor * a[j * n + i]


@inner
def _reflect(a, n, k, bounds, vector, three):
    """Apply the reflection that turns a vector into a multiple of the first axis from both sides, at row k.

    Parameters
    ----------
    a : float pointer, (n, n)
    n : int
        Number of states.
    k : int
        The first row.
    bounds : (int, int, int, int)
        First and last column, and first and last row, that it reaches.
    vector : (float, float, float)
    three : bool
        Whether the vector has three components, not two.
    """
    (x, y, z), (left, right, top, bottom) = vector, bounds
    size = np.sqrt(x * x + y * y + z * z)
    if size == 0.0:
        return
    v0, v1, v2 = x + np.copysign(size, x), y, z
    scale = 2.0 / (v0 * v0 + v1 * v1 + v2 * v2)
    for j in range(left, right + 1):
        total = v0 * a[k * n + j] + v1 * a[(k + 1) * n + j]
        if three:
            total += v2 * a[(k + 2) * n + j]
        total *= scale
        a[k * n + j] -= total * v0
        a[(k + 1) * n + j] -= total * v1
        if three:
            a[(k + 2) * n + j] -= total * v2
    for i in range(top, bottom + 1):
        row = offset_by(a, i * n + k)
        total = v0 * row[0] + v1 * row[1]
        if three:
            total += v2 * row[2]
        total *= scale
        row[0] -= total * v0
        row[1] -= total * v1
        if three:
            row[2] -= total * v2


@inner
def _sweep(a, n, low, top, odd):
    """One double-shift QR step on the rows and columns from low to top.

    Parameters
    ----------
    a : float pointer, (n, n)
        An upper Hessenberg matrix.
    n : int
        Number of states.
    low : int
        First row.
    top : int
        Last row.
    odd : bool
        Whether exceptional shifts are taken.
    """
    p, q, r, s = a[(top - 1) * n + top - 1], a[(top - 1) * n + top], a[top * n + top - 1], a[top * n + top]
    trace, determinant = p + s, p * s - q * r
    if odd:
        # The usual shifts have not converged for many sweeps: an exceptional shift breaks the tie.
        size = abs(r) + abs(a[(top - 1) * n + top - 2])
        trace, determinant = 1.5 * size, size * size
    d, e = a[low * n + low], a[(low + 1) * n + low]
    x = d * d + a[low * n + low + 1] * e - trace * d + determinant
    y = e * (d + a[(low + 1) * n + low + 1] - trace)
    z = e * a[(low + 2) * n + low + 1]
    for k in range(low, top - 1):
        _reflect(a, n, k, (max(low, k - 1), top, low, min(k + 3, top)), (x, y, z), True)
        x, y = a[(k + 1) * n + k], a[(k + 2) * n + k]
        if k < top - 2:
            z = a[(k + 3) * n + k]
    _reflect(a, n, top - 1, (top - 2, top, low, top), (x, y, 0.0), False)


@inner
def _growth_of(real, imaginary, shift, sign):
    """Return real part and modulus of a mode, of an eigenvalue of (shift*M - J)^-1 M where a shift is given.

    Such a one is 1/(shift - lambda), and 0 for what follows from constraints.

    Parameters
    ----------
    real : float
    imaginary : float
        Imaginary part.
    shift : float
        0 for the eigenvalues of J themselves.
    sign : float
        1 forward in time, -1 backward.

    Returns
    -------
    (float, float)
    """
    if shift != 0.0:
        square = real * real + imaginary * imaginary
        if square * shift * shift < _SIGNIFICANT * _SIGNIFICANT:
            return 0.0, 0.0
        real, imaginary = shift - real / square, imaginary / square
    return sign * real, np.sqrt(real * real + imaginary * imaginary)


@inner
def fastest_growth(a, n, shift, sign):
    """Return the largest real part of the eigenvalues and that mode's modulus, 0 where none is positive.

    The matrix is destroyed.

    Parameters
    ----------
    a : float pointer, (n, n)
        J, or (shift*M - J)^-1 M.
    n : int
        Number of states.
    shift : float
        0 where the matrix is J.
    sign : float
        1 forward in time, -1 backward.

    Returns
    -------
    (float, float)
    """
    size = 0.0
    for k in range(n * n):
        size = max(size, abs(a[k]))
    if not size < 1e150:
        return 0.0, 0.0
    _to_hessenberg(a, n)
    growth, modulus, top, count = 0.0, 0.0, n - 1, 0
    while top >= 0 and count < _MAX_SWEEPS:
        low = top
        while low > 0:
            beside = abs(a[(low - 1) * n + low - 1]) + abs(a[low * n + low])
            if abs(a[low * n + low - 1]) <= _EPSILON * (beside if beside > 0.0 else size):
                break
            low -= 1
        if low == top:
            real, imaginary = a[top * n + top], 0.0
            top, count = top - 1, 0
        elif low == top - 1:
            half = 0.5 * (a[low * n + low] + a[top * n + top])
            gap = 0.5 * (a[low * n + low] - a[top * n + top])
            under = gap * gap + a[low * n + top] * a[top * n + low]
            apart = np.sqrt(max(under, 0.0))
            real, imaginary = half + sign * apart, np.sqrt(max(-under, 0.0))
            if shift != 0.0:
                # either of two real ones may be that of the faster growth
                other, whole = _growth_of(half - sign * apart, imaginary, shift, sign)
                if other > growth and other > _SIGNIFICANT * abs(shift):
                    growth, modulus = other, whole
            top, count = top - 2, 0
        else:
            count += 1
            _sweep(a, n, low, top, count % 10 == 0)
            continue
        real, whole = _growth_of(real, imaginary, shift, sign)
        if real > growth and real > _SIGNIFICANT * (size if shift == 0.0 else abs(shift)):
            growth, modulus = real, whole
    return growth, modulus


def growth(address):
    """Find the fastest growth of a matrix; ``address``: of n*n + 3 numbers, its order, shift, sign and its rows.

    The first two are replaced by the growth and that mode's modulus.
    """
    values = as_doubles(address)
    values[0], values[1] = fastest_growth(offset_by(values, 3), int(values[0]), values[1], values[2])
    return 0
