"""States are kept where constraints, and their derivatives, put them: on a manifold to which the rates are tangent.

After each step the state is moved back by the shortest way, in units of its tolerances, so that nothing drifts: E.
Hairer, C. Lubich and G. Wanner, *Geometric Numerical Integration*, 2nd ed. (2006), section IV.4.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.locating import EPSILON
from unhurried_heron.kernels.memory.call import call_native, offset_by

# Turns of Newton's method, whose corrections end as rounding.
_TURNS = 20
# The answer where the formulas have no values.
NO_WAY = -1.0
# A move below this share of the tolerances changes no rates worth speaking of.
HARDLY = 1e-4
# A pivot below this share of its row says that a formula follows from others.
_FOLLOWS = 1e-13


@inner
def _solve_symmetric(matrix, right, m):
    """Solve a positive matrix in place by elimination; rows that follow from others are left out.

    Parameters
    ----------
    matrix : float pointer, (m, m)
        Written over.
    right : float pointer, (m,)
        Filled with the solution.
    m : int
    """
    for k in range(m):
        size = matrix[k * m + k]
        for j in range(k):
            if matrix[j * m + j] > 0.0:
                factor = matrix[k * m + j] / matrix[j * m + j]
                for i in range(j + 1, k + 1):
                    matrix[k * m + i] -= factor * matrix[i * m + j]
                right[k] -= factor * right[j]
        if not matrix[k * m + k] > _FOLLOWS * size:
            matrix[k * m + k] = 0.0
    for k in range(m - 1, -1, -1):
        if matrix[k * m + k] == 0.0:
            right[k] = 0.0
            continue
        for i in range(k + 1, m):
            right[k] -= matrix[i * m + k] * right[i]
        right[k] /= matrix[k * m + k]


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
def keep_on_manifold(system, control, time, state):
    """Move a state to where the formulas of the manifold are zero; return how far, in tolerances, or NO_WAY.

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
    values = system.manifold_work
    rows, matrix = offset_by(values, m), offset_by(values, m + m * n)
    far, before = 0.0, np.inf
    for _ in range(_TURNS):
        if call_native(system.manifold, time, state, values, system.manifold_context) != 1:
            return NO_WAY
        for i in range(m):
            for j in range(i + 1):
                total = 0.0
                for k in range(n):
                    if rows[i * n + k] != 0.0:
                        total += rows[i * n + k] * _weight(system, control, k, state) * rows[j * n + k]
                matrix[i * m + j] = total
        _solve_symmetric(matrix, values, m)
        size, small = 0.0, True
        for k in range(n):
            weight, move = _weight(system, control, k, state), 0.0
            for i in range(m):
                move += rows[i * n + k] * values[i]
            move *= weight
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
