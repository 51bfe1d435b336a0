"""Places in the int64 table that tells the linear algebra on what it works.

Addresses but for N, the order. STOP: of the march's control record, polled during long work. MATRIX (n, n): J in
(shift*M - J), 0 where the matrix stands in RE already. SHIFT (3,): real and imaginary part, and the tolerance of a
solution. RE, IM (n, n): the factors, IM 0 where the shift is real. PIVOTS int64 (n,). B, D (n,): real and imaginary
part of the right-hand side, overwritten by the solution. SIGN: no address, but the sign of the determinant of a real
matrix that was factored, UNKNOWN where the kind of linear algebra does not tell. MASS: of a table of M in
(shift*M - J), 0 for the identity: how many entries, addresses of their int64 rows and columns and of their values, and
of scales (n,) by which rows are multiplied before they are factored, for those without an entry of M are in no unit of
the others. STRUCTURE: of a table that tells how a matrix with few entries is stored (`structure`). ITERATION: of one
that iterations need (`iteration`).
"""

from __future__ import annotations

from typing import Final

N, STOP, MATRIX, SHIFT, RE, IM, PIVOTS, B, D, SIGN, MASS, STRUCTURE, ITERATION = range(13)
# How many int64 numbers a context has.
CONTEXT_SIZE: Final = 13
# What linear algebra answers: it is done,
DONE: Final = 1
# or not: the matrix is singular, or the solution misses its tolerance.
FAILED: Final = 0
# The sign of a determinant that nothing tells.
UNKNOWN: Final = 0
