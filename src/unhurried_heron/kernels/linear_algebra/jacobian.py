"""The Jacobian of the rates: the user's or the symbolic one where there is one, differences else.

``work`` is any bundle with ``jacobian``, ``scale`` (n,), the allowed errors, and ``shifted`` (n,), scratch. Columns
that share no row are moved together: A. R. Curtis, M. J. D. Powell and J. K. Reid, J. Inst. Math. Appl. 13 (1974)
117-119.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import call_native
from unhurried_heron.kernels.memory.control import FOR_JACOBIAN
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import FRESH

# The spacing of doubles at one.
_EPSILON = 2.220446049250313e-16
# The least share of its absolute tolerance by which a state is moved: rounding of terms of about one is then four
# digits below the difference at a tolerance of 1e-10.
_SHARE = 1e-2


@inner
def find_jacobian(system, work, control):
    """Fill the Jacobian at the present time and state; return the code of the function called.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    return jacobian_at(system, work, control, control.time, system.state, system.rates_at_state)


@inner
def jacobian_at(system, work, control, time, state, rates):
    """Fill the Jacobian at a time and state with known rates; return the code of the function called.

    ``system.trial`` is written over.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    time : float
    state : float pointer, (n,)
    rates : float pointer, (n,)

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    control.jacobians += 1
    control.bad_time = time
    if system.operator != 0:
        work.jacobian[0] = time
        for k in range(system.n):
            work.jacobian[k + 1], work.jacobian[system.n + k + 1] = state[k], rates[k]
        return 1
    if system.jacobian != 0:
        function = (system.jacobian, system.jacobian_context)
        return derivatives_at(system, control, function, (time, state, rates), work.jacobian, system.n_entries)
    if system.n_groups > 0:
        return _by_groups(system, work, control, time, state, rates)
    return _by_columns(system, work, control, time, state, rates)


@inner
def derivatives_at(system, control, function, point, out, count):
    """Write derivatives of the rates at a point; where they have no bound there, those where the step leads.

    So a root whose argument has come to zero has one. ``system.trial`` is written over.

    Parameters
    ----------
    system : System
    control : CONTROL
    function : (int, int)
        Addresses of the function that gives the derivatives, and of its context.
    point : (float, float pointer, float pointer)
        The time, the state (n,), and the rates (n,) there.
    out : float pointer, (count,)
        Filled with the derivatives.
    count : int

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    (address, context), (time, state, rates) = function, point
    code = call_native(address, time, state, out, context)
    unbounded = 0
    for k in range(count):
        unbounded += not abs(out[k]) < np.inf
    if code != 1 or unbounded == 0:
        return code
    for k in range(system.n):
        system.trial[k] = state[k] + control.step * rates[k]
    return call_native(address, time + control.step, system.trial, out, context)


@inner
def jacobian_of_rates(system, work, control, scratch):
    """Find the Jacobian where ``system.rates_at_state`` are not the rates, but what was solved for; return the code.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    scratch : float pointer, (n,)
        For the rates themselves, from which differences must be taken.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    if system.jacobian != 0:
        return jacobian_at(system, work, control, control.time, system.state, system.rates_at_state)
    code = ask_rates(system, control, FOR_JACOBIAN, control.time, system.state, scratch)
    return jacobian_at(system, work, control, control.time, system.state, scratch) if code == 1 else code


@inner
def renew_jacobian(system, work, control):
    """Find the Jacobian at the start of the step if it is no longer trusted; return whether there is one.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL

    Returns
    -------
    bool
        False where a function stopped.
    """
    memory = implicit_memory(work.memory)
    if memory.jacobian_age == 0:
        if jacobian_of_rates(system, work, control, work.residual) != 1:
            return False
        memory.jacobian_age, memory.factored_step = FRESH, 0.0
    return True


@inner
def _moved(system, work, control, j, y, f):
    """Return component j, moved by what follows the size of the state and of its change in a step.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    j : int
        Index of the state.
    y : float pointer, (n,)
        The state.
    f : float pointer, (n,)
        The rates there.

    Returns
    -------
    float
    """
    move = control.step * f[j]
    size = max(abs(y[j]), max(abs(move), work.scale[j]))
    # beside the other terms of a sum, a small state would be moved by less than their rounding
    length = max(np.sqrt(_EPSILON) * size, _SHARE * system.absolute[j])
    return y[j] + np.copysign(length, move)


@inner
def _by_columns(system, work, control, time, y, f):
    """Forward differences, column by column.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    time : float
    y : float pointer, (n,)
        The state.
    f : float pointer, (n,)
        The rates there.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, trial, shifted = system.n, system.trial, work.shifted
    for k in range(n):
        trial[k] = y[k]
    for j in range(n):
        if control.stop != 0:
            return 1
        trial[j] = _moved(system, work, control, j, y, f)
        increment = trial[j] - y[j]
        code = ask_rates(system, control, FOR_JACOBIAN, time, trial, shifted)
        if code != 1:
            return code
        for i in range(n):
            work.jacobian[i * n + j] = (shifted[i] - f[i]) / increment
        trial[j] = y[j]
    return 1


@inner
def _by_groups(system, work, control, time, y, f):
    """Forward differences, a group of columns at a time.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    time : float
    y : float pointer, (n,)
        The state.
    f : float pointer, (n,)
        The rates there.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, trial, shifted = system.n, system.trial, work.shifted
    for group in range(system.n_groups):
        if control.stop != 0:
            return 1
        for j in range(n):
            trial[j] = _moved(system, work, control, j, y, f) if system.group[j] == group else y[j]
            system.increments[j] = trial[j] - y[j]
        code = ask_rates(system, control, FOR_JACOBIAN, time, trial, shifted)
        if code != 1:
            return code
        for e in range(system.n_entries):
            i, j = system.rows[e], system.columns[e]
            if system.group[j] == group:
                work.jacobian[system.jacobian_indices[e]] = (shifted[i] - f[i]) / system.increments[j]
    return 1
