"""The linear and nonlinear systems of a fully implicit step.

The stage increments z = T w are found by simplified Newton iterations on the transformed increments w, for which
the s n unknowns fall apart into real and complex systems of n: E. Hairer and G. Wanner, *Solving Ordinary
Differential Equations II*, 2nd ed. (1996), section IV.8. Names follow that section.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.fully_implicit.work import GAMMA, BlockWork
from unhurried_heron.kernels.implicit.mass_matrix import subtract_mass, worst_missed
from unhurried_heron.kernels.implicit.newton import (
    MAX_ITERATIONS,
    MAX_ITERATIONS_FIXED,
    TOLERANCE,
    begin_iterations,
    is_rounding,
    judge,
    missed_at_rest,
    rounding_of,
)
from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import FOR_STAGES
from unhurried_heron.kernels.memory.decoding import decoder
from unhurried_heron.kernels.memory.implicit_records import DIVERGED, GOES_ON, NEWTON_LIMIT, STOPPED

block_work_in = decoder(BlockWork)

# Numbers of each row that are taken together, so that rows of large systems come from memory once: those of the widest
# method stay in the first cache.
_TOGETHER = 256


@inner
def form_and_factor(work, control, h):
    """Factor all blocks, and the filter where it is none of them; False if one is singular.

    Parameters
    ----------
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    bool
    """
    control.factorisations += 1
    if factor(work.factor, work.filter, work.limits[GAMMA] / h, 0.0) != DONE:
        return False
    # the first real block is the filter
    for j in range(1 if work.n_real > 0 else 0, work.n_real):
        if factor(work.factor, work.blocks[j], work.numbers[j] / h, 0.0) != DONE:
            return False
    for j in range(work.n_pairs):
        index = work.n_real + 2 * j
        re, im = work.numbers[index] / h, work.numbers[index + 1] / h
        if factor(work.factor, work.blocks[work.n_real + j], re, im) != DONE:
            return False
    return True


@inner
def combine(matrix, source, target, s, n):
    """Write the rows of a matrix (s, s) times rows of n numbers.

    Parameters
    ----------
    matrix : float pointer, (s, s)
    source : float pointer, (s, n)
    target : float pointer, (s, n)
        Filled with the result.
    s : int
        Rows.
    n : int
        Numbers of a row.
    """
    if n <= _TOGETHER:
        _combine_some(matrix, source, target, s, n, n)
    else:
        for first in range(0, n, _TOGETHER):
            count = min(_TOGETHER, n - first)
            _combine_some(matrix, offset_by(source, first), offset_by(target, first), s, n, count)


@inner
def _combine_some(matrix, source, target, s, n, count):
    """Write the numbers of the first columns (`combine`).

    Parameters
    ----------
    matrix : float pointer, (s, s)
    source : float pointer, (s, n)
    target : float pointer, (s, n)
        Filled with the result.
    s : int
        Rows.
    n : int
        Numbers from one row to the next.
    count : int
        Numbers of a row that are written.
    """
    for i in range(s):
        row, out = offset_by(matrix, i * s), offset_by(target, i * n)
        weight = row[0]
        for k in range(count):
            out[k] = weight * source[k]
        for j in range(1, s):
            weight, other = row[j], offset_by(source, j * n)
            for k in range(count):
                out[k] += weight * other[k]


@inner
def guess_increments(work, n, ratio):
    """Start the iteration from the polynomial of the step before, ``ratio`` times its length further on.

    Parameters
    ----------
    work : BlockWork
    n : int
        Number of states.
    ratio : float
        Length of the step over that of the step before.
    """
    s = work.stages
    for first in range(0, n, _TOGETHER):
        count, p = min(_TOGETHER, n - first), offset_by(work.p, first)
        for i in range(s):
            x, z = work.c[i] * ratio, offset_by(work.z, i * n + first)
            for k in range(count):
                value = p[(s - 1) * n + k]
                for d in range(s - 2, -1, -1):
                    value = value * x + p[d * n + k]
                z[k] = x * value
        _combine_some(work.u, offset_by(work.z, first), offset_by(work.w, first), s, n, count)


@inner
def all_stage_rates(system, work, control, h):
    """Write the rates at the stages to the rows of ``f``; return their code.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    code, n = 1, system.n
    for i in range(work.stages):
        z, out = offset_by(work.z, i * n), offset_by(work.f, i * n)
        # the last node of most methods is the end
        time = control.finish if work.c[i] == 1.0 else control.time + work.c[i] * h
        for k in range(n):
            system.trial[k] = system.state[k] + z[k]
        control.stage = i
        code = ask_rates(system, control, FOR_STAGES, time, system.trial, out)
        if code != 1:
            break
    return code


