"""States that are never negative stay so: what an attempt errs below zero within the tolerance is taken for zero.

L. F. Shampine, S. Thompson, J. A. Kierzenka and G. D. Byrne, *Applied Mathematics and Computation* 170 (2005) 556-569.
Further below zero the attempt is refused; and where the rates at zero lead below it, the run ends, because no step can
go there.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.guards import SHORTER, refuse_for
from unhurried_heron.kernels.march.locating import EPSILON

# Answers of the check of an attempt.
KEPT, BELOW, LED_BELOW = range(3)
# A state above minus this share of its change in the step counts as zero: its sign is rounding.
_ROUNDING = 1e-13
# no step is shorter than some roundings of the time
_OF_TIME = 64.0 * EPSILON


@inner
def keep_nonnegative(system, control):
    """Put states that are below zero within their tolerance at zero, at the end of an attempt."""
    for j in range(system.n_nonnegative):
        k = system.nonnegative[j]
        if system.trial[k] >= 0.0:
            continue
        allowed = system.relative[k] * abs(system.state[k]) + system.absolute[k]
        allowed += abs(system.rates_at_state[k]) * (_ROUNDING * abs(control.length) + _OF_TIME * abs(control.time))
        if system.trial[k] < -allowed:
            if system.state[k] <= 0.0 and system.rates_at_state[k] * control.length < 0.0:
                control.bad_component, control.bad_time = k, control.time
                return LED_BELOW
            refuse_for(control, system.n_guards, SHORTER)
            return BELOW
    for j in range(system.n_nonnegative):
        k = system.nonnegative[j]
        if system.trial[k] < 0.0:
            system.trial[k] = 0.0
            control.moved_back = 1
    return KEPT


@inner
def cut_below_zero(system, state):
    """Put states that are never negative at zero where a polynomial between the steps falls below it."""
    for j in range(system.n_nonnegative):
        k = system.nonnegative[j]
        if state[k] < 0.0:
            state[k] = 0.0
