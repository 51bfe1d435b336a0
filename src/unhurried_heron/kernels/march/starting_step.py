"""The starting step of an adaptive run, by estimate, at its beginning and beyond every switch.

The plan is that of E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993),
section II.4; the last formula is made independent of the unit of time.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.control import FOR_STARTING, RATES_STOPPED, REACHED_END, SMALLEST_RELATIVE_STEP

# A first step over more than this share of the interval is looked into,
_MUCH = 0.05
# at this share of it, which no common period divides.
_WITHIN = 0.37
# The bound, in tolerances, below which the rates at the start are taken to move no state over the whole interval.
_STILL = 1e3


@inner
def _allowed(system, k):
    """Return the allowed error of a state; one that allows none is measured by its relative tolerance."""
    allowed = system.relative[k] * abs(system.state[k]) + system.absolute[k]
    return allowed if allowed > 0.0 else max(system.relative[k], 1e-300)


@inner
def _size(system, values, less):
    """Return the root mean square of ``values - less`` in units of the allowed errors, safe from overflow.

    Parameters
    ----------
    system : System
    values : float pointer, (n,)
    less : float pointer, (n,)

    Returns
    -------
    float
    """
    largest = 0.0
    for k in range(system.n):
        each = abs((values[k] - less[k]) / _allowed(system, k))
        if not each < np.inf:
            return np.inf
        largest = max(largest, each)
    if largest == 0.0:
        return 0.0
    total = 0.0
    for k in range(system.n):
        total += ((values[k] - less[k]) / _allowed(system, k) / largest) ** 2
    return largest * np.sqrt(total / system.n)


@inner
def choose_starting_step(system, control, scratch):
    """Set ``control.step`` from the state and rates where the march begins.

    Parameters
    ----------
    system : System
    control : CONTROL
    scratch : float pointer, (n,)
        Scratch space.

    Returns
    -------
    int
        REACHED_END, or RATES_STOPPED where the user's function stops the run.
    """
    length, sign = abs(control.end - control.time), np.copysign(1.0, control.end - control.time)
    for k in range(system.n):
        scratch[k] = 0.0
    size, speed = _size(system, system.state, scratch), _size(system, system.rates_at_state, scratch)
    guess = 0.01 * size / speed if size > 1e-5 and speed > 0.0 else 1e-6 * length
    # a step cannot be shorter than the spacing of floating-point times allows
    shortest = 2.0 * SMALLEST_RELATIVE_STEP * max(abs(control.time), 1e-300 * length)
    guess = max(min(guess, length), shortest)
    if system.n_mass > 0:
        # rates elsewhere are no derivatives: these are taken to change as fast as the state does
        code, bend = 1, speed * speed / size if size > 0.0 else 0.0
    else:
        for k in range(system.n):
            system.trial[k] = system.state[k] + sign * guess * system.rates_at_state[k]
        code = ask_rates(system, control, FOR_STARTING, control.time + sign * guess, system.trial, scratch)
        if code <= 0:
            return RATES_STOPPED
        bend = _size(system, scratch, system.rates_at_state) / guess
    if code != 1 or not bend < np.inf:
        control.step = sign * max(0.01 * guess, shortest)
        return REACHED_END
    best = 100.0 * guess
    rate = bend / speed if speed > 0.0 else 0.0
    if rate > 1e-300:
        # if every derivative is larger than the one before by this rate, the error of a step h is about
        # speed * rate^order * h^(order + 1), which is to be a hundredth of the tolerance
        best = (0.01 * rate / speed) ** (1.0 / (control.estimate_order + 1)) / rate
    elif speed == 0.0 and bend > 0.0:
        best = np.sqrt(0.01 / bend)
    control.step = sign * max(min(100.0 * guess, best, length), shortest)
    # A state that moves from the start on is seen by the first step itself.
    still = speed * length < _STILL
    return (
        _look_within(system, control, scratch, length) if still and abs(control.step) > _MUCH * length else REACHED_END
    )


@inner
def _look_within(system, control, scratch, length):
    """Shorten a step over much of the interval where the rates within it are not those at its ends.

    A forcing may be zero at both ends of an interval, where a method of one stage looks and no other.

    Parameters
    ----------
    system : System
    control : CONTROL
    scratch : float pointer, (n,)
        Scratch space.
    length : float
        The step so far.

    Returns
    -------
    int
    """
    later = _WITHIN * control.step
    if system.n_mass > 0:
        control.step = np.copysign(_MUCH * length, control.step)
        return REACHED_END
    for k in range(system.n):
        system.trial[k] = system.state[k] + later * system.rates_at_state[k]
    code = ask_rates(system, control, FOR_STARTING, control.time + later, system.trial, scratch)
    if code <= 0:
        return RATES_STOPPED
    if code != 1 or not _size(system, scratch, system.rates_at_state) * abs(control.step) < 1.0:
        control.step = np.copysign(_MUCH * length, control.step)
    return REACHED_END
