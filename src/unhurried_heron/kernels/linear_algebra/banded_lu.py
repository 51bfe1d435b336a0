"""LU factors of banded matrices with partial pivoting, real and complex, row by row on raw pointers.

G. H. Golub and C. F. Van Loan, *Matrix Computations*, 4th ed. (2013), section 4.3. Row i is put together from column
i - below to i + above, with room for below more, which exchanged rows fill: entry (i, j) has the index
i*width + below + j - i. Large systems wait for memory, so that the factors are kept apart: of column k the multipliers
below the diagonal, of row k the inverse of the pivot and what follows it, in the place of what was put together.
Complex matrices are two real arrays.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import DONE, FAILED, IM, PIVOTS, RE, SIGN, STOP, STRUCTURE, B, D, N
from unhurried_heron.kernels.linear_algebra.structure import (
    ABOVE,
    BELOW,
    LOWER,
    LOWER_IM,
    ORDER,
    RIGHT,
    RIGHT_IM,
    SCALES,
    assemble,
)
from unhurried_heron.kernels.machine_code.compiling import inner, inner_fast_sums
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by


@inner_fast_sums
def factor_real(context, table):
    """Factor a banded matrix; False if it is singular or not finite, or the march was stopped.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
        The matrix stands in RE.
    table : int64 pointer
        Of `structure`.

    Returns
    -------
    bool
    """
    n, below, above, control = context[N], table[BELOW], table[ABOVE], as_control(context[STOP])
    a, pivots, lower = as_doubles(context[RE]), as_longs(context[PIVOTS]), as_doubles(table[LOWER])
    width, reach = 2 * below + above + 1, below + above
    for k in range(n):
        if control.stop != 0:
            return False
        # from here on row[j] is the entry in column k + j
        row_k = offset_by(a, k * width + below)
        last, length = min(k + below, n - 1), min(reach, n - 1 - k)
        best, size = k, abs(row_k[0])
        for i in range(k + 1, last + 1):
            here = abs(a[i * width + below + k - i])
            if here > size:
                best, size = i, here
        pivots[k] = best
        if not (0.0 < size < np.inf):
            return False
        if best != k:
            other = offset_by(a, best * width + below + k - best)
            for j in range(length + 1):
                row_k[j], other[j] = other[j], row_k[j]
        inverse = 1.0 / row_k[0]
        for i in range(k + 1, last + 1):
            row = offset_by(a, i * width + below + k - i)
            factor = row[0] * inverse
            lower[k * below + i - k - 1] = factor
            if factor != 0.0:
                for j in range(1, length + 1):
                    row[j] -= factor * row_k[j]
        upper = offset_by(a, k * (reach + 1))
        upper[0] = inverse
        for j in range(1, length + 1):
            upper[j] = row_k[j]
    return True


@inner_fast_sums
def solve_real(context, table):
    """Solve with the factors of `factor_real`, in place of the right-hand side.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `structure`.
    """
    n, below, above, order = context[N], table[BELOW], table[ABOVE], as_longs(table[ORDER])
    upper, lower, pivots = as_doubles(context[RE]), as_doubles(table[LOWER]), as_longs(context[PIVOTS])
    b, x, scales, reach = as_doubles(context[B]), as_doubles(table[RIGHT]), as_doubles(table[SCALES]), below + above
    for k in range(min(below, n)):
        x[k] = scales[k] * b[order[k]]
    for k in range(n):
        if k + below < n:
            x[k + below] = scales[k + below] * b[order[k + below]]
        p = pivots[k]
        if p != k:
            x[k], x[p] = x[p], x[k]
        top = x[k]
        for j in range(min(below, n - 1 - k)):
            x[k + 1 + j] -= lower[k * below + j] * top
    for i in range(n - 1, -1, -1):
        row = offset_by(upper, i * (reach + 1))
        total = x[i]
        for j in range(1, min(reach, n - 1 - i) + 1):
            total -= row[j] * x[i + j]
        x[i] = total * row[0]
        b[order[i]] = x[i]


@inner_fast_sums
def factor_complex(context, table):
    """Factor a complex banded matrix; False if it is singular or not finite, or the march was stopped.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
        The matrix stands in RE and IM.
    table : int64 pointer
        Of `structure`.

    Returns
    -------
    bool
    """
    n, below, above, control = context[N], table[BELOW], table[ABOVE], as_control(context[STOP])
    re, im, pivots = as_doubles(context[RE]), as_doubles(context[IM]), as_longs(context[PIVOTS])
    width, reach = 2 * below + above + 1, below + above
    for k in range(n):
        if control.stop != 0:
            return False
        re_k, im_k = offset_by(re, k * width + below), offset_by(im, k * width + below)
        last, length = min(k + below, n - 1), min(reach, n - 1 - k)
        best, size = k, abs(re_k[0]) + abs(im_k[0])
        for i in range(k + 1, last + 1):
            index = i * width + below + k - i
            here = abs(re[index]) + abs(im[index])
            if here > size:
                best, size = i, here
        pivots[k] = best
        if not (0.0 < size < np.inf):
            return False
        if best != k:
            index = best * width + below + k - best
            re_b, im_b = offset_by(re, index), offset_by(im, index)
            for j in range(length + 1):
                re_k[j], re_b[j] = re_b[j], re_k[j]
                im_k[j], im_b[j] = im_b[j], im_k[j]
        _eliminate(context, table, k, last, length)
    return True


@inner_fast_sums
def _eliminate(context, table, k, last, length):
    """Take a row from those below it that reach into its column, and keep the factors.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
    k : int
        The row.
    last : int
        The last row below it.
    length : int
        How many columns it has beyond the diagonal.
    """
    below, reach = table[BELOW], table[BELOW] + table[ABOVE]
    width, re, im = below + reach + 1, as_doubles(context[RE]), as_doubles(context[IM])
    lower_re, lower_im = as_doubles(table[LOWER]), as_doubles(table[LOWER_IM])
    re_k, im_k = offset_by(re, k * width + below), offset_by(im, k * width + below)
    square = re_k[0] * re_k[0] + im_k[0] * im_k[0]
    inverse_re, inverse_im = re_k[0] / square, -im_k[0] / square
    for i in range(k + 1, last + 1):
        index, kept = i * width + below + k - i, k * below + i - k - 1
        re_i, im_i = offset_by(re, index), offset_by(im, index)
        x, y = re_i[0], im_i[0]
        factor_re, factor_im = x * inverse_re - y * inverse_im, x * inverse_im + y * inverse_re
        lower_re[kept], lower_im[kept] = factor_re, factor_im
        if factor_re != 0.0 or factor_im != 0.0:
            for j in range(1, length + 1):
                re_i[j] -= factor_re * re_k[j] - factor_im * im_k[j]
                im_i[j] -= factor_re * im_k[j] + factor_im * re_k[j]
    upper_re, upper_im = offset_by(re, k * (reach + 1)), offset_by(im, k * (reach + 1))
    upper_re[0], upper_im[0] = inverse_re, inverse_im
    for j in range(1, length + 1):
        upper_re[j], upper_im[j] = re_k[j], im_k[j]


@inner_fast_sums
def _forwards(context, table):
    """Solve with the lower of two complex factors.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
    """
    n, below, order, scales = context[N], table[BELOW], as_longs(table[ORDER]), as_doubles(table[SCALES])
    pivots, lower_re, lower_im = as_longs(context[PIVOTS]), as_doubles(table[LOWER]), as_doubles(table[LOWER_IM])
    b, d, x, y = as_doubles(context[B]), as_doubles(context[D]), as_doubles(table[RIGHT]), as_doubles(table[RIGHT_IM])
    for k in range(min(below, n)):
        x[k], y[k] = scales[k] * b[order[k]], scales[k] * d[order[k]]
    for k in range(n):
        m = k + below
        if m < n:
            x[m], y[m] = scales[m] * b[order[m]], scales[m] * d[order[m]]
        p = pivots[k]
        if p != k:
            x[k], x[p] = x[p], x[k]
            y[k], y[p] = y[p], y[k]
        re, im, of_re, of_im = x[k], y[k], offset_by(lower_re, k * below), offset_by(lower_im, k * below)
        for j in range(min(below, n - 1 - k)):
            x[k + 1 + j] -= of_re[j] * re - of_im[j] * im
            y[k + 1 + j] -= of_re[j] * im + of_im[j] * re


@inner_fast_sums
def solve_complex(context, table):
    """Solve with the factors of `factor_complex`, in place of the right-hand side.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
        Of `structure`.
    """
    _forwards(context, table)
    n, order, reach = context[N], as_longs(table[ORDER]), table[BELOW] + table[ABOVE]
    b, d, x, y = as_doubles(context[B]), as_doubles(context[D]), as_doubles(table[RIGHT]), as_doubles(table[RIGHT_IM])
    upper_re, upper_im = as_doubles(context[RE]), as_doubles(context[IM])
    for i in range(n - 1, -1, -1):
        re, im = offset_by(upper_re, i * (reach + 1)), offset_by(upper_im, i * (reach + 1))
        left, right = x[i], y[i]
        for j in range(1, min(reach, n - 1 - i) + 1):
            left -= re[j] * x[i + j] - im[j] * y[i + j]
            right -= re[j] * y[i + j] + im[j] * x[i + j]
        x[i], y[i] = left * re[0] - right * im[0], left * im[0] + right * re[0]
        b[order[i]], d[order[i]] = x[i], y[i]


@inner
def _sign(context, table):
    """Return the sign of the determinant, from the pivots and the exchanges of rows."""
    upper, pivots = as_doubles(context[RE]), as_longs(context[PIVOTS])
    odd, width = False, table[BELOW] + table[ABOVE] + 1
    for k in range(context[N]):
        odd ^= (upper[k * width] < 0.0) ^ (pivots[k] != k)
    return -1 if odd else 1


def factor(address):
    """Form and factor the shifted matrix of a context; return DONE or FAILED."""
    context = as_longs(address)
    table = as_longs(context[STRUCTURE])
    control, kept = as_control(context[STOP]), context[N] * (2 * table[BELOW] + table[ABOVE] + 1)
    control.fill = max(control.fill, kept)
    assemble(context)
    if context[IM] != 0:
        return DONE if factor_complex(context, table) else FAILED
    if not factor_real(context, table):
        return FAILED
    context[SIGN] = _sign(context, table)
    return DONE


def solve(address):
    """Solve with the factors of a context, in place; return DONE."""
    context = as_longs(address)
    if context[IM] != 0:
        solve_complex(context, as_longs(context[STRUCTURE]))
    else:
        solve_real(context, as_longs(context[STRUCTURE]))
    return DONE
