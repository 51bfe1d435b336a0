"""Stages of a stabilised method by a recurrence with coefficients of its own, and four more that finish a step.

A. Abdulle, SIAM J. Sci. Comput. 23 (2002) 2041-2054.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import as_record, offset_by
from unhurried_heron.kernels.memory.control import FOR_STAGES
from unhurried_heron.kernels.stabilised_work import STRETCH
from unhurried_heron.methods.orthogonal_stages import FINISHING

stretch_in = as_record(STRETCH)


@inner
def index_for(work, need):
    """Return the index of the fewest stages that are stable up to h lambda = -need; -1 where the most are not enough.

    Parameters
    ----------
    work : StabilisedWork
    need : float

    Returns
    -------
    int
    """
    for index in range(work.n_tables):
        if work.limits[index] >= need:
            return index
    return -1


@inner
def _recur(system, work, control, index):
    """Leave the last stage of the recurrence in ``stage``; return the code of the rates, and its node.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL
    index : int
        Of the number of stages.

    Returns
    -------
    (int, float)
    """
    n, h, rows = system.n, control.length, offset_by(work.coefficients, work.begins[index])
    node_0, node = 0.0, 0.0
    for k in range(n):
        work.stage[k] = work.before[k] = system.state[k]
    for j in range(work.counts[index] - FINISHING):
        if control.stop != 0:
            return 1, node
        control.stage = j
        source = work.rates
        if j == 0:
            source = system.rates_at_state
        else:
            code = ask_rates(system, control, FOR_STAGES, control.time + node * h, work.stage, work.rates)
            if code != 1:
                return code, node
        mu, kappa = rows[2 * j] * h, rows[2 * j + 1]
        for k in range(n):
            new = mu * source[k] + (1.0 - kappa) * work.stage[k] + kappa * work.before[k]
            work.before[k] = work.stage[k]
            work.stage[k] = new
        node, node_0 = rows[2 * j] + (1.0 - kappa) * node + kappa * node_0, node
    return 1, node


@inner
def march_by_recurrence(system, work, control, index):
    """Write the end of the step to ``trial`` and its estimated error to ``middle``; return the code of the rates.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL
    index : int
        Of the number of stages.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, h, count, trial = system.n, control.length, work.counts[index], system.trial
    code, node = _recur(system, work, control, index)
    if code != 1 or control.stop != 0:
        return code
    first = count - FINISHING
    a = offset_by(work.coefficients, work.begins[index] + 2 * first)
    b, error = offset_by(a, FINISHING * FINISHING), offset_by(a, FINISHING * (FINISHING + 1))
    for i in range(FINISHING):
        control.stage = first + i
        here = node
        for k in range(n):
            trial[k] = work.stage[k]
        for j in range(i):
            rate, weight = offset_by(work.finishing, j * n), a[i * FINISHING + j]
            here += weight
            for k in range(n):
                trial[k] += h * weight * rate[k]
        code = ask_rates(system, control, FOR_STAGES, control.time + here * h, trial, offset_by(work.finishing, i * n))
        if code != 1:
            return code
    for k in range(n):
        trial[k], work.middle[k] = work.stage[k], 0.0
    for i in range(FINISHING):
        rate = offset_by(work.finishing, i * n)
        for k in range(n):
            trial[k] += h * b[i] * rate[k]
            work.middle[k] += h * error[i] * rate[k]
    control.stage = -1
    code = ask_rates(system, control, FOR_STAGES, control.finish, trial, work.end)
    for k in range(n):
        work.middle[k] += h * error[FINISHING] * work.end[k]
    return code


@inner
def describe_by_stages(system, work, control, coefficients):
    """Write the polynomial through the states at both ends of the step and at the finishing stages.

    Parameters
    ----------
    system : System
    work : StabilisedWork
    control : CONTROL
    coefficients : float pointer, (4, n)
    """
    n, h, index = system.n, control.length, stretch_in(work.stretch).index
    a = offset_by(work.coefficients, work.begins[index] + 2 * (work.counts[index] - FINISHING))
    weights = offset_by(a, FINISHING * (FINISHING + 1) + FINISHING + 1)
    for k in range(n):
        for power in range(4):
            coefficients[power * n + k] = weights[power] * system.state[k] + weights[4 + power] * system.trial[k]
        for i in range(FINISHING):
            inner_state = work.stage[k]
            for j in range(i):
                inner_state += h * a[i * FINISHING + j] * work.finishing[j * n + k]
            for power in range(4):
                coefficients[power * n + k] += weights[8 + 4 * i + power] * inner_state
