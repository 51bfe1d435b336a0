"""The stages of a diagonally implicit step, solved one after another."""

from __future__ import annotations

from unhurried_heron.kernels.implicit.damped_newton import solve_stage_damped
from unhurried_heron.kernels.implicit.newton import solve_stage
from unhurried_heron.kernels.implicit.prediction import came_true, start_from
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import (
    FOR_STAGES,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, NEWTON_LIMIT, OLD, STOPPED

# Beyond this multiple of the length of the step before, the polynomial of that step is not used as a guess.
_FURTHEST = 4.0


@inner
def _begin_stage(system, work, i, h):
    """Write what is known of a stage to ``base``.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    i : int
        Index of the stage.
    h : float
        Length of the step, negative backwards.
    """
    n, s = system.n, work.stages
    for k in range(n):
        work.base[k] = 0.0
    for j in range(i):
        weight = work.a[i * s + j]
        if weight != 0.0:
            stage_rates = offset_by(work.k, j * n)
            for k in range(n):
                work.base[k] += weight * stage_rates[k]
    for k in range(n):
        work.base[k] = system.state[k] + h * work.base[k]


@inner
def _guess(system, work, i, h):
    """Start the iteration from the polynomial of the step before, or from the rates of the stage before.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    i : int
        Index of the stage.
    h : float
        Length of the step, negative backwards.
    """
    n, memory = system.n, implicit_memory(work.memory)
    ratio = 0.0 if memory.previous_step == 0.0 else h / memory.previous_step
    if 0.0 < ratio <= _FURTHEST:
        evaluate_step(work.p, work.degree, n, 1.0 + ratio * work.c[i], work.z)
        for k in range(n):
            work.z[k] -= work.base[k]
    else:
        stage_rates = system.rates_at_state if i == 0 else offset_by(work.k, (i - 1) * n)
        for k in range(n):
            work.z[k] = h * work.a[i * work.stages + i] * stage_rates[k]


@inner
def _solve(system, work, control, i, h):
    """Solve a stage and write its rates; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL
    i : int
        Index of the stage.
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    n, time = system.n, control.time + work.c[i] * h
    stage_rates, memory = offset_by(work.k, i * n), implicit_memory(work.memory)
    control.stage = i
    if work.contexts[i] == 0:
        for k in range(n):
            system.trial[k] = work.base[k]
        code = ask_rates(system, control, FOR_STAGES, time, system.trial, stage_rates)
        return (CONVERGED if code == 1 else (STOPPED if code < 1 else DIVERGED)), 0
    shift = 1.0 / (h * work.a[i * work.stages + i])
    _guess(system, work, i, h)
    trusted, limit = start_from(work, control, n), work.limits[NEWTON_LIMIT]
    outcome, count = solve_stage(system, work, control, work.contexts[i], time, shift, limit)
    if outcome == CONVERGED and control.adaptive == 0 and not came_true(work, n, n) and trusted:
        for k in range(n):
            work.z[k] = 0.0
        outcome, more = solve_stage(system, work, control, work.contexts[i], time, shift, limit)
        count += more
    if outcome == DIVERGED and control.adaptive == 0 and memory.jacobian_age != OLD:
        # a fixed step cannot be shortened
        outcome, more = solve_stage_damped(system, work, control, work.contexts[i], time, shift, limit)
        count += more
        memory.foreseen = 0
        memory.jacobian_age = 0
    for k in range(n):
        stage_rates[k] = work.z[k] * shift
    return outcome, count


@inner
def all_stages(system, work, control, h):
    """Find all stages; return the outcome and the number of iterations.

    Parameters
    ----------
    system : System
    work : DiagonalWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    n, total, first = system.n, 0, 0
    memory = implicit_memory(work.memory)
    memory.foreseen = 1
    if work.known == 1:
        first = 1
        for k in range(n):
            work.k[k] = system.rates_at_state[k]
    for i in range(first, work.stages):
        _begin_stage(system, work, i, h)
        outcome, count = _solve(system, work, control, i, h)
        total += count
        if outcome != CONVERGED:
            return outcome, total
    memory.trusted = memory.foreseen
    return CONVERGED, total
