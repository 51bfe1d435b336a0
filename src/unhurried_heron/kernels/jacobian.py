"""The Jacobian of the rates: the user's or the symbolic one where there is one, differences else.

``work`` is any bundle with ``jacobian`` (n, n), ``scale`` (n,), the allowed errors, and ``shifted`` (n,), scratch.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.call import call_native
from unhurried_heron.kernels.compiling import inner

_EPSILON = 2.220446049250313e-16


@inner
def find_jacobian(system, work, control):
    """Fill the Jacobian at the present time and state; return the code of the function called."""
    return jacobian_at(system, work, control, control.time, system.state, system.slope)


@inner
def jacobian_at(system, work, control, time, state, rates):
    """Fill the Jacobian at a time and state with known rates; return the code of the function called.

    Differences write over ``system.trial``.
    """
    control.jacobians += 1
    control.bad_time = time
    if system.jacobian != 0:
        return call_native(system.jacobian, time, state, work.jacobian, system.jacobian_context)
    return _difference_jacobian(system, work, control, time, state, rates)


@inner
def _difference_jacobian(system, work, control, time, y, f):
    """Forward differences, column by column; increments follow the size of the state and of its change in a step."""
    n, trial, shifted = system.n, system.trial, work.shifted
    for k in range(n):
        trial[k] = y[k]
    for j in range(n):
        if control.stop != 0:
            return 1
        move = control.step * f[j]
        size = max(abs(y[j]), max(abs(move), work.scale[j]))
        trial[j] = y[j] + np.copysign(np.sqrt(_EPSILON) * size, move)
        increment = trial[j] - y[j]
        control.rate_evaluations += 1
        code = call_native(system.rates, time, trial, shifted, system.context)
        if code != 1:
            return code
        for i in range(n):
            work.jacobian[i * n + j] = (shifted[i] - f[i]) / increment
        trial[j] = y[j]
    return 1
