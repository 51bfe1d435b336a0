"""In what units a step's errors are measured, and errors filtered by the factors at hand."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.calls import solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.machine_code.compiling import inner

# The relative error of an error that does no harm.
_TOLERANCE = 0.05


@inner
def set_scale(system, work, step):
    """Write the allowed error of each state to ``scale``.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    step : float pointer, (n,)
        A second state, the larger of which counts.
    """
    smallest = np.inf
    for k in range(system.n):
        work.scale[k] = system.absolute[k] + system.relative[k] * abs(system.state[k])
        smallest = min(smallest, work.scale[k])
    if smallest == 0.0:
        # The state is zero and has no absolute tolerance: it is held to its change in the step, or to that of
        # all states where it rests.
        change = 0.0
        for k in range(system.n):
            change = max(change, abs(step * system.rates_at_state[k]))
        for k in range(system.n):
            if work.scale[k] == 0.0:
                own = abs(step * system.rates_at_state[k])
                size = own if own > 0.0 else (change if change > 0.0 else 1.0)
                work.scale[k] = system.relative[k] * size


@inner
def size_in(values, units, n):
    """Return the root mean square of values, each in its own unit.

    Parameters
    ----------
    values : float pointer, (n,)
    units : float pointer, (n,)
    n : int
        Number of states.

    Returns
    -------
    float
    """
    total = 0.0
    for k in range(n):
        ratio = values[k] / units[k]
        total += ratio * ratio
    return np.sqrt(total / n)


@inner
def size_of(work, values, n):
    """Return the root mean square of values in units of the tolerance.

    Parameters
    ----------
    work : work space of an implicit family
    values : float pointer, (n,)
    n : int
        Number of states.

    Returns
    -------
    float
    """
    return size_in(values, work.scale, n)


@inner
def filtered_size(work, context, values, n):
    """Solve (shift*M - J) x = values in place and return the size of x in units of the tolerance, inf for no solution.

    Parameters
    ----------
    work : work space of an implicit family
    context : int
        Address of the context of the factors.
    values : float pointer, (n,)
    n : int
        Number of states.

    Returns
    -------
    float
    """
    if solve(work.solve, context, values, values, _TOLERANCE) != DONE:
        return np.inf
    return size_of(work, values, n)
