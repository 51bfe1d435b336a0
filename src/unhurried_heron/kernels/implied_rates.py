"""Constraints solved in every stage, and rates of their algebraic states: half-explicit methods.

Where rates are asked for, algebraic states z are found first from the others, g(t, y, z) = 0. Theirs are the rates by
which the constraints stay met: along a solution 0 = dg/dt = g_t + g_y f + g_z z'. E. Hairer and G. Wanner, *Solving
Ordinary Differential Equations II*, 2nd ed. (1996), sections VI.1 and VI.6.

Of written equations the derivatives of g are formulas; of functions they are differences. Where Newton's corrections
are formulas, too, there is no matrix, and the rates of algebraic states are formulas like the others.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, call_native, offset_by

# The table: the time, addresses of state and rates, how many states and how many of them constraints tell, address and
# context of the functions of f with g in the place of z', of products of the Jacobian with a vector behind the state
# (0: by differences), of partial derivatives by the time (0: none) and of the entries of g_z; addresses of the indices
# of z, of the kernels that factor and solve and of their context, of the matrix that is factored and of scratch
# (6 n + n_entries); how many numbers the matrix has, how many entries there are, and where each of them goes; addresses
# of tolerances. For differences: one over what stands before y' (0 of constraints); how many groups of columns there
# are, and of which each is; row and column of each entry; between which times the function is asked.
(
    TIME, STATE, RATES, N, M, OF_RATES, RATES_CONTEXT, OF_PRODUCTS, PRODUCTS_CONTEXT, OF_TIME, TIME_CONTEXT, OF_ENTRIES,
    ENTRIES_CONTEXT, ALGEBRAIC, FACTOR, SOLVE, LINEAR, MATRIX, SCRATCH, N_MATRIX, N_ENTRIES, WHERE, RELATIVE, ABSOLUTE,
    INVERSE, N_GROUPS, GROUPS, ROWS, COLUMNS, LIMITS,
) = range(30)  # fmt: skip
# The table of formulas: as above up to the rates; the function of corrections and its context; addresses of the indices
# of z, of scratch (n + m) and of tolerances; whether one correction is enough.
(OF_CORRECTIONS, CORRECTIONS_CONTEXT, WHICH, WITHIN, RELATIVELY, ABSOLUTELY, LINEAR_IN_Z) = range(7, 14)
# The smallest divisor.
_LEAST = 1e-300
# The answer of a function of rates where all is well,
_FINE = 1
# and where the step is to be shortened.
_SHORTER = 2
# The relative error of a solution that does no harm.
_TOLERANCE = 1e-14
# Corrections of algebraic states below this share of their tolerances change no rates worth speaking of,
_HARDLY = 1e-3
# and below this share of the largest of them they are rounding.
_ROUNDING = 1e-15
# Corrections that no longer shrink are accepted up to this multiple of both.
_STAYS = 1e3
# Turns of Newton's method that find them near to where they are,
_TURNS = 10
# and from which on they factor anew, after the first.
_SLOW = 3
# The share of a state's size by which it is moved for a difference: about the cube root of the rounding unit.
_NUDGE = 6e-6
# The shortest difference in time, relative to it.
_SHORTEST = 1e-11


@inner
def _size(table, state, k):
    """Return the size of a state, below which its absolute tolerance counts.

    Parameters
    ----------
    table : int64 pointer
    state : float pointer, (n,)
    k : int

    Returns
    -------
    float
    """
    relative, absolute = as_doubles(table[RELATIVE])[k], as_doubles(table[ABSOLUTE])[k]
    size = max(abs(state[k]), absolute / relative if relative > 0.0 else 0.0)
    return size if size > 0.0 else 1.0


@inner
def _quotient(ahead, behind, here, step):
    """Return a derivative from values on both sides, or on one where the other has none.

    Parameters
    ----------
    ahead : float
    behind : float
    here : float
    step : float

    Returns
    -------
    float
    """
    found = (ahead - behind) / (2.0 * step)
    if found == found:
        return found
    found = (ahead - here) / step
    return found if found == found else (here - behind) / step


@inner
def _write_entries(table, time, state, here, entries):
    """Write the entries of g_z; return the code of the function called.

    Parameters
    ----------
    table : int64 pointer
    time : float
    state : float pointer, (n,)
    here : float pointer, (n,)
        f with g in the place of z'.
    entries : float pointer, (n_entries,)

    Returns
    -------
    int
    """
    if table[OF_ENTRIES] != 0:
        return call_native(table[OF_ENTRIES], time, state, entries, table[ENTRIES_CONTEXT])
    n, m, algebraic, groups = table[N], table[M], as_longs(table[ALGEBRAIC]), as_longs(table[GROUPS])
    rows, columns = as_longs(table[ROWS]), as_longs(table[COLUMNS])
    moved = offset_by(as_doubles(table[SCRATCH]), 2 * n)
    ahead, behind = offset_by(moved, n), offset_by(moved, 2 * n)
    for group in range(table[N_GROUPS]):
        for side in range(2):
            for k in range(n):
                moved[k] = state[k]
            for i in range(m):
                if groups[i] == group:
                    step = _NUDGE * _size(table, state, algebraic[i])
                    moved[algebraic[i]] += step if side == 0 else -step
            code = call_native(table[OF_RATES], time, moved, ahead if side == 0 else behind, table[RATES_CONTEXT])
            if code != _FINE:
                return code
        for e in range(table[N_ENTRIES]):
            if groups[columns[e]] == group:
                i, step = algebraic[rows[e]], _NUDGE * _size(table, state, algebraic[columns[e]])
                entries[e] = _quotient(ahead[i], behind[i], here[i], step)
    return _FINE


@inner
def _factor_entries(table, entries):
    """Factor the matrix of entries; return DONE, or FAILED where it is singular."""
    matrix, where = as_doubles(table[MATRIX]), as_longs(table[WHERE])
    for p in range(table[N_MATRIX]):
        matrix[p] = 0.0
    for e in range(table[N_ENTRIES]):
        matrix[where[e]] += entries[e]
    return factor(table[FACTOR], table[LINEAR], 0.0, 0.0)


@inner
def _meet_constraints(table, time, state, rates, entries, move):
    """Find the algebraic states of a state in place, and the rates there, with factors of g_z near by.

    Parameters
    ----------
    table : int64 pointer
    time : float
    state : float pointer, (n,)
    rates : float pointer, (n,)
        Filled with f, and g in the place of z'.
    entries : float pointer, (n_entries,)
        Scratch.
    move : float pointer, (m,)
        Scratch.

    Returns
    -------
    int
        The code of the function called, _SHORTER where there are none.
    """
    m, algebraic = table[M], as_longs(table[ALGEBRAIC])
    relative, absolute = as_doubles(table[RELATIVE]), as_doubles(table[ABSOLUTE])
    before = np.inf
    for turn in range(_TURNS):
        code = call_native(table[OF_RATES], time, state, rates, table[RATES_CONTEXT])
        if code != _FINE:
            return code
        if turn == 0 or turn >= _SLOW:
            code = _write_entries(table, time, state, rates, entries)
            if code != _FINE:
                return code
            if _factor_entries(table, entries) != DONE:
                return _SHORTER
        for i in range(m):
            move[i] = rates[algebraic[i]]
        if solve(table[SOLVE], table[LINEAR], move, move, _TOLERANCE) != DONE:
            return _SHORTER
        largest, size = 0.0, 0.0
        for i in range(m):
            largest = max(largest, abs(state[algebraic[i]]))
        for i in range(m):
            k = algebraic[i]
            allowed = _HARDLY * (relative[k] * abs(state[k]) + absolute[k]) + _ROUNDING * largest
            size = max(size, abs(move[i]) / max(allowed, _LEAST))
        if size <= 1.0 or (size > 0.5 * before and size <= _STAYS):
            return _FINE
        before = size
        for i in range(m):
            state[algebraic[i]] += move[i]
    return _SHORTER


@inner
def _change_by_formulas(table, time, state, rates, change):
    """Fill g_t + g_y f by formulas; return the code of the function called.

    Parameters
    ----------
    table : int64 pointer
    time : float
    state : float pointer, (n,)
        The place behind it takes f.
    rates : float pointer, (n,)
    change : float pointer, (m,)

    Returns
    -------
    int
    """
    n, algebraic = table[N], as_longs(table[ALGEBRAIC])
    found = offset_by(state, 2 * n)
    for k in range(n):
        state[n + k] = rates[k]
    code = call_native(table[OF_PRODUCTS], time, state, found, table[PRODUCTS_CONTEXT])
    if code != _FINE:
        return code
    for i in range(table[M]):
        change[i] = found[algebraic[i]]
    if table[OF_TIME] != 0:
        code = call_native(table[OF_TIME], time, state, found, table[TIME_CONTEXT])
        if code != _FINE:
            return code
        for i in range(table[M]):
            change[i] += found[algebraic[i]]
    return _FINE


@inner
def _change_by_differences(table, time, state, rates, here, change):
    """Fill g_t + g_y f by differences along the solution; return the code of the function called.

    They are central ones, and on one side where the other is beyond the times at which the function is asked.

    Parameters
    ----------
    table : int64 pointer
    time : float
    state : float pointer, (n,)
    rates : float pointer, (n,)
        f, and 0 in the place of z'.
    here : float pointer, (m,)
        g.
    change : float pointer, (m,)

    Returns
    -------
    int
    """
    n, algebraic, limits = table[N], as_longs(table[ALGEBRAIC]), as_doubles(table[LIMITS])
    moved = offset_by(state, 2 * n)
    ahead, behind = offset_by(moved, n), offset_by(moved, 2 * n)
    step = _NUDGE * (limits[1] - limits[0])
    for k in range(n):
        if rates[k] != 0.0:
            step = min(step, _NUDGE * _size(table, state, k) / abs(rates[k]))
    step = max(step, _SHORTEST * abs(time))
    first, second = 1.0, -1.0
    if time - step < limits[0]:
        second = 2.0
    elif time + step > limits[1]:
        first, second = -1.0, -2.0
    for side in range(2):
        by = step * (first if side == 0 else second)
        for k in range(n):
            moved[k] = state[k] + by * rates[k]
        code = call_native(table[OF_RATES], time + by, moved, ahead if side == 0 else behind, table[RATES_CONTEXT])
        if code != _FINE:
            return code
    for i in range(table[M]):
        one, other = ahead[algebraic[i]], behind[algebraic[i]]
        if second == -1.0:
            change[i] = _quotient(one, other, here[i], step)
        else:
            change[i] = (4.0 * one - other - 3.0 * here[i]) / (2.0 * first * step)
    return _FINE


def write(address):
    """Write the rates of all states; return the code of the function called, or _SHORTER where g_z is singular."""
    table, n = as_longs(address), as_longs(address)[N]
    time, given, rates = as_doubles(address)[TIME], as_doubles(table[STATE]), as_doubles(table[RATES])
    algebraic, m = as_longs(table[ALGEBRAIC]), table[M]
    state = as_doubles(table[SCRATCH])
    change, entries = offset_by(state, 5 * n), offset_by(state, 6 * n)
    for k in range(n):
        state[k] = given[k]
    code = _meet_constraints(table, time, state, rates, entries, change)
    if code != _FINE:
        return code
    if table[OF_PRODUCTS] != 0:
        for i in range(m):
            rates[algebraic[i]] = 0.0
        code = _change_by_formulas(table, time, state, rates, change)
    else:
        inverse, here = as_doubles(table[INVERSE]), offset_by(state, n)
        for i in range(m):
            here[i] = rates[algebraic[i]]
        for k in range(n):
            rates[k] *= inverse[k]
        code = _change_by_differences(table, time, state, rates, here, change)
    if code != _FINE:
        return code
    if solve(table[SOLVE], table[LINEAR], change, change, _TOLERANCE) != DONE:
        return _SHORTER
    for i in range(m):
        rates[algebraic[i]] = change[i]
    return _FINE


def constraints(address):
    """Write what is zero of a function, g, and the entries of g_z behind it; return the code of the function called."""
    table = as_longs(address)
    time, state, found = as_doubles(address)[TIME], as_doubles(table[STATE]), as_doubles(table[RATES])
    algebraic, here = as_longs(table[ALGEBRAIC]), as_doubles(table[SCRATCH])
    code = call_native(table[OF_RATES], time, state, here, table[RATES_CONTEXT])
    if code != _FINE:
        return code
    for i in range(table[M]):
        found[i] = here[algebraic[i]]
    return _write_entries(table, time, state, here, offset_by(found, table[M]))


def correct(address):
    """Write the rates of all states where corrections are formulas; return the code of the function called."""
    table = as_longs(address)
    n, m, time = table[N], table[M], as_doubles(address)[TIME]
    given, rates, algebraic = as_doubles(table[STATE]), as_doubles(table[RATES]), as_longs(table[WHICH])
    relative, absolute = as_doubles(table[RELATIVELY]), as_doubles(table[ABSOLUTELY])
    state = as_doubles(table[WITHIN])
    move = offset_by(state, n)
    for k in range(n):
        state[k] = given[k]
    before = 1.0 / _HARDLY
    for _ in range(_TURNS):
        code = call_native(table[OF_CORRECTIONS], time, state, move, table[CORRECTIONS_CONTEXT])
        if code != _FINE:
            return code
        largest, size = 0.0, 0.0
        for i in range(m):
            state[algebraic[i]] += move[i]
            largest = max(largest, abs(state[algebraic[i]]))
        for i in range(m):
            k = algebraic[i]
            allowed = _HARDLY * (relative[k] * abs(state[k]) + absolute[k]) + _ROUNDING * largest
            share = abs(move[i]) / max(allowed, _LEAST)
            # what is no number stays
            size = size if share <= size else share
        # each is smaller than the one before by what that was smaller, at least
        near = size * min(size / before, 1.0) <= 1.0 or (size > 0.5 * before and size <= _STAYS)
        if near or (table[LINEAR_IN_Z] != 0 and size < np.inf):
            return call_native(table[OF_RATES], time, state, rates, table[RATES_CONTEXT])
        before = size
    return _SHORTER
