"""How many numbers the factors of a symmetric pattern hold, before they are made.

J. W. H. Liu, SIAM J. Matrix Anal. Appl. 11 (1990) 134-172: row i of the lower factor is a part of the elimination tree,
which is found on the way.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs

N_ROWS, ROW_STARTS, ROW_COLUMNS, PARENTS, MARKS, COUNTS, LIMIT, OPERATIONS = range(8)


@inner
def _row(table, i):
    """Return how many numbers row i has before its diagonal, after adding what it does to the tree and the columns.

    Parameters
    ----------
    table : int64 pointer
    i : int

    Returns
    -------
    int
    """
    starts, columns, parents = as_longs(table[ROW_STARTS]), as_longs(table[ROW_COLUMNS]), as_longs(table[PARENTS])
    marks, counts, found = as_longs(table[MARKS]), as_longs(table[COUNTS]), 0
    parents[i], marks[i], counts[i] = -1, i, 1
    for k in range(starts[i], starts[i + 1]):
        j = columns[k]
        while j < i and marks[j] != i:
            if parents[j] < 0:
                parents[j] = i
            counts[j] += 1
            found += 1
            marks[j] = i
            j = parents[j]
    return found


def count(address):
    """Return the numbers of the lower factor, more than the limit where it is given up.

    Parameters
    ----------
    address : int
        Of a table: N_ROWS; addresses of where rows begin and of their columns, int64; of three int64 arrays (n,) to
        work on; LIMIT; the address of a float that takes the sum of squares of the columns' counts, half of the
        operations of a factorisation.

    Returns
    -------
    int
    """
    table = as_longs(address)
    n, fill, total = table[N_ROWS], table[N_ROWS], 0.0
    for i in range(n):
        fill += _row(table, i)
        if fill > table[LIMIT]:
            return fill
    counts = as_longs(table[COUNTS])
    for i in range(n):
        total += float(counts[i]) * float(counts[i])
    as_doubles(table[OPERATIONS])[0] = total
    return fill
