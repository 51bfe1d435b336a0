"""LU factors of banded matrices with partial pivoting, real and complex, row by row on raw pointers.

G. H. Golub and C. F. Van Loan, *Matrix Computations*, 4th ed. (2013), section 4.3. Row i is put together from column
i - below to i + above, with room for below more, which exchanged rows fill: entry (i, j) has the index
i*width + below + j - i; below more rows of zeros follow, so that loops over a row's neighbours are of one length. Large
systems wait for memory, so that the factors are kept apart: of column k the multipliers
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


def _real_factors(known):
    """Return what factors a real matrix whose band is ``known`` wide on either side (0: any band)."""

    @inner_fast_sums
    def factor_real(context, table):
        n, control, pivots = context[N], as_control(context[STOP]), as_longs(context[PIVOTS])
        below, above = (known, known) if known > 0 else (table[BELOW], table[ABOVE])
        a, lower = as_doubles(context[RE]), as_doubles(table[LOWER])
        width, reach = 2 * below + above + 1, below + above
        for k in range(n):
            if control.stop != 0:
                return False
            # row_k[i*(width - 1) + j] is the entry i rows below, in column k + j
            row_k = offset_by(a, k * width + below)
            best, size = 0, abs(row_k[0])
            for i in range(1, below + 1):
                here = abs(row_k[i * (width - 1)])
                if here > size:
                    best, size = i, here
            pivots[k] = k + best
            if not (0.0 < size < np.inf):
                return False
            if best != 0:
                other = offset_by(row_k, best * (width - 1))
                for j in range(reach + 1):
                    row_k[j], other[j] = other[j], row_k[j]
            inverse = 1.0 / row_k[0]
            for i in range(1, below + 1):
                row = offset_by(row_k, i * (width - 1))
                factor = row[0] * inverse
                lower[k * below + i - 1] = factor
                if known > 0 or factor != 0.0:
                    for j in range(1, reach + 1):
                        row[j] -= factor * row_k[j]
            upper = offset_by(a, k * (reach + 1))
            upper[0] = inverse
            for j in range(1, reach + 1):
                upper[j] = row_k[j]
        return True

    return factor_real


def _real_solution(known):
    """Return what solves with the factors of `_real_factors`, in place of the right-hand side."""

    @inner_fast_sums
    def solve_real(context, table):
        n, order, scales = context[N], as_longs(table[ORDER]), as_doubles(table[SCALES])
        below, above = (known, known) if known > 0 else (table[BELOW], table[ABOVE])
        upper, lower, pivots = as_doubles(context[RE]), as_doubles(table[LOWER]), as_longs(context[PIVOTS])
        b, x, reach = as_doubles(context[B]), as_doubles(table[RIGHT]), below + above
        for k in range(min(below, n)):
            x[k] = scales[k] * b[order[k]]
        for k in range(n):
            if k + below < n:
                x[k + below] = scales[k + below] * b[order[k + below]]
            p = pivots[k]
            if p != k:
                x[k], x[p] = x[p], x[k]
            top = x[k]
            for j in range(below):
                x[k + 1 + j] -= lower[k * below + j] * top
        for k in range(n, n + reach):
            x[k] = 0.0
        for i in range(n - 1, -1, -1):
            row = offset_by(upper, i * (reach + 1))
            total = x[i]
            for j in range(1, reach + 1):
                total -= row[j] * x[i + j]
            x[i] = total * row[0]
            b[order[i]] = x[i]

    return solve_real


def _complex_factors(known):
    """Return what factors a complex matrix whose band is ``known`` wide on either side (0: any band)."""

    @inner_fast_sums
    def eliminate(context, table, k):
        """Take a row from those below it that reach into its column, and keep the factors."""
        below, above = (known, known) if known > 0 else (table[BELOW], table[ABOVE])
        width, reach, re, im = 2 * below + above + 1, below + above, as_doubles(context[RE]), as_doubles(context[IM])
        lower_re, lower_im = as_doubles(table[LOWER]), as_doubles(table[LOWER_IM])
        re_k, im_k = offset_by(re, k * width + below), offset_by(im, k * width + below)
        square = re_k[0] * re_k[0] + im_k[0] * im_k[0]
        inverse_re, inverse_im = re_k[0] / square, -im_k[0] / square
        for i in range(1, below + 1):
            kept = k * below + i - 1
            re_i, im_i = offset_by(re_k, i * (width - 1)), offset_by(im_k, i * (width - 1))
            x, y = re_i[0], im_i[0]
            factor_re, factor_im = x * inverse_re - y * inverse_im, x * inverse_im + y * inverse_re
            lower_re[kept], lower_im[kept] = factor_re, factor_im
            if known > 0 or factor_re != 0.0 or factor_im != 0.0:
                for j in range(1, reach + 1):
                    re_i[j] -= factor_re * re_k[j] - factor_im * im_k[j]
                    im_i[j] -= factor_re * im_k[j] + factor_im * re_k[j]
        upper_re, upper_im = offset_by(re, k * (reach + 1)), offset_by(im, k * (reach + 1))
        upper_re[0], upper_im[0] = inverse_re, inverse_im
        for j in range(1, reach + 1):
            upper_re[j], upper_im[j] = re_k[j], im_k[j]

    @inner_fast_sums
    def factor_complex(context, table):
        n, control, pivots = context[N], as_control(context[STOP]), as_longs(context[PIVOTS])
        below, above = (known, known) if known > 0 else (table[BELOW], table[ABOVE])
        re, im = as_doubles(context[RE]), as_doubles(context[IM])
        width, reach = 2 * below + above + 1, below + above
        for k in range(n):
            if control.stop != 0:
                return False
            re_k, im_k = offset_by(re, k * width + below), offset_by(im, k * width + below)
            best, size = 0, abs(re_k[0]) + abs(im_k[0])
            for i in range(1, below + 1):
                here = abs(re_k[i * (width - 1)]) + abs(im_k[i * (width - 1)])
                if here > size:
                    best, size = i, here
            pivots[k] = k + best
            if not (0.0 < size < np.inf):
                return False
            if best != 0:
                re_b, im_b = offset_by(re_k, best * (width - 1)), offset_by(im_k, best * (width - 1))
                for j in range(reach + 1):
                    re_k[j], re_b[j] = re_b[j], re_k[j]
                    im_k[j], im_b[j] = im_b[j], im_k[j]
            eliminate(context, table, k)
        return True

    return factor_complex


def _complex_solution(known):
    """Return what solves with the factors of `_complex_factors`, in place of the right-hand side."""

    @inner_fast_sums
    def forwards(context, table):
        """Solve with the lower of two factors."""
        n, order, scales = context[N], as_longs(table[ORDER]), as_doubles(table[SCALES])
        below, b, d = known if known > 0 else table[BELOW], as_doubles(context[B]), as_doubles(context[D])
        pivots, lower_re, lower_im = as_longs(context[PIVOTS]), as_doubles(table[LOWER]), as_doubles(table[LOWER_IM])
        x, y = as_doubles(table[RIGHT]), as_doubles(table[RIGHT_IM])
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
            for j in range(below):
                x[k + 1 + j] -= of_re[j] * re - of_im[j] * im
                y[k + 1 + j] -= of_re[j] * im + of_im[j] * re

    @inner_fast_sums
    def solve_complex(context, table):
        n, order, x, y = context[N], as_longs(table[ORDER]), as_doubles(table[RIGHT]), as_doubles(table[RIGHT_IM])
        reach = 2 * known if known > 0 else table[BELOW] + table[ABOVE]
        b, d, upper_re, upper_im = (
            as_doubles(context[B]),
            as_doubles(context[D]),
            as_doubles(context[RE]),
            as_doubles(context[IM]),
        )
        forwards(context, table)
        for k in range(n, n + reach):
            x[k] = y[k] = 0.0
        for i in range(n - 1, -1, -1):
            re, im = offset_by(upper_re, i * (reach + 1)), offset_by(upper_im, i * (reach + 1))
            left, right = x[i], y[i]
            for j in range(1, reach + 1):
                left -= re[j] * x[i + j] - im[j] * y[i + j]
                right -= re[j] * y[i + j] + im[j] * x[i + j]
            x[i], y[i] = left * re[0] - right * im[0], left * im[0] + right * re[0]
            b[order[i]], d[order[i]] = x[i], y[i]

    return solve_complex


def _by_width(make):
    """Return what ``make`` makes for any band and for narrow ones, as one function that looks which.

    Where the widths are known, as on a line of one to three species, the compiler writes the loops out.
    """
    any_band, one, two, three = make(0), make(1), make(2), make(3)

    @inner
    def chosen(context, table):
        width = table[BELOW] if table[BELOW] == table[ABOVE] else 0
        if width == 1:
            return one(context, table)
        if width == 2:
            return two(context, table)
        if width == 3:
            return three(context, table)
        return any_band(context, table)

    return chosen


factor_real, factor_complex = _by_width(_real_factors), _by_width(_complex_factors)
solve_real, solve_complex = _by_width(_real_solution), _by_width(_complex_solution)


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
