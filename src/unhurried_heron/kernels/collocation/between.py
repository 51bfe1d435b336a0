"""The step polynomial of a three-stage collocation method, and its error between the steps.

The collocation polynomial p meets the rates at the nodes c, so its defect p' - h f(p) vanishes there. Let
N = (x - c1) (x - c2) (x - 1), and let d be h^4 times the fourth derivative of the solution. A component that the rates
hardly pull back errs by d/6 times the integral of N: the quantity that the step's error estimate filters, so the
estimate corrects the polynomial for nothing. One that is pulled to a moving equilibrium follows it at the nodes
and errs between them by d/24 x N: nothing of that is in the estimate. It shows in how far the polynomial of the step
before, carried on, misses this one. Where that is not small, the defect at two points, filtered by the factors at hand,
measures both parts, and what it measures is taken away: the polynomial is then of local order five either way.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.collocation.constants import (
    GAMMA,
    LARGEST,
    S1,
    S2,
    S3,
    V00,
    V01,
    V02,
    V10,
    V11,
    V12,
    V20,
    V21,
    V22,
)
from unhurried_heron.kernels.linear_algebra.calls import solve
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.memory.call import call_native

# where the defect is looked at: the middles of the two arcs of x N, away from its zeros at the nodes
PLACE_1, PLACE_2 = 0.4, 0.85
# the size where the rates cannot be had at a point of the polynomial: the step is halved
_OUTSIDE = 16.0


@inner
def write_polynomial(system, method, work, coefficients, corrected):
    """Write the step polynomial, corrected by the filtered error estimate in g1 where there is one."""
    n = system.n
    s1, s2, s3 = method[S1], method[S2], method[S3]
    for k in range(n):
        z1, z2, z3 = work.z1[k], work.z2[k], work.z3[k]
        q = -method[GAMMA] / s3 * work.g1[k] if corrected else 0.0
        coefficients[k] = system.state[k]
        coefficients[n + k] = method[V00] * z1 + method[V01] * z2 + method[V02] * z3 - s3 * q
        coefficients[2 * n + k] = method[V10] * z1 + method[V11] * z2 + method[V12] * z3 + s2 / 2.0 * q
        coefficients[3 * n + k] = method[V20] * z1 + method[V21] * z2 + method[V22] * z3 - s1 / 3.0 * q
        coefficients[4 * n + k] = q / 4.0


@inner
def keep_for_guess(system, method, work):
    """Keep the collocation polynomial, shifted to the end of the step, and write the state there."""
    for k in range(system.n):
        z1, z2, z3 = work.z1[k], work.z2[k], work.z3[k]
        a1 = method[V00] * z1 + method[V01] * z2 + method[V02] * z3
        a2 = method[V10] * z1 + method[V11] * z2 + method[V12] * z3
        a3 = method[V20] * z1 + method[V21] * z2 + method[V22] * z3
        work.p1[k], work.p2[k], work.p3[k] = a1 + 2.0 * a2 + 3.0 * a3, a2 + 3.0 * a3, a3
        system.trial[k] = system.state[k] + z3


@inner
def foreseen_error(system, method, work, ratio):
    """Size of the error between the steps, from how far the polynomial of the step before misses this one."""
    n, x = system.n, 1.0 + ratio
    s1, s2, s3 = method[S1], method[S2], method[S3]
    pulled = x * (x * (x * (x - s1) + s2) - s3)
    free = x * (x * (x * (x / 4.0 - s1 / 3.0) + s2 / 2.0) - s3)
    power = ratio * ratio * ratio * ratio
    total = 0.0
    for k in range(n):
        foreseen = ratio * (work.p1[k] + ratio * (work.p2[k] + ratio * work.p3[k]))
        missed = (work.z3[k] - foreseen) * power + method[GAMMA] / s3 * work.g1[k] * free
        error = missed / pulled * method[LARGEST] / work.scale[k]
        total += error * error
    return np.sqrt(total / n)


@inner
def _filtered_defect(system, work, control, coefficients, h, theta, out):
    """Write the filtered defect of the step polynomial at a point; return the code of the rates and its size."""
    n = system.n
    evaluate_step(coefficients, 4, n, theta, system.trial)
    control.rate_evaluations += 1
    control.bad_time = control.time + theta * h
    code = call_native(system.rates, control.bad_time, system.trial, work.g2, system.context)
    if code != 1:
        return code, _OUTSIDE
    for k in range(n):
        slope = 4.0 * coefficients[4 * n + k]
        for d in range(3, 0, -1):
            slope = slope * theta + d * coefficients[d * n + k]
        out[k] = slope / h - work.g2[k]
    solve(work.solve, work.real, out, out)
    control.solves += 1
    total = 0.0
    for k in range(n):
        size = out[k] / work.scale[k]
        total += size * size
    return code, np.sqrt(total / n)


@inner
def measure_error(system, method, work, control, coefficients, h):
    """Measure the error of the step polynomial and take it away; return the code of the rates and the size."""
    n = system.n
    a, b = PLACE_1, PLACE_2
    code, largest = 1, 0.0
    for i in range(2):
        out = work.d1 if i == 0 else work.d2
        code, size = _filtered_defect(system, work, control, coefficients, h, a if i == 0 else b, out)
        # NaN must come through
        largest = largest if size <= largest else size
        if code != 1:
            return code, size
    s1, s2, s3 = method[S1], method[S2], method[S3]
    at_a, at_b = ((a - s1) * a + s2) * a - s3, ((b - s1) * b + s2) * b - s3
    for k in range(n):
        u, v = -work.d1[k] / at_a, -work.d2[k] / at_b
        pulled = (u - v) / (a - b)
        free = method[GAMMA] * (u - pulled * a)
        coefficients[n + k] -= s3 * (free + pulled)
        coefficients[2 * n + k] += s2 * (free / 2.0 + pulled)
        coefficients[3 * n + k] -= s1 * (free / 3.0 + pulled)
        coefficients[4 * n + k] += free / 4.0 + pulled
    return code, largest
