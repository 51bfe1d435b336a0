"""Stabilised methods: as many stages as the fastest decay asks for, by the recurrence of Chebyshev's T or by another.

P. J. van der Houwen and B. P. Sommeijer, Z. Angew. Math. Mech. 60 (1980) 479-485. The largest eigenvalue is estimated
by the power method on differences of the rates.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.controller import factor_after_acceptance, factor_after_refusal, forget
from unhurried_heron.kernels.march.outcome import first_not_finite, not_finite, tried_again
from unhurried_heron.kernels.march.polynomial import cubic_terms
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.march.spectral_radius import fill_with_every_mode, find_radius
from unhurried_heron.kernels.memory.call import as_doubles, as_record, offset_by
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    FOR_STAGES,
    PAUSED,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
)
from unhurried_heron.kernels.memory.decoding import decoder
from unhurried_heron.kernels.orthogonal_stages import describe_by_stages, index_for, march_by_recurrence
from unhurried_heron.kernels.stabilised_work import STRETCH, StabilisedWork
from unhurried_heron.methods.stabilised import DAMPING, MAX_STAGES, MIN_STAGES

work_in, stretch_in = decoder(StabilisedWork), as_record(STRETCH)

_HUGE = 1e300  # squared errors above this, and NaN, count as "not finite"
# The power method approaches the largest eigenvalue from below. Where iterations change it by less than a share, it
# is enlarged by this factor: with this value it missed by less than a tenth on rods and squares of all sizes, and on
# nine of ten random matrices. The direction is kept, so that later estimates begin where this one ended.
_MARGIN = 1.1
# An eigenvalue is trusted until steps have cost this multiple of what it cost.
_SHARE = 20
# a little less than 2/3 (1 - 2/15 damping), by which the stable interval grows with the square of the stages
_REACH = 0.65
# The share of the longest step that is taken.
_WITHIN = 0.999
# outcomes of an attempt besides the codes of the rates: more stages than there are
_TOO_LONG = -9


@inner
def _look(system, work, control):
    """Estimate the largest eigenvalue; False where the rates stopped.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    bool
    """
    stretch = stretch_in(work.stretch)
    radius, cost, fine = find_radius(system, control, work.direction, work.stage, work.end)
    stretch.cost, stretch.spent = 1 + cost, 0
    if fine:
        stretch.radius = radius
    return fine


@inner
def _derivatives(count, w0):
    """Return the first, second and third derivative of the Chebyshev polynomial at w0."""
    t_0, d_0, e_0, f_0 = 1.0, 0.0, 0.0, 0.0
    t, d, e, f = w0, 1.0, 0.0, 0.0
    for _ in range(count - 1):
        t, t_0, d, d_0, e, e_0, f, f_0 = (
            2.0 * w0 * t - t_0,
            t,
            2.0 * w0 * d + 2.0 * t - d_0,
            d,
            2.0 * w0 * e + 4.0 * d - e_0,
            e,
            2.0 * w0 * f + 6.0 * e - f_0,
            f,
        )
    return d, e, f


@inner
def _stages_for(need):
    """Return how many stages are stable up to h lambda = -need; 0 where the most are not enough."""
    # 2/3 (s^2 - 1) but for the damping, and less of it where stages are few
    count = max(MIN_STAGES, int(np.sqrt(1.0 + 1.5 * need)))
    while count <= MAX_STAGES:
        w0 = 1.0 + DAMPING / (count * count)
        rates_at_state, bend, _ = _derivatives(count, w0)
        if (w0 + 1.0) * bend / rates_at_state >= need:
            return count
        count += 1
    return 0


@inner
def _longest(work, control):
    """Return the longest step for which there are stages enough, infinite where their number is given."""
    radius = stretch_in(work.stretch).radius
    if work.fixed_stages > 0 or radius == 0.0:
        return np.inf
    most = work.limits[work.n_tables - 1] if work.n_tables > 0 else _REACH * MAX_STAGES * MAX_STAGES
    # a little less, so that rounding does not ask for more stages than there are
    return _WITHIN * most / (_MARGIN * radius)


@inner
def _march_stages(system, work, control, count):
    """Write the end of the step to ``trial`` and a state in its middle to ``middle``; return the code of the rates.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL
    count : int
        Number of stages.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, h, y, rates_at_state, stretch = (
        system.n,
        control.length,
        system.state,
        system.rates_at_state,
        stretch_in(work.stretch),
    )
    w0 = 1.0 + DAMPING / (count * count)
    last_derivative, last_bend, last_third = _derivatives(count, w0)
    w1 = last_derivative / last_bend
    b_0 = b_1 = b = 0.25 / (w0 * w0)
    # T, its first and second derivative, of the present stage and the one before
    t_0, d_0, e_0, t, d, e = 1.0, 0.0, 0.0, w0, 1.0, 0.0
    node_1 = 0.25 * w1 / (w0 * w0)
    stretch.node = 0.0
    for k in range(n):
        work.stage[k] = y[k] + b * w1 * h * rates_at_state[k]
        work.before[k] = y[k]
    for j in range(2, count + 1):
        if control.stop != 0:
            return 1
        control.stage = j - 1
        code = ask_rates(system, control, FOR_STAGES, control.time + node_1 * h, work.stage, work.rates)
        if code != 1:
            return code
        t, t_0, d, d_0, e, e_0 = (
            2.0 * w0 * t - t_0,
            t,
            2.0 * w0 * d + 2.0 * t - d_0,
            d,
            2.0 * w0 * e + 4.0 * d - e_0,
            e,
        )
        b = e / (d * d)
        mu, nu, pull = 2.0 * b * w0 / b_1, -b / b_0, 2.0 * b * w1 / b_1 * h
        push = -(1.0 - b_1 * t_0) * pull
        for k in range(n):
            new = (1.0 - mu - nu) * y[k] + mu * work.stage[k] + nu * work.before[k] + pull * work.rates[k]
            work.before[k] = work.stage[k]
            work.stage[k] = new + push * rates_at_state[k]
        b_0, b_1, node_1 = b_1, b, w1 * e / d
        # stages from the second on are of order 2, and damped
        if stretch.node == 0.0 and 2.0 * node_1 >= 1.0 and j < count:
            stretch.node = node_1
            for k in range(n):
                work.middle[k] = work.stage[k]
    for k in range(n):
        system.trial[k] = work.stage[k]
    # by how much the coefficient of z^3 misses 1/6, against 1/12 of the trapezoidal rule
    stretch.weight = 12.0 * abs(1.0 / 6.0 - b * last_third * w1 * w1 * w1 / 6.0)
    control.stage = -1
    return ask_rates(system, control, FOR_STAGES, control.finish, system.trial, work.end)


