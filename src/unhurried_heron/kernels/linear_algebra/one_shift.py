"""Newton's method for one implicit stage, y = base + h gamma f(t, y), with factors of 1/(h gamma) - J.

``work`` is any bundle with ``factor``, ``solve`` and ``real``, addresses of the linear algebra and of a context with a
real shift (`linear`), and with ``base``, ``z``, ``residual`` and ``scale`` (n,): the stage is base + z, and
corrections are measured in units of ``scale``. E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*,
2nd ed. (1996), section IV.8.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.bundles import CONVERGED, DIVERGED, STOPPED
from unhurried_heron.kernels.memory.call import call_native


@inner
def factor_for(work, control, shift):
    """Factor shift - J; False where that is singular."""
    control.factorisations += 1
    return factor(work.factor, work.real, shift, 0.0) != 0


@inner
def solve_stage(system, work, control, time, shift, limits):
    """Iterate on ``z`` from what it holds; ``system.trial`` is the stage and ``residual`` the last correction.

    ``limits``: the largest error of the iteration, in units of the tolerance, and the most iterations. Returns the
    outcome and the number of iterations.
    """
    n, before, rest = system.n, 0.0, np.inf
    threshold, most = limits
    for count in range(1, most + 1):
        for k in range(n):
            system.trial[k] = work.base[k] + work.z[k]
        control.rate_evaluations += 1
        control.bad_time = time
        code = call_native(system.rates, time, system.trial, work.residual, system.context)
        if code < 1:
            return STOPPED, count
        if code > 1:
            return DIVERGED, count
        for k in range(n):
            work.residual[k] -= shift * work.z[k]
        solve(work.solve, work.real, work.residual, work.residual)
        control.solves += 1
        control.iterations += 1
        size = 0.0
        for k in range(n):
            work.z[k] += work.residual[k]
            ratio = work.residual[k] / work.scale[k]
            size += ratio * ratio
        size = np.sqrt(size / n)
        if not size < 1e300:
            return DIVERGED, count
        if count > 1:
            theta = size / before
            # at rounding level the corrections no longer contract
            if theta >= 1.0:
                return (CONVERGED if size <= threshold else DIVERGED), count
            rest = theta / (1.0 - theta)
        if size == 0.0 or rest * size <= threshold:
            for k in range(n):
                system.trial[k] = work.base[k] + work.z[k]
            return CONVERGED, count
        before = size
    return DIVERGED, most
