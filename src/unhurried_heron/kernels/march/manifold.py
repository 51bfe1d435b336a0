"""States are kept where constraints, and their derivatives, put them: on a manifold to which the rates are tangent.

After each step the state is moved back by the shortest way, in units of its tolerances, so that nothing drifts: E.
Hairer, C. Lubich and G. Wanner, *Geometric Numerical Integration*, 2nd ed. (2006), section IV.4.

Formula i is number ``manifold_order[i]`` of what the native function writes. Its derivatives are the numbers from
``manifold_rows[i]`` on, in ``manifold_columns``; entry e belongs to number ``manifold_numbers[e]``, those without a
column to the last. Row i of the matrix of the corrections has entries from column ``manifold_first[i]`` on, column j
at ``manifold_begins[i] + j``.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.locating import EPSILON
from unhurried_heron.kernels.memory.call import call_native, offset_by
from unhurried_heron.kernels.memory.control import NOT_FINITE, RATES_STOPPED, REACHED_END

# Turns of Newton's method, whose corrections end as rounding.
_TURNS = 20
# The answer where the formulas have no values,
NO_WAY = -1.0
# and where a function stopped.
STOPPED = -2.0
# A move below this share of the tolerances changes no rates worth speaking of.
HARDLY = 1e-4
# A pivot below this share of its row says that a formula follows from others.
_FOLLOWS = 1e-13


@inner
def _solve_symmetric(system, matrix, right):
    """Solve a positive matrix in place by elimination; rows that follow from others are left out.

    Parameters
    ----------
    system : System
    matrix : float pointer
        Its rows from their first entry to the diagonal; written over.
    right : float pointer, (n_manifold,)
        Filled with the solution.
    """
    first, begins, m = system.manifold_first, system.manifold_begins, system.n_manifold
    for k in range(m):
        row = begins[k]
        size = matrix[row + k]
        for j in range(first[k], k):
            pivot = matrix[begins[j] + j]
            if pivot > 0.0 and matrix[row + j] != 0.0:
                factor = matrix[row + j] / pivot
                for i in range(j + 1, k + 1):
                    if first[i] <= j:
                        matrix[row + i] -= factor * matrix[begins[i] + j]
                right[k] -= factor * right[j]
        if not matrix[row + k] > _FOLLOWS * size:
            matrix[row + k] = 0.0
    for k in range(m - 1, -1, -1):
        row = begins[k]
        if matrix[row + k] == 0.0:
            right[k] = 0.0
            continue
        right[k] /= matrix[row + k]
        for j in range(first[k], k):
            right[j] -= matrix[row + j] * right[k]


@inner
def _weight(system, control, k, state):
    """Return the square of what counts as one in a state: its tolerance, where there is one.

    Parameters
    ----------
    system : System
    control : CONTROL
    k : int
    state : float pointer, (n,)

    Returns
    -------
    float
    """
    if control.adaptive == 0:
        return 1.0
    size = system.relative[k] * abs(state[k]) + system.absolute[k]
    return size * size


@inner
def _matrix_of_corrections(system, control, state, derivatives, row, matrix):
    """Fill the products of the derivatives of the formulas with each other, weighted by what counts as one.

    Parameters
    ----------
    system : System
    control : CONTROL
    state : float pointer, (n,)
    derivatives : float pointer
    row : float pointer, (n,)
        Scratch, zero on entry and in the end.
    matrix : float pointer
    """
    rows, columns = system.manifold_rows, system.manifold_columns
    for i in range(system.n_manifold):
        for p in range(rows[i], rows[i + 1]):
            k = columns[p]
            row[k] = derivatives[p] * _weight(system, control, k, state)
        for j in range(system.manifold_first[i], i + 1):
            total = 0.0
            for p in range(rows[j], rows[j + 1]):
                total += row[columns[p]] * derivatives[p]
            matrix[system.manifold_begins[i] + j] = total
        for p in range(rows[i], rows[i + 1]):
            row[columns[p]] = 0.0


@inner
def stay_on_manifold(system, control, time, state):
    """Move a state to where the formulas of the manifold are zero; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    control : CONTROL
    time : float
    state : float pointer, (n,)
        Changed in place.

    Returns
    -------
    int
        REACHED_END, NOT_FINITE or RATES_STOPPED.
    """
    if system.n_manifold == 0:
        return REACHED_END
    far = keep_on_manifold(system, control, time, state)
    if far == STOPPED:
        return RATES_STOPPED
    return NOT_FINITE if far == NO_WAY else REACHED_END


@inner
def keep_on_manifold(system, control, time, state):
    """Move a state to where the formulas of the manifold are zero; return how far, in tolerances, NO_WAY or STOPPED.

    Parameters
    ----------
    system : System
    control : CONTROL
    time : float
    state : float pointer, (n,)
        Changed in place.

    Returns
    -------
    float
    """
    m, n = system.n_manifold, system.n
    rows, columns = system.manifold_rows, system.manifold_columns
    values = system.manifold_work
    entries = offset_by(values, m)
    derivatives = offset_by(entries, system.n_manifold_entries)
    right = offset_by(derivatives, rows[m] + 1)
    moves, matrix = offset_by(right, m), offset_by(right, m + n)
    far, before = 0.0, np.inf
    for _ in range(_TURNS):
        code = call_native(system.manifold, time, state, values, system.manifold_context)
        if code != 1:
            control.bad_time = time
            return NO_WAY if code > 0 else STOPPED
        for p in range(rows[m] + 1):
            derivatives[p] = 0.0
        for e in range(system.n_manifold_entries):
            derivatives[system.manifold_numbers[e]] += entries[e]
        for i in range(m):
            right[i] = values[system.manifold_order[i]]
        for k in range(n):
            moves[k] = 0.0
        _matrix_of_corrections(system, control, state, derivatives, moves, matrix)
        _solve_symmetric(system, matrix, right)
        for i in range(m):
            for p in range(rows[i], rows[i + 1]):
                moves[columns[p]] += derivatives[p] * right[i]
        size, small = 0.0, True
        for k in range(n):
            weight = _weight(system, control, k, state)
            move = weight * moves[k]
            if not abs(move) < np.inf:
                return NO_WAY
            if move != 0.0:
                size = max(size, abs(move) / np.sqrt(weight))
                small = small and abs(move) <= EPSILON * abs(state[k])
                state[k] -= move
        far = max(far, size)
        if small or (size > 0.5 * before and size <= HARDLY):
            return far
        before = size
    return far if before <= HARDLY else NO_WAY