@inner
def _displacement(system, work, h):
    """Turn the rates into the Newton correction of w, in ``g``; return its size and what the equations miss.

    Both in units of the tolerance; of the equations the worst alone counts, 0 where the correction is rounding. The
    size is infinite where there is no solution.

    Parameters
    ----------
    system : System
    work : BlockWork
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (float, float)
    """
    s, n, miss, shift, solved = work.stages, system.n, 0.0, work.limits[GAMMA] / h, DONE
    combine(work.u, work.f, work.g, s, n)
    for j in range(work.n_real):
        a, g, w = work.numbers[j] / h, offset_by(work.g, j * n), offset_by(work.w, j * n)
        subtract_mass(system, a, w, g)
        miss = max(miss, worst_missed(system, work, g, shift))
        solved = min(solved, solve(work.solve, work.blocks[j], g, g, TOLERANCE))
    for j in range(work.n_pairs):
        index = work.n_real + 2 * j
        b, c = work.numbers[index] / h, work.numbers[index + 1] / h
        g, w = offset_by(work.g, index * n), offset_by(work.w, index * n)
        g_imaginary, w_imaginary = offset_by(g, n), offset_by(w, n)
        if system.n_mass == 0:
            for k in range(n):
                g[k] -= b * w[k] - c * w_imaginary[k]
                g_imaginary[k] -= c * w[k] + b * w_imaginary[k]
        else:
            subtract_mass(system, b, w, g)
            subtract_mass(system, -c, w_imaginary, g)
            subtract_mass(system, c, w, g_imaginary)
            subtract_mass(system, b, w_imaginary, g_imaginary)
        worst = worst_missed(system, work, g, shift), worst_missed(system, work, g_imaginary, shift)
        miss = max(miss, worst[0], worst[1])
        solved = min(solved, solve(work.solve, work.blocks[work.n_real + j], g, g_imaginary, TOLERANCE))
    total, rounding = 0.0, True
    for k in range(n):
        inverse = 1.0 / work.scale[k]
        for i in range(s):
            x = work.g[i * n + k]
            rounding = rounding and is_rounding(system, k, h, x, work.z[i * n + k])
            total += (x * inverse) ** 2
    return np.sqrt(total / (s * n)) if solved == DONE else np.inf, 0.0 if rounding else miss


@inner
def _correct(work, n):
    """Add the Newton correction to the increments."""
    s = work.stages
    if n <= _TOGETHER:
        for i in range(s * n):
            work.w[i] += work.g[i]
        _combine_some(work.t, work.w, work.z, s, n, n)
        return
    for first in range(0, n, _TOGETHER):
        count = min(_TOGETHER, n - first)
        for i in range(s):
            w, g = offset_by(work.w, i * n + first), offset_by(work.g, i * n + first)
            for k in range(count):
                w[k] += g[k]
        _combine_some(work.t, offset_by(work.w, first), offset_by(work.z, first), s, n, count)


@inner
def iterate(system, work, control, h):
    """Solve for the stage increments; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    n = system.n
    # the damped iteration, which is for fixed steps, needs full matrices
    patient = control.adaptive == 0 and work.insist == 0
    limits = (work.limits[NEWTON_LIMIT], MAX_ITERATIONS_FIXED if patient else MAX_ITERATIONS)
    missed = missed_at_rest(system, work, work.limits[GAMMA] / h)
    newton = begin_iterations(work, missed, rounding_of(system, control, limits[0]))
    outcome, count = GOES_ON, 0
    while outcome == GOES_ON:
        count += 1
        code = all_stage_rates(system, work, control, h)
        if code != 1:
            return (STOPPED if code < 1 else DIVERGED), count
        size, miss = _displacement(system, work, h)
        control.solves += 1
        control.iterations += 1
        outcome = judge(newton, count, size, miss, limits, control.adaptive == 1)
        if outcome != DIVERGED:
            _correct(work, n)
    return outcome, count
