"""What iterations on a matrix of few entries work on: a table of int64 numbers, addresses but for the counts.

The matrix, row by row: where the numbers of row i begin (STARTS, int64 (n + 1,)), and the column of each (COLUMNS).
The preconditioner, likewise: FACTOR_STARTS, FACTOR_COLUMNS, the index of each diagonal (DIAGONALS), which number of the
matrix stands there, -1 for none (FACTOR_SOURCES), its values (FACTORS), and the index of each column of the row at hand
(INDEX (n,), -1 where there is none).

UNITS (n,), in which unknowns are measured; BASIS (LARGEST + 1, n), the Krylov space; HESSENBERG (LARGEST, LARGEST + 1),
column by column; ROTATIONS (4, LARGEST + 1): cosines, sines, right-hand side and solution of the small system; FOUND
and PRODUCT (n,), vectors. LARGEST, the number of vectors of a basis; RESTARTS, how often one is begun; ITERATIONS,
counted.
"""

from __future__ import annotations

(STARTS, COLUMNS, FACTOR_STARTS, FACTOR_COLUMNS, DIAGONALS, FACTOR_SOURCES, FACTORS, INDEX, UNITS, BASIS, HESSENBERG,
 ROTATIONS, FOUND, PRODUCT, LARGEST, RESTARTS, ITERATIONS) = range(17)  # fmt: skip
