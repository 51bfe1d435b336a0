"""The linear and nonlinear systems of a three-stage collocation step, with dense linear algebra.

The stage increments z = T w are found by simplified Newton iterations on the transformed increments w, for which
the 3 n unknowns fall apart into one real and one complex system of n: E. Hairer and G. Wanner, *Solving Ordinary
Differential Equations II*, 2nd ed. (1996), section IV.8. Names follow that section.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.collocation.constants import (
    ALPHA,
    BETA,
    C1,
    C2,
    GAMMA,
    NEWTON,
    T00,
    T01,
    T02,
    T10,
    T11,
    T12,
    T20,
    T21,
    T22,
    U00,
    U01,
    U02,
    U10,
    U11,
    U12,
    U20,
    U21,
    U22,
)
from unhurried_heron.kernels.implicit.newton import MOST_ITERATIONS, MOST_ITERATIONS_FIXED, begin_iterations, judge
from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.bundles import DIVERGED, GOES_ON, STOPPED
from unhurried_heron.kernels.memory.call import call_native
from unhurried_heron.kernels.memory.decoding import implicit_memory


@inner
def form_and_factor(method, work, control, h):
    """Factor gamma/h - J and (alpha + i beta)/h - J; False if one of them is singular."""
    memory = implicit_memory(work.memory)
    a, b, c = method[GAMMA] / h, method[ALPHA] / h, method[BETA] / h
    control.factorisations += 1
    memory.sign = factor(work.factor, work.real, a, 0.0)
    return memory.sign != 0 and factor(work.factor, work.complex, b, c) != 0


@inner
def guess_increments(method, work, n, ratio):
    """Start the iteration from the polynomial of the step before, ``ratio`` times its length further on."""
    x1, x2, x3 = method[C1] * ratio, method[C2] * ratio, ratio
    for k in range(n):
        p1, p2, p3 = work.p1[k], work.p2[k], work.p3[k]
        z1 = x1 * (p1 + x1 * (p2 + x1 * p3))
        z2 = x2 * (p1 + x2 * (p2 + x2 * p3))
        z3 = x3 * (p1 + x3 * (p2 + x3 * p3))
        work.z1[k], work.z2[k], work.z3[k] = z1, z2, z3
        work.w1[k] = method[U00] * z1 + method[U01] * z2 + method[U02] * z3
        work.w2[k] = method[U10] * z1 + method[U11] * z2 + method[U12] * z3
        work.w3[k] = method[U20] * z1 + method[U21] * z2 + method[U22] * z3


@inner
def all_stage_rates(system, method, work, control, h):
    """Write the rates at the three stages to g1, g2, g3; return the code of the rates."""
    code = 1
    for i in range(3):
        z = work.z1 if i == 0 else (work.z2 if i == 1 else work.z3)
        out = work.g1 if i == 0 else (work.g2 if i == 1 else work.g3)
        time = control.time + (h if i == 2 else method[C1 + i] * h)
        for k in range(system.n):
            system.trial[k] = system.state[k] + z[k]
        control.rate_evaluations += 1
        control.bad_time = time
        code = call_native(system.rates, time, system.trial, out, system.context)
        if code != 1:
            break
    return code


@inner
def _displacement(method, work, n, h):
    """Turn the rates in g1, g2, g3 into the Newton correction of w; return its size in units of the tolerance."""
    a, b, c = method[GAMMA] / h, method[ALPHA] / h, method[BETA] / h
    g1, g2, g3, w1, w2, w3 = work.g1, work.g2, work.g3, work.w1, work.w2, work.w3
    for k in range(n):
        f1, f2, f3 = g1[k], g2[k], g3[k]
        g1[k] = method[U00] * f1 + method[U01] * f2 + method[U02] * f3 - a * w1[k]
        g2[k] = method[U10] * f1 + method[U11] * f2 + method[U12] * f3 - (b * w2[k] - c * w3[k])
        g3[k] = method[U20] * f1 + method[U21] * f2 + method[U22] * f3 - (c * w2[k] + b * w3[k])
    solve(work.solve, work.real, g1, g1)
    solve(work.solve, work.complex, g2, g3)
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
        work.z1[k] = method[T00] * w1 + method[T01] * w2 + method[T02] * w3
        work.z2[k] = method[T10] * w1 + method[T11] * w2 + method[T12] * w3
        work.z3[k] = method[T20] * w1 + method[T21] * w2 + method[T22] * w3


@inner
def iterate(system, method, work, control, h):
    """Solve for the stage increments; return the outcome and the number of iterations."""
    limits = (method[NEWTON], MOST_ITERATIONS if control.adaptive == 1 else MOST_ITERATIONS_FIXED)
    newton = begin_iterations(work)
    outcome, count = GOES_ON, 0
    while outcome == GOES_ON:
        count += 1
        code = all_stage_rates(system, method, work, control, h)
        if code != 1:
            return (STOPPED if code < 1 else DIVERGED), count
        size = _displacement(method, work, system.n, h)
        control.solves += 1
        control.iterations += 1
        outcome = judge(newton, count, size, limits, control.adaptive == 1)
        if outcome != DIVERGED:
            _correct(method, work, system.n)
    return outcome, count
