"""The stages of a diagonally implicit step, solved one after another."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.damped_newton import solve_stage_damped
from unhurried_heron.kernels.implicit.newton import missed_at_rest, solve_part
from unhurried_heron.kernels.implicit.prediction import came_true, start_from
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.march.rates import ask_part
from unhurried_heron.kernels.memory.call import offset_by
from unhurried_heron.kernels.memory.control import (
    FOR_STAGES,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, NEWTON_LIMIT, OLD, STOPPED

# Beyond this multiple of the length of the step before, the polynomial of that step is not used as a guess.
_FURTHEST = 4.0


@inner
def _add(stage_rates, weight, total, n):
    """Add a weight times the rates of a stage.

    Parameters
    ----------
    stage_rates : float pointer, (n,)
    weight : float
    total : float pointer, (n,)
    n : int
        Number of states.
    """
    for k in range(n):
        total[k] += weight * stage_rates[k]


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
        if work.additive == 1:
            # both parts go with the explicit coefficients, and the implicit one with what its own have more
            apart, weight = weight - work.a_explicit[i * s + j], work.a_explicit[i * s + j]
            _add(offset_by(work.k_implicit, j * n), apart, work.base, n)
        if weight != 0.0:
            _add(offset_by(work.k, j * n), weight, work.base, n)
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
        known = work.k if work.additive == 0 else work.k_implicit
        stage_rates = system.rates_at_state if i == 0 else offset_by(known, (i - 1) * n)
        for k in range(n):
            work.z[k] = h * work.a[i * work.stages + i] * stage_rates[k]


@inner
def _solve(system, work, control, i, h):
    """Solve a stage, of an additive method for the implicit part, and write its rates.

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
    n, time, memory = system.n, control.time + work.c[i] * h, implicit_memory(work.memory)
    control.stage = i
    rates, context, solved = system.rates, system.context, offset_by(work.k, i * n)
    if work.additive == 1:
        rates, context, solved = work.implicit, work.implicit_context, offset_by(work.k_implicit, i * n)
    if work.contexts[i] == 0:
        for k in range(n):
            system.trial[k] = work.base[k]
        code = ask_part((rates, context), control, FOR_STAGES, time, system.trial, solved)
        return (CONVERGED if code == 1 else (STOPPED if code < 1 else DIVERGED)), 0
    shift = 1.0 / (h * work.a[i * work.stages + i])
    _guess(system, work, i, h)
    trusted, limit = start_from(work, control, n), work.limits[NEWTON_LIMIT]
    stage, at_rest = (work.contexts[i], time, shift), np.inf
    if work.additive == 0:
        at_rest = missed_at_rest(system, work, shift)
    outcome, count = solve_part(system, work, control, (rates, context), at_rest, stage, limit)
    if outcome == CONVERGED and control.adaptive == 0 and not came_true(work, n, n) and trusted:
        for k in range(n):
            work.z[k] = 0.0
        outcome, more = solve_part(system, work, control, (rates, context), at_rest, stage, limit)
        count += more
    if outcome == DIVERGED and control.adaptive == 0 and memory.jacobian_age != OLD:
        # a fixed step cannot be shortened
        outcome, more = solve_stage_damped(system, work, control, (rates, context), stage, limit)
        count += more
        memory.foreseen = 0
        memory.jacobian_age = 0
    for k in range(n):
        solved[k] = work.z[k] * shift
    return outcome, count


@inner
def _add_explicit(system, work, control, i, h):
    """Write the rates of a stage of an additive method, whose implicit part is solved for; return the outcome.

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
    int
        CONVERGED, DIVERGED or STOPPED.
    """
    n, both = system.n, offset_by(work.k, i * system.n)
    if i == 0:
        for k in range(n):
            both[k] = system.rates_at_state[k]
        return CONVERGED
    part, time = (work.explicit, work.explicit_context), control.time + work.c[i] * h
    code = ask_part(part, control, FOR_STAGES, time, system.trial, both)
    _add(offset_by(work.k_implicit, i * n), 1.0, both, n)
    return CONVERGED if code == 1 else (STOPPED if code < 1 else DIVERGED)


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
        if work.additive == 1 and outcome == CONVERGED:
            outcome = _add_explicit(system, work, control, i, h)
        if outcome != CONVERGED:
            return outcome, total
    memory.trusted = memory.foreseen
    return CONVERGED, total
