"""The step polynomial of a fully implicit method, and its error between the steps.

A collocation polynomial p meets the rates at the nodes c, so its defect p' - h f(p) vanishes there. Let N be the
product of x - c_i, and d be h^(s+1) times the derivative of that order of the solution. A component that the rates
hardly pull back errs by d/s! times the integral of N: the quantity that the step's error estimate filters, so the
estimate corrects the polynomial for nothing. One that is pulled to a moving equilibrium follows it at the nodes
and errs between them by d/(s+1)! x N: nothing of that is in the estimate. It shows in how far the polynomial of the
step before, carried on, misses this one. Where that is not small, the defect at two points, filtered by the factors at
hand, measures both parts, and what it measures is taken away: the polynomial is then better by one order either way.
What is no collocation is measured alike, and not corrected.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.fully_implicit.newton import combine
from unhurried_heron.kernels.fully_implicit.work import AT_FIRST, AT_SECOND, FIRST, GAMMA, LARGEST, NODE_0, SECOND
from unhurried_heron.kernels.implicit.interpolation_error import write_defect
from unhurried_heron.kernels.implicit.scale import filtered_size
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import FOR_ESTIMATES

# the size where the rates cannot be had at a point of the polynomial: the step is halved
_OUTSIDE = 16.0


@inner
def write_polynomial(system, work, coefficients, corrected):
    """Write the step polynomial, corrected by the filtered error estimate where there is one.

    Parameters
    ----------
    system : System
    work : BlockWork
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    corrected : int
        1 where the error estimate is taken away.
    """
    n, s = system.n, work.stages
    combine(work.v, work.z, offset_by(coefficients, n), s, n)
    last = offset_by(coefficients, (s + 1) * n)
    for k in range(n):
        coefficients[k] = system.state[k]
        last[k] = 0.0
    if corrected and work.corrects == 1:
        share = work.limits[GAMMA] / work.limits[NODE_0]
        for d in range(s + 1):
            weight, out = share * work.free[d], offset_by(coefficients, (d + 1) * n)
            for k in range(n):
                out[k] += weight * work.estimate[k]


@inner
def keep_for_guess(system, work):
    """Keep the polynomial, shifted to the end of the step."""
    combine(work.v_end, work.z, work.p, work.stages, system.n)


@inner
def _nodal(weights, s, x):
    """Return x times the polynomial with these coefficients of 1, x, …, x^s.

    Parameters
    ----------
    weights : float pointer, (s + 1,)
    s : int
        The degree.
    x : float

    Returns
    -------
    float
    """
    value = weights[s]
    for d in range(s - 1, -1, -1):
        value = value * x + weights[d]
    return value * x


@inner
def foreseen_error(system, work, ratio):
    """Size of the error between the steps, from how far the polynomial of the step before misses this one.

    Parameters
    ----------
    system : System
    work : BlockWork
    ratio : float
        Length of the step over that of the step before.

    Returns
    -------
    float
        In tolerances.
    """
    n, s, x = system.n, work.stages, 1.0 + ratio
    pulled, free = _nodal(work.pulled, s, x), _nodal(work.free, s, x)
    share = work.limits[GAMMA] / work.limits[NODE_0] if work.corrects == 1 else 0.0
    power = ratio ** (s + 1)
    total = 0.0
    for k in range(n):
        foreseen = work.p[(s - 1) * n + k]
        for d in range(s - 2, -1, -1):
            foreseen = foreseen * ratio + work.p[d * n + k]
        missed = (work.moved[k] - ratio * foreseen) * power - share * work.estimate[k] * free
        error = missed / pulled * work.limits[LARGEST] / work.scale[k]
        total += error * error
    return np.sqrt(total / n)


@inner
def _filtered_defect(system, work, control, coefficients, theta, out):
    """Write the filtered defect of the step polynomial at a point; return the code of the rates and its size.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    theta : float
        Position in the step, from 0 to 1.
    out : float pointer, (n,)
        Filled with the result.

    Returns
    -------
    (int, float)
        The code of the rates, and the size in tolerances.
    """
    n, h, degree = system.n, control.length, work.stages + 1
    evaluate_step(coefficients, degree, n, theta, system.trial)
    code = ask_rates(system, control, FOR_ESTIMATES, control.time + theta * h, system.trial, work.shifted)
    if code != 1:
        return code, _OUTSIDE
    write_defect(system, (coefficients, degree, h), theta, work.shifted, (out, system.trial))
    control.solves += 1
    return code, filtered_size(work, work.filter, out, n)


@inner
def measure_error(system, work, control, coefficients):
    """Measure the error of the step polynomial and take it away; return the code of the rates and the size.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.

    Returns
    -------
    (int, float)
        The code of the rates, and the size in tolerances.
    """
    n, limits = system.n, work.limits
    a, b = limits[FIRST], limits[SECOND]
    code, largest = 1, 0.0
    for i in range(2):
        out = work.d1 if i == 0 else work.d2
        code, size = _filtered_defect(system, work, control, coefficients, a if i == 0 else b, out)
        # A NaN must reach the caller, so it is compared first.
        largest = largest if size <= largest else size
        if code != 1:
            return code, size
    if work.corrects == 0:
        return code, largest
    for k in range(n):
        u, v = -work.d1[k] / limits[AT_FIRST], -work.d2[k] / limits[AT_SECOND]
        pulled = (u - v) / (a - b)
        # The corrected error replaces the values from which it is made.
        work.d1[k], work.d2[k] = pulled, limits[GAMMA] * (u - pulled * a)
    for d in range(work.stages + 1):
        out, second = offset_by(coefficients, (d + 1) * n), work.free[d]
        # The error is evaluated away from the end of the step only if the end is a node.
        first = work.pulled[d] if work.ends == 1 else 0.0
        for k in range(n):
            out[k] += first * work.d1[k] + second * work.d2[k]
    return code, largest
