"""The linear and nonlinear systems of a three-stage collocation step, with dense linear algebra.

The stage increments z = T w are found by simplified Newton iterations on the transformed increments w, for which
the 3 n unknowns fall apart into one real and one complex system of n: E. Hairer and G. Wanner, *Solving Ordinary
Differential Equations II*, 2nd ed. (1996), section IV.8. Names follow that section.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.call import call_native
from unhurried_heron.kernels.compiling import inner
from unhurried_heron.kernels.dense_lu import factor_complex, factor_real, solve_complex, solve_real

_EPSILON = 2.220446049250313e-16
MOST_ITERATIONS = 8
CONVERGED, DIVERGED, STOPPED = 1, 0, -1


@inner
def find_jacobian(system, work, control):
    """Fill the Jacobian at the present time and state; return the code of the function called."""
    control.jacobians += 1
    control.bad_time = control.time
    if system.jacobian != 0:
        return call_native(
            system.jacobian, control.time, system.state, work.jacobian, system.jacobian_context
        )
    return _difference_jacobian(system, work, control)


@inner
def _difference_jacobian(system, work, control):
    """Forward differences, column by column; increments follow the size of the state and of its change in a step."""
    n, y, f, shifted = system.n, system.state, work.rates, work.g3
    for k in range(n):
        work.trial[k] = y[k]
    for j in range(n):
        move = control.step * f[j]
        size = max(abs(y[j]), max(abs(move), work.scale[j]))
        work.trial[j] = y[j] + np.copysign(np.sqrt(_EPSILON) * size, move)
        increment = work.trial[j] - y[j]
        control.rate_evaluations += 1
        code = call_native(system.rates, control.time, work.trial, shifted, system.context)
        if code != 1:
            return code
        for i in range(n):
            work.jacobian[i * n + j] = (shifted[i] - f[i]) / increment
        work.trial[j] = y[j]
    return 1


@inner
def form_and_factor(method, work, control, n, h):
    """Factor gamma/h - J and (alpha + i beta)/h - J; False if one of them is singular."""
    a, b, c = method.gamma / h, method.alpha / h, method.beta / h
    for i in range(n * n):
        work.real[i] = work.re[i] = -work.jacobian[i]
        work.im[i] = 0.0
    for i in range(n):
        work.real[i * n + i] += a
        work.re[i * n + i] += b
        work.im[i * n + i] = c
    control.factorisations += 1
    return factor_real(work.real, work.pivots, n) and factor_complex(work.re, work.im, work.pivots_complex, n)


@inner
def guess_increments(method, work, n, ratio):
    """Start the iteration from the polynomial of the step before, ``ratio`` times its length further on."""
    x1, x2, x3 = method.c1 * ratio, method.c2 * ratio, ratio
    for k in range(n):
        p1, p2, p3 = work.p1[k], work.p2[k], work.p3[k]
        z1 = x1 * (p1 + x1 * (p2 + x1 * p3))
        z2 = x2 * (p1 + x2 * (p2 + x2 * p3))
        z3 = x3 * (p1 + x3 * (p2 + x3 * p3))
        work.z1[k], work.z2[k], work.z3[k] = z1, z2, z3
        work.w1[k] = method.u00 * z1 + method.u01 * z2 + method.u02 * z3
        work.w2[k] = method.u10 * z1 + method.u11 * z2 + method.u12 * z3
        work.w3[k] = method.u20 * z1 + method.u21 * z2 + method.u22 * z3


@inner
def _stage_rates(system, method, work, control, h):
    """Fill g1, g2, g3 with the rates at the three stages; return the code of the rates."""
    n, y, trial = system.n, system.state, work.trial
    for stage in range(3):
        if stage == 0:
            z, g, node = work.z1, work.g1, method.c1
        elif stage == 1:
            z, g, node = work.z2, work.g2, method.c2
        else:
            z, g, node = work.z3, work.g3, 1.0
        for k in range(n):
            trial[k] = y[k] + z[k]
        control.rate_evaluations += 1
        code = call_native(system.rates, control.time + node * h, trial, g, system.context)
        if code != 1:
            control.bad_time = control.time + node * h
            return code
    return 1


@inner
def _displacement(method, work, n, h):
    """Turn the rates in g1, g2, g3 into the Newton correction of w; return its size in units of the tolerance."""
    a, b, c = method.gamma / h, method.alpha / h, method.beta / h
    g1, g2, g3, w1, w2, w3 = work.g1, work.g2, work.g3, work.w1, work.w2, work.w3
    for k in range(n):
        f1, f2, f3 = g1[k], g2[k], g3[k]
        g1[k] = method.u00 * f1 + method.u01 * f2 + method.u02 * f3 - a * w1[k]
        g2[k] = method.u10 * f1 + method.u11 * f2 + method.u12 * f3 - (b * w2[k] - c * w3[k])
        g3[k] = method.u20 * f1 + method.u21 * f2 + method.u22 * f3 - (c * w2[k] + b * w3[k])
    solve_real(work.real, work.pivots, n, g1)
    solve_complex(work.re, work.im, work.pivots_complex, n, g2, g3)
    total = 0.0
    for k in range(n):
        inverse = 1.0 / work.scale[k]
        x1, x2, x3 = g1[k] * inverse, g2[k] * inverse, g3[k] * inverse
        total += x1 * x1 + x2 * x2 + x3 * x3
    return np.sqrt(total / (3 * n))


@inner
def _correct(method, work, n):
    """Add the correction to w and bring z up to date."""
    for k in range(n):
        w1, w2, w3 = work.w1[k] + work.g1[k], work.w2[k] + work.g2[k], work.w3[k] + work.g3[k]
        work.w1[k], work.w2[k], work.w3[k] = w1, w2, w3
        work.z1[k] = method.t00 * w1 + method.t01 * w2 + method.t02 * w3
        work.z2[k] = method.t10 * w1 + method.t11 * w2 + method.t12 * w3
        work.z3[k] = method.t20 * w1 + method.t21 * w2 + method.t22 * w3


@inner
def iterate(system, method, work, control, h, threshold):
    """Solve for the stage increments.

    Returns the outcome, the number of iterations, the observed rate of contraction, and by which factor the step
    should shrink if the iteration diverged.
    """
    n = system.n
    factor = max(control.contraction, _EPSILON) ** 0.8
    theta, before, shrink = 0.0, 0.0, 0.5
    for count in range(1, MOST_ITERATIONS + 1):
        code = _stage_rates(system, method, work, control, h)
        if code < 1:
            return STOPPED, count, theta, shrink
        if code > 1:
            return DIVERGED, count, theta, shrink
        size = _displacement(method, work, n, h)
        control.solves += 1
        control.iterations += 1
        if not (size < 1e300):
            return DIVERGED, count, theta, shrink
        if count > 1:
            ratio = size / before
            theta = ratio if count == 2 else np.sqrt(ratio * theta)
            # at rounding level the corrections no longer contract; there is nothing left to gain
            if theta >= 0.99:
                return (CONVERGED if size <= threshold else DIVERGED), count, theta, shrink
            factor = theta / (1.0 - theta)
            left = MOST_ITERATIONS - count
            foreseen = factor * size * theta**left / threshold
            if foreseen >= 1.0 and factor * size > threshold:
                shrink = 0.8 * min(max(foreseen, 1e-4), 20.0) ** (-1.0 / (4.0 + left))
                return DIVERGED, count, theta, shrink
        before = max(size, 1e-300)
        _correct(method, work, n)
        if factor * size <= threshold:
            control.contraction = factor
            return CONVERGED, count, theta, shrink
    return DIVERGED, MOST_ITERATIONS, theta, shrink
