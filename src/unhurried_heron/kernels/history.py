"""What multistep methods share: values and rates of past steps of one length, and who takes the steps without them.

``work`` is any bundle with ``history``, a record of `HISTORY`; ``past`` and ``past_rates`` (steps + 1, n), rings whose
newest row is ``head``, the one before it free; ``steps``, ``degree``, ``by_past_rates`` and ``interpolant`` of the
method; ``links`` to the one-step method that starts it, and takes steps of another length: up to a switch, or to the
end.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.history_work import HISTORY
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.members import ask_member, fill_degrees, hand_rates_at_state, rates_at_state_of
from unhurried_heron.kernels.memory.call import as_doubles, as_record, offset_by
from unhurried_heron.kernels.memory.control import ACCEPT, ATTEMPT, DESCRIBE, REACHED_END, START

history_in = as_record(HISTORY)

# lengths that differ by no more than rounding of the times are one
_SAME_STEP = 1e-9
# Lengths that differ by this many roundings of the time are equal.
_ROUNDING = 4 * float(np.finfo(float).eps)


@inner
def row(work, rows, j, n):
    """Return the row of j steps ago.

    Parameters
    ----------
    work : ExplicitHistoryWork or ImplicitHistoryWork
    rows : float pointer, (rows, n)
        A ring.
    j : int
        Steps back.
    n : int
        Number of states.

    Returns
    -------
    float pointer, (n,)
    """
    return offset_by(rows, ((history_in(work.history).head + j) % (work.steps + 1)) * n)


@inner
def start(system, work, control):
    """Forget the past, and have the starter start.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or the reason of the starter.
    """
    history = history_in(work.history)
    history.count, history.head, history.length, history.handed = 0, 0, 0.0, 1
    hand_rates_at_state(system, work.links, 0)
    control.ask = START
    answer = ask_member(control, work.links, 0)
    if answer == REACHED_END:
        remember(system, work, control, system.rates_at_state)
    return answer


@inner
def remember(system, work, control, past_rates):
    """Add the present state and its rates to the past.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    control : CONTROL
    past_rates : float pointer, (rows, n)
        The ring of the rates.
    """
    history, n = history_in(work.history), system.n
    if history.count > 0 and history.length != 0.0 and not is_same(control, control.length, history.length):
        # Values of earlier steps belong to other times.
        history.count = 0
    if history.count > 0:
        history.length = control.length
    history.head = (history.head + work.steps) % (work.steps + 1)
    values, theirs = row(work, work.past, 0, n), row(work, work.past_rates, 0, n)
    for k in range(n):
        values[k], theirs[k] = system.state[k], past_rates[k]
    history.count = min(history.count + 1, work.steps)


@inner
def combine_past(system, work, weights, h, out):
    """Write what ``weights``, of values and then of rates, make of the past.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    weights : float pointer, (steps + rates,)
        Those of values, then those of rates.
    h : float
        Length of the step, negative backwards.
    out : float pointer, (n,)
        Filled with the result.
    """
    n = system.n
    for k in range(n):
        out[k] = weights[0] * system.state[k]
    for j in range(1, work.steps):
        if weights[j] != 0.0:
            values, weight = row(work, work.past, j, n), weights[j]
            for k in range(n):
                out[k] += weight * values[k]
    for i in range(work.steps):
        # The newest rates come last, as in batches of steps.
        j = work.steps - 1 - i
        weight = weights[work.steps + j] * h
        if weight != 0.0:
            past_rates = row(work, work.past_rates, j, n)
            for k in range(n):
                out[k] += weight * past_rates[k]


@inner
def is_same(control, a, b):
    """Whether two lengths are one but for the rounding of times.

    Parameters
    ----------
    control : CONTROL
    a : float
    b : float

    Returns
    -------
    bool
    """
    return abs(a - b) <= _SAME_STEP * abs(b) + _ROUNDING * abs(control.time)


@inner
def lacks_past(work, control):
    """Whether the step is the starter's."""
    history = history_in(work.history)
    history.delegated = 1
    if history.count >= work.steps and (work.steps == 1 or is_same(control, control.length, history.length)):
        history.delegated = history.handed = 0
    return history.delegated == 1


@inner
def attempt_of_starter(system, work, control):
    """Have the starter attempt the step; it begins anew where it was not the one before.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        The answer of the starter.
    """
    history = history_in(work.history)
    if history.handed == 0:
        hand_rates_at_state(system, work.links, 0)
        history.handed, control.ask = 1, START
        ask_member(control, work.links, 0)
    control.ask = ATTEMPT
    return ask_member(control, work.links, 0)


@inner
def accept_of_starter(system, work, control):
    """Have the starter accept its step, and learn the rates at its end.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        The answer of the starter.
    """
    control.ask = ACCEPT
    answer = ask_member(control, work.links, 0)
    theirs = rates_at_state_of(work.links, 0)
    for k in range(system.n):
        system.rates_at_state[k] = theirs[k]
    if answer == REACHED_END:
        remember(system, work, control, system.rates_at_state)
    return answer


@inner
def describe(system, work, control):
    """Write the step polynomial, through the ends of the step and the rates, or values, of the past.

    Parameters
    ----------
    system : System
    work : ExplicitHistoryWork or ImplicitHistoryWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or the reason of the starter.
    """
    n, degree, coefficients = system.n, work.degree, as_doubles(control.polynomial_address)
    if history_in(work.history).delegated == 1:
        control.ask = DESCRIBE
        answer = ask_member(control, work.links, 0)
        fill_degrees(control, work.links, 0, work.room, n)
        return answer
    for k in range(n):
        coefficients[k] = system.state[k]
    for d in range(work.room):
        out = offset_by(coefficients, (d + 1) * n)
        weight = work.interpolant[d * degree] if d < degree else 0.0
        for k in range(n):
            out[k] = weight * (system.trial[k] - system.state[k])
    for j in range(1, degree):
        if work.by_past_rates == 1:
            other, scale = row(work, work.past_rates, j - 1, n), control.length
        else:
            other, scale = row(work, work.past, j, n), 1.0
        for d in range(degree):
            out, weight = offset_by(coefficients, (d + 1) * n), work.interpolant[d * degree + j] * scale
            for k in range(n):
                out[k] += weight * (other[k] if work.by_past_rates == 1 else other[k] - system.state[k])
    return REACHED_END
