"""Dense LU factors with partial pivoting, real and complex, row by row on raw pointers.

G. H. Golub and C. F. Van Loan, *Matrix Computations*, 4th ed. (2013), section 3.4. Complex matrices are two real
arrays, which vectorise better than pairs. The factors overwrite the matrix; row interchanges go to ``pivots``.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import (
    DONE,
    FAILED,
    IM,
    MASS,
    MATRIX,
    PIVOTS,
    RE,
    SHIFT,
    SIGN,
    STOP,
    B,
    D,
    N,
)
from unhurried_heron.kernels.machine_code.compiling import inner, inner_fast_sums
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by


@inner_fast_sums
def factor_real(a, pivots, n, control):
    """Factor an n x n matrix; False if it is singular or not finite, or the march was stopped.

    Parameters
    ----------
    a : float pointer, (n, n)
        The matrix; its factors afterwards.
    pivots : int64 pointer, (n,)
        Row exchanges.
    n : int
        Number of states.
    control : CONTROL

    Returns
    -------
    bool
    """
    for k in range(n):
        if control.stop != 0:
            return False
        row_k = offset_by(a, k * n)
        best, size = k, abs(row_k[k])
        for i in range(k + 1, n):
            if abs(a[i * n + k]) > size:
                best, size = i, abs(a[i * n + k])
        pivots[k] = best
        if not (0.0 < size < np.inf):
            return False
        if best != k:
            other = offset_by(a, best * n)
            for j in range(n):
                row_k[j], other[j] = other[j], row_k[j]
        inverse = 1.0 / row_k[k]
        for i in range(k + 1, n):
            row = offset_by(a, i * n)
            if row[k] != 0.0:
                factor = row[k] * inverse
                row[k] = factor
                for j in range(k + 1, n):
                    row[j] -= factor * row_k[j]
    return True


@inner_fast_sums
def solve_real(a, pivots, n, b):
    """Solve with the factors of `factor_real`, in place.

    Parameters
    ----------
    a : float pointer, (n, n)
        The factors.
    pivots : int64 pointer, (n,)
        Row exchanges.
    n : int
        Number of states.
    b : float pointer, (n,)
        The right-hand side; the solution afterwards.
    """
    for k in range(n):
        p = pivots[k]
        if p != k:
            b[k], b[p] = b[p], b[k]
    for i in range(n):
        row = offset_by(a, i * n)
        total = b[i]
        for j in range(i):
            total -= row[j] * b[j]
        b[i] = total
    for i in range(n - 1, -1, -1):
        row = offset_by(a, i * n)
        total = b[i]
        for j in range(i + 1, n):
            total -= row[j] * b[j]
        b[i] = total / row[i]


@inner_fast_sums
def factor_complex(re, im, pivots, n, control):
    """Factor an n x n complex matrix; False if it is singular or not finite, or the march was stopped.

    Parameters
    ----------
    re : float pointer, (n, n)
        Real part.
    im : float pointer, (n, n)
        Imaginary part.
    pivots : int64 pointer, (n,)
        Row exchanges.
    n : int
        Number of states.
    control : CONTROL

    Returns
    -------
    bool
    """
    for k in range(n):
        if control.stop != 0:
            return False
        re_k, im_k = offset_by(re, k * n), offset_by(im, k * n)
        best, size = k, abs(re_k[k]) + abs(im_k[k])
        for i in range(k + 1, n):
            here = abs(re[i * n + k]) + abs(im[i * n + k])
            if here > size:
                best, size = i, here
        pivots[k] = best
        if not (0.0 < size < np.inf):
            return False
        if best != k:
            re_b, im_b = offset_by(re, best * n), offset_by(im, best * n)
            for j in range(n):
                re_k[j], re_b[j] = re_b[j], re_k[j]
                im_k[j], im_b[j] = im_b[j], im_k[j]
        square = re_k[k] * re_k[k] + im_k[k] * im_k[k]
        inverse_re, inverse_im = re_k[k] / square, -im_k[k] / square
        for i in range(k + 1, n):
            re_i, im_i = offset_by(re, i * n), offset_by(im, i * n)
            x, y = re_i[k], im_i[k]
            if x != 0.0 or y != 0.0:
                factor_re = x * inverse_re - y * inverse_im
                factor_im = x * inverse_im + y * inverse_re
                re_i[k], im_i[k] = factor_re, factor_im
                for j in range(k + 1, n):
                    re_i[j] -= factor_re * re_k[j] - factor_im * im_k[j]
                    im_i[j] -= factor_re * im_k[j] + factor_im * re_k[j]
    return True


@inner_fast_sums
def solve_complex(re, im, pivots, n, b, d):
    """Solve with the factors of `factor_complex`, in place; ``b`` + i ``d`` is the right-hand side.

    Parameters
    ----------
    re : float pointer, (n, n)
        Real part.
    im : float pointer, (n, n)
        Imaginary part.
    pivots : int64 pointer, (n,)
        Row exchanges.
    n : int
        Number of states.
    b : float pointer, (n,)
        Real part of the right-hand side; of the solution afterwards.
    d : float pointer, (n,)
        Imaginary part.
    """
    for k in range(n):
        p = pivots[k]
        if p != k:
            b[k], b[p] = b[p], b[k]
            d[k], d[p] = d[p], d[k]
    for i in range(n):
        re_i, im_i = offset_by(re, i * n), offset_by(im, i * n)
        x, y = b[i], d[i]
        for j in range(i):
            x -= re_i[j] * b[j] - im_i[j] * d[j]
            y -= re_i[j] * d[j] + im_i[j] * b[j]
        b[i], d[i] = x, y
    for i in range(n - 1, -1, -1):
        re_i, im_i = offset_by(re, i * n), offset_by(im, i * n)
        x, y = b[i], d[i]
        for j in range(i + 1, n):
            x -= re_i[j] * b[j] - im_i[j] * d[j]
            y -= re_i[j] * d[j] + im_i[j] * b[j]
        square = re_i[i] * re_i[i] + im_i[i] * im_i[i]
        b[i] = (x * re_i[i] + y * im_i[i]) / square
        d[i] = (y * re_i[i] - x * im_i[i]) / square


@inner
def _add_shift(context, shift, a):
    """Add ``shift`` times M to a full matrix.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    shift : float
    a : float pointer, (n, n)
        Changed in place.
    """
    n = context[N]
    if context[MASS] == 0:
        for i in range(n):
            a[i * n + i] += shift
    else:
        table = as_longs(context[MASS])
        rows, columns, values = as_longs(table[1]), as_longs(table[2]), as_doubles(table[3])
        for e in range(table[0]):
            a[rows[e] * n + columns[e]] += shift * values[e]


@inner
def _scale_rows(context):
    """Divide each row of the matrix of a context by its largest entry, and keep by what it was multiplied."""
    n, re, im, is_complex = context[N], as_doubles(context[RE]), as_doubles(context[IM]), context[IM] != 0
    scales = as_doubles(as_longs(context[MASS])[4])
    for i in range(n):
        largest = 0.0
        for j in range(n):
            largest = max(largest, abs(re[i * n + j]))
            if is_complex:
                largest = max(largest, abs(im[i * n + j]))
        scales[i] = 1.0 / largest if 0.0 < largest < np.inf else 1.0
        for j in range(n):
            re[i * n + j] *= scales[i]
            if is_complex:
                im[i * n + j] *= scales[i]


def factor(address):
    """Form and factor the shifted matrix of a context; return DONE or FAILED."""
    context = as_longs(address)
    n, control, pivots = context[N], as_control(context[STOP]), as_longs(context[PIVOTS])
    matrix, shift, re, im = (
        as_doubles(context[MATRIX]),
        as_doubles(context[SHIFT]),
        as_doubles(context[RE]),
        as_doubles(context[IM]),
    )
    control.fill = max(control.fill, n * n)
    if context[MATRIX] != 0:
        for i in range(n * n):
            re[i] = -matrix[i]
        _add_shift(context, shift[0], re)
    if context[IM] != 0:
        for i in range(n * n):
            im[i] = 0.0
        _add_shift(context, shift[1], im)
    if context[MASS] != 0:
        _scale_rows(context)
    if context[IM] != 0:
        return DONE if factor_complex(re, im, pivots, n, control) else FAILED
    if not factor_real(re, pivots, n, control):
        return FAILED
    odd = False
    for k in range(n):
        odd ^= (re[k * n + k] < 0.0) ^ (pivots[k] != k)
    context[SIGN] = -1 if odd else 1
    return DONE


def solve(address):
    """Solve with the factors of a context, in place; return DONE."""
    context = as_longs(address)
    n, pivots = context[N], as_longs(context[PIVOTS])
    re, im, b, d = as_doubles(context[RE]), as_doubles(context[IM]), as_doubles(context[B]), as_doubles(context[D])
    if context[MASS] != 0:
        scales = as_doubles(as_longs(context[MASS])[4])
        for i in range(n):
            b[i] *= scales[i]
            if context[IM] != 0:
                d[i] *= scales[i]
    if context[IM] != 0:
        solve_complex(re, im, pivots, n, b, d)
    else:
        solve_real(re, pivots, n, b)
    return DONE
