"""Places in the int64 table that tells the linear algebra on what it works.

Addresses but for N, the order. STOP: of the march's control record, polled during long work. MATRIX (n, n): J in
(shift - J), 0 where the matrix stands in RE already. SHIFT (2,): real and imaginary part. RE, IM (n, n): the factors,
IM 0 where the shift is real. PIVOTS int64 (n,). B, D (n,): real and imaginary part of the right-hand side, overwritten
by the solution.
"""

from __future__ import annotations

from typing import Final

N, STOP, MATRIX, SHIFT, RE, IM, PIVOTS, B, D = range(9)
# How many int64 numbers a context has.
CONTEXT_SIZE: Final = 9