@inner
def _attempt(system, work, control):
    """Attempt a step; return ACCEPTED, REFUSED, or a reason to return with.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    int
        ACCEPTED, REFUSED, PAUSED or RATES_STOPPED.
    """
    n, h, y, stretch = system.n, control.length, system.state, stretch_in(work.stretch)
    control.error, control.row_iterations, stretch.squared, stretch.code = np.nan, 0, 0.0, _TOO_LONG
    # with coefficients of their own, stages are told by the index of these
    tabulated = work.n_tables > 0
    count = work.fixed_stages
    if count == 0:
        due = stretch.cost == 0 or stretch.spent > _SHARE * stretch.cost
        if due and not _look(system, work, control):
            control.bad_time = control.time
            return RATES_STOPPED
        need = _MARGIN * abs(h) * stretch.radius
        count = index_for(work, need) + 1 if tabulated else _stages_for(need)
        if count == 0:
            if control.adaptive == 1:
                return REFUSED
            count = work.n_tables if tabulated else MAX_STAGES
    if tabulated:
        control.row_iterations, stretch.index = work.counts[count - 1], count - 1
        code = march_by_recurrence(system, work, control, count - 1)
    else:
        control.row_iterations = count
        code = _march_stages(system, work, control, count)
    if control.stop != 0:
        # The estimate of the eigenvalue may have been cut short as well.
        stretch.cost = 0
        return PAUSED
    stretch.code = code
    if code < 1:
        return RATES_STOPPED
    if code != 1:
        return REFUSED
    if control.adaptive == 1:
        for k in range(n):
            miss = stretch.weight * (system.trial[k] - y[k] - 0.5 * h * (system.rates_at_state[k] + work.end[k]))
            if tabulated:
                miss = work.middle[k]
            allowed = system.absolute[k] + system.relative[k] * max(abs(y[k]), abs(system.trial[k]))
            ratio = miss / (allowed + 1e-300)
            stretch.squared += ratio * ratio / n
    if stretch.squared <= 1.0 and first_not_finite(system.trial, work.end, n) >= 0:
        stretch.squared = np.inf
    if control.adaptive == 1:
        control.error = np.sqrt(stretch.squared)
    return ACCEPTED if stretch.squared <= 1.0 else REFUSED


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or STEP_TOO_SMALL.
    """
    stretch, h = stretch_in(work.stretch), control.length
    control.bad_component = -1
    if stretch.code == _TOO_LONG:
        # the eigenvalue is known already
        control.step = np.copysign(_longest(work, control), h)
    else:
        # Where the estimate has grown, the step was not stable.
        stretch.cost = 0
        if stretch.code == 1 and stretch.squared < _HUGE:
            control.step = h * factor_after_refusal(work.controller, control.error)
        else:
            not_finite(system, control, work.end, stretch.squared)
    return tried_again(control)


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    for k in range(system.n):
        system.rates_at_state[k] = work.end[k]
    stretch_in(work.stretch).spent += control.row_iterations
    if control.adaptive == 1:
        wanted = control.length * factor_after_acceptance(work.controller, control.error, control)
        control.step = np.copysign(min(abs(wanted), _longest(work, control)), wanted)
    return REACHED_END


@inner
def _describe(system, work, control):
    """Write the polynomial through stages, a parabola where these are of order 2, and the cubic with slopes of two.

    Slopes at the ends are those of fast decays, too, many times what is left of these; stages are damped.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END.
    """
    n, h, y, coefficients = system.n, control.length, system.state, as_doubles(control.polynomial_address)
    if work.n_tables > 0:
        describe_by_stages(system, work, control, coefficients)
        return REACHED_END
    node = stretch_in(work.stretch).node
    second, third = offset_by(coefficients, 2 * n), offset_by(coefficients, 3 * n)
    for k in range(n):
        move = system.trial[k] - y[k]
        coefficients[k] = y[k]
        if node > 0.0:
            bend = (move - (work.middle[k] - y[k]) / node) / (1.0 - node)
            coefficients[n + k], second[k], third[k] = move - bend, bend, 0.0
        else:
            a, b = h * system.rates_at_state[k], h * work.end[k]
            coefficients[n + k] = a
            second[k], third[k] = cubic_terms(move, a, b)
    return REACHED_END


@inner
def _start(system, work, control):
    """Forget the largest eigenvalue and the errors of earlier steps.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL

    Returns
    -------
    int
    """
    stretch_in(work.stretch).cost = 0
    fill_with_every_mode(work.direction, system.n)
    forget(work.controller)
    return REACHED_END


family = answering(work_in, _attempt, _accept, _refuse, _start, _describe)
