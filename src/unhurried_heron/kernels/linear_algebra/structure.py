"""Matrices of which few entries are stored: shift*M - J is put together in the order of its storage.

A table of int64 numbers tells how: N_STORED, how many numbers are stored; for the entries of J in the order in which
they are stored the addresses of where each is taken from and stored, N_STORED behind the last; for those of M where
they are stored, likewise, and of its values; ORDER (n,), the unknown that stands in each row; ROWS, where rows are
scaled, of the row of each stored number, 0 otherwise; SCALES (n,), by which rows were multiplied; RIGHT and RIGHT_IM
(n + below + above,), a right-hand side in this order; of a band its widths BELOW and ABOVE the diagonal, and the
multipliers LOWER and LOWER_IM (n, below).
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.context import IM, MATRIX, RE, SHIFT, STRUCTURE, N
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs

(N_STORED, ENTRY_SOURCES, ENTRY_INDICES, MASS_INDICES, MASS_VALUES, ORDER, ROWS, SCALES, RIGHT, RIGHT_IM, BELOW, ABOVE,
 LOWER, LOWER_IM) = range(14)  # fmt: skip


@inner
def assemble(context):
    """Put shift*M - J of a context together in RE, and the imaginary part in IM where there is one.

    Rows are divided by their largest entries where `ROWS` tells which number is of which.
    """
    table = as_longs(context[STRUCTURE])
    sources, indices = as_longs(table[ENTRY_SOURCES]), as_longs(table[ENTRY_INDICES])
    values, shift = as_doubles(context[MATRIX]), as_doubles(context[SHIFT])
    of_mass, mass = as_longs(table[MASS_INDICES]), as_doubles(table[MASS_VALUES])
    re, im = as_doubles(context[RE]), as_doubles(context[IM])
    entry, of_rates = 0, 0
    for k in range(table[N_STORED]):
        total, weight = 0.0, 0.0
        while indices[entry] == k:
            total -= values[sources[entry]]
            entry += 1
        while of_mass[of_rates] == k:
            weight += mass[of_rates]
            of_rates += 1
        re[k] = total + shift[0] * weight
        if context[IM] != 0:
            im[k] = shift[1] * weight
    if table[ROWS] != 0:
        _scale_rows(context, table)


@inner
def _scale_rows(context, table):
    """Divide each row by its largest entry, and keep by what it was multiplied.

    Parameters
    ----------
    context : int64 pointer, (CONTEXT_SIZE,)
    table : int64 pointer
    """
    rows, scales = as_longs(table[ROWS]), as_doubles(table[SCALES])
    re, im, is_complex = as_doubles(context[RE]), as_doubles(context[IM]), context[IM] != 0
    for i in range(context[N]):
        scales[i] = 0.0
    for k in range(table[N_STORED]):
        scales[rows[k]] = max(scales[rows[k]], abs(re[k]))
        if is_complex:
            scales[rows[k]] = max(scales[rows[k]], abs(im[k]))
    for i in range(context[N]):
        scales[i] = 1.0 / scales[i] if 0.0 < scales[i] < np.inf else 1.0
    for k in range(table[N_STORED]):
        re[k] *= scales[rows[k]]
        if is_complex:
            im[k] *= scales[rows[k]]
