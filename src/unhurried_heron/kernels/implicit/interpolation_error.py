"""The error of a step polynomial between the ends of its step.

A component that follows a moving equilibrium is right at the stages and may be wrong between them, and nothing of that
is in an error estimate for the end of the step. It shows in how far the polynomial of the step before, carried on,
misses this one; where that is not small, the defect of the polynomial, filtered by the factors at hand, measures it.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.mass_matrix import subtract_mass
from unhurried_heron.kernels.implicit.scale import filtered_size
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import first_not_finite
from unhurried_heron.kernels.march.polynomial import derive_step, evaluate_step
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import as_doubles
from unhurried_heron.kernels.memory.control import ACCEPTED, FOR_ESTIMATES, RATES_STOPPED, REFUSED
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import BETWEEN, DIVERGED

# Where the defect is evaluated at first, as a share of the step,
_FIRST = 0.35
# and then.
_SECOND = 0.75
# the size where the rates cannot be had at a point of the polynomial: the step is halved
_OUTSIDE = 16.0


@inner
def _foreseen(system, work, h):
    """Size of the error between the steps, in units of the tolerance, foreseen from the step before.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    float
        Infinite where there was no step before.
    """
    memory = implicit_memory(work.memory)
    if memory.previous_step == 0.0:
        return np.inf
    n, x = system.n, 1.0 + h / memory.previous_step
    evaluate_step(work.p, work.degree, n, x, work.defect)
    # what grows as theta^d (theta - 1) beyond the step is largest within it at d/(d + 1)
    d = work.degree
    within = (d / (d + 1.0)) ** d / (d + 1.0)
    beyond = x**d * (x - 1.0) / (x - 1.0) ** (d + 1)
    total = 0.0
    for k in range(n):
        error = (system.trial[k] - work.defect[k]) * within / beyond / work.scale[k]
        total += error * error
    return np.sqrt(total / n)


@inner
def write_defect(system, step, theta, rates, arrays):
    """Write by how much M times the derivative of a step polynomial misses the rates there.

    Parameters
    ----------
    system : System
    step : (float pointer, int, float)
        The step polynomial by powers of theta, (degree + 1, n), its degree, and the length of the step.
    theta : float
        Position in the step, from 0 to 1.
    rates : float pointer, (n,)
        At theta.
    arrays : (float pointer, float pointer)
        The result (n,), which may be ``rates``, and scratch (n,).
    """
    (coefficients, degree, h), (out, derivatives) = step, arrays
    derive_step(coefficients, degree, system.n, theta, derivatives)
    for k in range(system.n):
        derivatives[k] /= h
        out[k] = -rates[k]
    subtract_mass(system, -1.0, derivatives, out)


@inner
def _measured(system, work, control, context):
    """Return the code of the rates, and the error between the steps in units of the tolerance, by the defect.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the factors.

    Returns
    -------
    (int, float)
    """
    n, h, degree, largest = system.n, control.length, work.degree, 0.0
    coefficients = as_doubles(control.polynomial_address)
    for turn in range(2):
        theta = _FIRST if turn == 0 else _SECOND
        evaluate_step(coefficients, degree, n, theta, work.shifted)
        code = ask_rates(system, control, FOR_ESTIMATES, control.time + theta * h, work.shifted, work.residual)
        if code != 1:
            return code, _OUTSIDE
        step = (coefficients, degree, h)
        write_defect(system, step, theta, work.residual, (work.residual, work.defect))
        size = filtered_size(work, context, work.residual, n)
        control.solves += 1
        # A NaN must reach the caller, so it is compared first.
        largest = largest if size <= largest else size
    return 1, largest


@inner
def judge(system, work, control, error, context):
    """Answer a solved step whose polynomial is written and whose error at the end is known; keep it if it is good.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    error : float
        In tolerances; 0 at fixed steps.
    context : int
        Address of the context of the factors that filter the defect.

    Returns
    -------
    int
        ACCEPTED, REFUSED or RATES_STOPPED.
    """
    memory, coefficients = implicit_memory(work.memory), as_doubles(control.polynomial_address)
    if control.adaptive == 1:
        if error < 1.0:
            between = _foreseen(system, work, control.length)
            if not between <= work.limits[BETWEEN]:
                code, between = _measured(system, work, control, context)
                if code < 1:
                    return RATES_STOPPED
            between /= work.limits[BETWEEN]
            # NaN compares false, and must come through
            error = between if not between <= error else error
        control.error = error
    memory.error = error
    if first_not_finite(system.trial, system.trial, system.n) >= 0:
        memory.outcome = DIVERGED
        return REFUSED
    if not error < 1.0:
        return REFUSED
    for i in range((work.degree + 1) * system.n):
        work.p[i] = coefficients[i]
    return ACCEPTED


@inner
def write_movement(work, n, out):
    """Write how far each state moved in the step that was kept.

    Parameters
    ----------
    work : work space of an implicit family
    n : int
        Number of states.
    out : float pointer, (n,)
        Filled with the result.
    """
    for k in range(n):
        out[k] = work.p[n + k]
        for d in range(2, work.degree + 1):
            out[k] += work.p[d * n + k]
