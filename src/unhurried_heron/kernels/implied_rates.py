"""Rates of states and of algebraic states: theirs are those by which the constraints stay met.

Along a solution 0 = dg/dt = g_t + g_y f + g_z z', which is solved for z': E. Hairer and G. Wanner, *Solving Ordinary
Differential Equations II*, 2nd ed. (1996), section VI.1.
"""

from __future__ import annotations

from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, call_native, offset_by

# The answer of a function of rates where all is well,
_FINE = 1
# and where the step is to be shortened.
_SHORTER = 2
# The relative error of a solution that does no harm.
_TOLERANCE = 1e-14


def write(address):
    """Write the rates of all states; return the code of the function called, or _SHORTER where g_z is singular.

    The table: the time, addresses of state and rates, how many states and how many of them constraints tell, address
    and context of the functions of f with g in the place of z', of products of the Jacobian with a vector behind the
    state, of partial derivatives by the time (0: none) and of the entries of g_z; addresses of the indices of z, of the
    kernels that factor and solve and of their context, of the matrix that is factored and of scratch (3 n + n_entries);
    how many numbers the matrix has, how many entries there are, and the address of where each of them goes.
    """
    table, n = as_longs(address), as_longs(address)[3]
    time, state, rates = as_doubles(address)[0], as_doubles(table[1]), as_doubles(table[2])
    algebraic, matrix, where = as_longs(table[13]), as_doubles(table[17]), as_longs(table[21])
    code = call_native(table[5], time, state, rates, table[6])
    if code != _FINE:
        return code
    beside = as_doubles(table[18])
    moved, entries = offset_by(beside, 2 * n), offset_by(beside, 3 * n)
    for k in range(n):
        beside[k], beside[n + k] = state[k], rates[k]
    for i in range(table[4]):
        beside[n + algebraic[i]] = 0.0
    code = call_native(table[7], time, beside, moved, table[8])
    if code != _FINE:
        return code
    for i in range(table[4]):
        rates[algebraic[i]] = moved[algebraic[i]]
    if table[9] != 0:
        code = call_native(table[9], time, state, moved, table[10])
        if code != _FINE:
            return code
        for i in range(table[4]):
            rates[algebraic[i]] += moved[algebraic[i]]
    code = call_native(table[11], time, state, entries, table[12])
    if code != _FINE:
        return code
    for p in range(table[19]):
        matrix[p] = 0.0
    for e in range(table[20]):
        matrix[where[e]] += entries[e]
    if factor(table[14], table[16], 0.0, 0.0) != DONE:
        return _SHORTER
    for i in range(table[4]):
        moved[i] = rates[algebraic[i]]
    if solve(table[15], table[16], moved, moved, _TOLERANCE) != DONE:
        return _SHORTER
    for i in range(table[4]):
        rates[algebraic[i]] = moved[i]
    return _FINE
