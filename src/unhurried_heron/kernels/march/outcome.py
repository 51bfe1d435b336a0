"""What all marches do alike: pausing, choosing the length of the attempt, keeping the ledger, checking numbers."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.event_values import watch_derivatives, watch_speeds, watch_values
from unhurried_heron.kernels.march.guards import is_guarded, note_guards
from unhurried_heron.kernels.march.manifold import STOPPED, keep_on_manifold, stay_on_manifold
from unhurried_heron.kernels.march.nonnegative import cut_below_zero
from unhurried_heron.kernels.march.polynomial import evaluate_step
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.march.sides import choose_sides
from unhurried_heron.kernels.memory.call import address_of, as_doubles, as_longs, as_record, call_kernel, offset_by
from unhurried_heron.kernels.memory.control import (
    BEFORE_ROW,
    BUFFER_FULL,
    DERIVE,
    END_ROW,
    EVENT_STOPPED,
    FOR_STARTING,
    LEDGER,
    NO_ROOM,
    NOT_FINITE,
    PAUSED,
    RATES_STOPPED,
    REACHED_END,
    RECENT,
    SMALLEST_RELATIVE_STEP,
    SPARE,
    START_DERIVATIVE_ROW,
    START_SPEED_ROW,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import parts_in

ledger_row = as_record(LEDGER)
_ROW = LEDGER.itemsize
# Where the attempt is not finite, nothing is known of the length that would succeed.
NOT_FINITE_SHRINK = 0.1


@inner
def pause_reason(control, output, watch, crossing):
    """Whether the march must return before the next attempt; counts the attempt if not.

    Parameters
    ----------
    control : CONTROL
    output : Output
    watch : Watch
    crossing : Crossing

    Returns
    -------
    int
        REACHED_END to go on, else NO_ROOM, BUFFER_FULL or PAUSED.
    """
    if control.no_room == 1:
        return NO_ROOM
    if control.n_steps >= output.room or (output.rows > 0 and control.n_rows >= output.rows):
        return BUFFER_FULL
    if control.n_events + (watch.most_in_step + SPARE) * watch.m > watch.room:
        return BUFFER_FULL
    # a crossing may change every switch, twice
    if crossing.n_switches > 0 and control.n_crossed + 2 * (crossing.n_switches + 1) > crossing.room:
        return BUFFER_FULL
    if control.attempts_left <= 0 or control.rate_evaluations >= control.evaluation_limit:
        return PAUSED
    control.attempts_left -= 1
    return REACHED_END


@inner
def first_not_finite(state, rates, n):
    """Return the first component whose state or rate is NaN or infinite, or -1.

    Parameters
    ----------
    state : float pointer, (n,)
    rates : float pointer, (n,)
    n : int
        Number of states.

    Returns
    -------
    int
    """
    for k in range(n):
        if not (abs(state[k]) < np.inf and abs(rates[k]) < np.inf):
            return k
    return -1


@inner
def largest(values, n):
    """Return the component of the largest size."""
    index = 0
    for k in range(1, n):
        if abs(values[k]) > abs(values[index]):
            index = k
    return index


@inner
def check_rates_at_state(system, control):
    """Return REACHED_END where the state and its rates are finite, else NOT_FINITE."""
    control.bad_component = first_not_finite(system.state, system.rates_at_state, system.n)
    return NOT_FINITE if control.bad_component >= 0 else REACHED_END


@inner
def find_rates_at_state(system, control, purpose):
    """Evaluate the rates where the march stands; return REACHED_END if all is well.

    With a mass matrix they are the derivatives that its family finds.

    Parameters
    ----------
    system : System
    control : CONTROL
    purpose : int
        A `Purpose`.

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE; with a mass matrix NEWTON_FAILED or INCONSISTENT, too.
    """
    if system.n_mass > 0:
        control.ask = DERIVE
        return call_kernel(parts_in(as_longs(control.table)).family, control.table)
    code = ask_rates(system, control, purpose, control.time, system.state, system.rates_at_state)
    if code > 1:
        # there are none, where constraints do not tell their states
        control.bad_component = -1
        return NOT_FINITE
    return check_rates_at_state(system, control) if code == 1 else RATES_STOPPED


@inner
def begin(system, control, watch):
    """Evaluate rates and events at the start of a run or beyond a switch; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    control : CONTROL
    watch : Watch

    Returns
    -------
    int
        REACHED_END, EVENT_STOPPED, RATES_STOPPED or NOT_FINITE.
    """
    reason = stay_on_manifold(system, control, control.time, system.state)
    if reason == REACHED_END:
        reason = find_rates_at_state(system, control, FOR_STARTING)
    if reason != REACHED_END:
        return reason
    kept = (control.adaptive == 1 and system.n_nonnegative > 0) or system.n_manifold > 0
    control.guarded = int(is_guarded(system, control) or kept)
    note_guards(system, control)
    # Beyond a switch the values of the event functions are known already, and so are those of events that
    # happened where another run ended.
    if control.started == 0:
        if not watch_values(watch, control.time, system.state, END_ROW):
            return EVENT_STOPPED
        for e in range(watch.m):
            if watch.values[e] != 0.0:
                watch.values[e] = watch.values[END_ROW * watch.m + e]
    if not watch_derivatives(watch, control.time, system.state, START_DERIVATIVE_ROW):
        return EVENT_STOPPED
    if not watch_speeds(watch, control.time, system.state, START_SPEED_ROW):
        return EVENT_STOPPED
    choose_sides(watch, control, system)
    # there is no step before
    for e in range(watch.m):
        watch.values[BEFORE_ROW * watch.m + e] = np.nan
    control.started = 1
    return REACHED_END


@inner
def too_short(control):
    """Whether the next step falls below the spacing of floating-point times."""
    return abs(control.step) < SMALLEST_RELATIVE_STEP * abs(control.time) or control.step == 0.0


@inner
def not_finite(system, control, rates, squared):
    """Note what is not finite at the end of an attempt, or is largest where its squared error alone is not; shorten.

    Parameters
    ----------
    system : System
    control : CONTROL
    rates : float pointer, (n,)
    squared : float
        The squared error.
    """
    control.bad_component = first_not_finite(system.trial, rates, system.n)
    # an estimate can overflow before states and rates do
    if control.bad_component < 0 and not squared < np.inf:
        control.bad_component = largest(rates, system.n)
    control.bad_time = control.finish
    control.step = NOT_FINITE_SHRINK * control.length


@inner
def tried_again(control):
    """Whether a refused step is tried again: not a fixed one, nor where no length is left; return the reason."""
    if control.adaptive == 0:
        return NOT_FINITE
    if too_short(control):
        return NOT_FINITE if control.bad_component >= 0 else STEP_TOO_SMALL
    return REACHED_END


@inner
def choose_attempt(control, output):
    """Set length, finish and polynomial address of the next attempt; False where no length is left.

    The length is the difference of the two times as they are kept, so that nothing is lost far from time zero. Fixed
    steps are counted, so that rounding does not add up.
    """
    left = control.end - control.time
    if control.adaptive == 1:
        h = control.step
        if abs(h) > control.largest_step:
            h = np.copysign(control.largest_step, h)
        finish = control.time + h
    else:
        finish = control.origin + (control.fixed_steps + 1) * control.step
    h = finish - control.time
    # A step that would leave a remainder below this length is extended to the end.
    if abs(h) * 1.0000001 >= abs(left):
        h, finish = left, control.end
    elif control.adaptive == 1 and too_short(control):
        return False
    control.length, control.finish = h, finish
    control.polynomial_address = address_of(offset_by(output.coefficients, control.n_steps * output.size))
    control.described = 0
    return h != 0.0


@inner
def keep_row(control, output, accepted):
    """Write one row of the ledger, where it is kept.

    Parameters
    ----------
    control : CONTROL
    output : Output
    accepted : int
        1 or 0.
    """
    if output.rows == 0:
        return
    if control.n_rows >= output.rows:
        control.no_room = 1
        return
    row = ledger_row(output.ledger + control.n_rows * _ROW)
    row.time, row.step, row.error = control.time, control.length, control.error
    row.accepted, row.order, row.iterations = accepted, control.order, control.row_iterations
    row.member = control.member
    control.n_rows += 1


@inner
def is_wanted(control, output):
    """Whether somebody wants to see between the ends of the step: it is kept, or a wanted time lies on it."""
    ahead = (output.wanted[control.next_wanted] - control.finish) * control.length
    return control.every_step == 1 or ahead <= 0.0


@inner
def record_until(control, system, output, time):
    """Record the state at the wanted times on the present step, up to a time; return REACHED_END, or RATES_STOPPED.

    Parameters
    ----------
    control : CONTROL
    system : System
    output : Output
    time : float

    Returns
    -------
    int
    """
    n = system.n
    while (output.wanted[control.next_wanted] - time) * control.length <= 0.0:
        wanted, row = output.wanted[control.next_wanted], offset_by(output.recorded, control.next_wanted * n)
        if wanted == control.finish:
            for k in range(n):
                row[k] = system.trial[k]
        else:
            theta = (wanted - control.time) / control.length
            evaluate_step(as_doubles(control.polynomial_address), output.size // n - 1, n, theta, row)
            cut_below_zero(system, row)
            if system.n_manifold > 0 and keep_on_manifold(system, control, wanted, row) == STOPPED:
                return RATES_STOPPED
        control.next_wanted += 1
    return REACHED_END


@inner
def keep_step(control, output):
    """Keep an accepted step's start and length, where all are kept."""
    if control.every_step == 0:
        return
    if control.n_steps >= output.room:
        control.no_room = 1
        return
    output.starts[control.n_steps] = control.time
    output.steps[control.n_steps] = control.length
    control.n_steps += 1


@inner
def count_step(control, output):
    """Count an accepted step."""
    output.recent[control.accepted & (RECENT - 1)] = control.length
    control.accepted += 1
    control.fixed_steps += 1
