"""A method for what is not stiff and one for what is, and when to change from one to the other.

Whether stability holds steps back is told by the largest modulus of an eigenvalue of the Jacobian, which a direction
that is carried along finds with one evaluation of the rates now and then: the power method on differences. Steps of the
non-stiff method over which that mode changes much more than the solution are limited by it; a step of the stiff
method that replaces fewer of those than it costs is not worth while. Several such signs in a row are needed for a
change, and more of them after one that did not pay.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.scale import size_in
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.members import (
    ask_member,
    fill_degrees,
    hand_rates_at_state,
    has_member,
    rates_at_state_of,
)
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.march.spectral_radius import difference_of_rates
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, as_record
from unhurried_heron.kernels.memory.control import ACCEPT, CHANGE, REACHED_END
from unhurried_heron.kernels.memory.decoding import decoder
from unhurried_heron.kernels.stiffness_switching_work import (
    CHANGES,
    CHOICE,
    FIRST_STEPS,
    PACE,
    STABILITY_LIMIT,
    STIFF_STEP_COST,
    StiffnessSwitchingWork,
)

choice_in = as_record(CHOICE)
choosing_work_in = decoder(StiffnessSwitchingWork)

# Steps of the non-stiff method between two looks, which cost an evaluation and more,
_LOOKS = 8
# and where it has long been the right one:
_LOOKS_LATER = 16
# from this number of steps on.
_LATER = 128
# Steps of the stiff method between two looks.
_LOOKS_WHEN_STIFF = 4
# Signs in a row for a change at first,
_FIRST_WAIT = 3
# and at most, after changes that were not worth while.
_LONGEST_WAIT = 48
# The stiff method stays while its steps are worth this share of what they cost.
_WORTH = 0.5
# The size of an oscillating state is the largest of the last steps, forgotten at this rate.
_FORGETS = 0.97
# Every component of the first direction has this size at least.
_OF_ALL = 0.01
# Steps until the radius is trusted.
_LEARNS = 8
# The length of the difference along the direction, in units of the states' sizes.
_NUDGE = 1e-7
# Attempts after a change until the driver looks.
_SOON = 64
# The first step of the non-stiff method after a change is at most this share of its stability limit.
_WITHIN = 0.5


@inner
def _find_sizes(system, work, control):
    """Bring the sizes of the states up to date: the largest of late, of their change, or what the tolerance loses.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL
    """
    present_rates = rates_at_state_of(work.links, choice_in(work.choice).stiff)
    h = abs(control.length)
    for k in range(system.n):
        relative = system.relative[k]
        least = system.absolute[k] / relative if relative > 0.0 else system.absolute[k]
        here = max(abs(system.state[k]), h * abs(present_rates[k]))
        work.sizes[k] = max(max(here, _FORGETS * work.sizes[k]), max(least, 1e-300))


@inner
def _look(system, work, control):
    """Find out about the largest eigenvalue; return whether the rates could be had.

    What the Jacobian makes of a direction, it is applied to at the next look. Positions and velocities are in other
    units than they swing in, so that one look tells too much and the next too little: two together tell what they do to
    the direction before, all in the same units.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    bool
    """
    n, choice = system.n, choice_in(work.choice)
    present_rates = rates_at_state_of(work.links, choice.stiff)
    _find_sizes(system, work, control)
    length, earlier = size_in(work.direction, work.sizes, n), size_in(work.earlier, work.sizes, n)
    share = _NUDGE / length if 1e-200 < length < 1e200 else 0.0
    for k in range(n):
        # The direction contains a little of every state, of both signs, so that a mode that becomes fast is
        # seen.
        little = _OF_ALL if (k * 7 + 3) % 5 < 3 else -_OF_ALL
        work.moved[k] = system.state[k] + share * work.direction[k] + _NUDGE * work.sizes[k] * little
    code = difference_of_rates(system, control, present_rates, work.moved, work.rates)
    if code != 1:
        return code >= 1
    for k in range(n):
        work.earlier[k] = work.moved[k] - system.state[k]
        work.direction[k] = work.rates[k]
    found, over = size_in(work.direction, work.sizes, n), share * earlier
    choice.seen = np.sqrt(found / over) if over > 0.0 and found < 1e300 else 0.0
    # a direction that is not the fastest yet tells too little: what was known is forgotten slowly
    choice.decay = max(choice.seen, 0.5 * choice.decay)
    return True


@inner
def _consider(system, work, control):
    """After an accepted step, return CHANGE where the other method would be better, else REACHED_END.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END or CHANGE.
    """
    choice = choice_in(work.choice)
    choice.since += 1
    if choice.since < choice.due or choice.allowed == 0:
        return REACHED_END
    every = _LOOKS_WHEN_STIFF
    if choice.stiff == 0 and choice.since > 2 * _LOOKS:
        every = _LOOKS if choice.since < _LATER else _LOOKS_LATER
    choice.due = choice.since + every
    if choice.stiff == 1 and work.radius[0] != 0:
        choice.decay = as_doubles(work.radius[0])[0]
    elif not _look(system, work, control):
        return REACHED_END
    # Doubt favours the present method: where steps become longer, an early look says little about them.
    h = abs(control.length)
    if choice.stiff == 1:
        better = h * choice.decay < _WORTH * work.limits[STABILITY_LIMIT] * work.limits[STIFF_STEP_COST]
        better = better and choice.since > work.limits[FIRST_STEPS]
    else:
        better = h * choice.seen > work.limits[PACE]
    # The first estimates only improve the direction and the sizes.
    better = better and (choice.stiff == 1 or choice.since > _LEARNS)
    choice.signs = choice.signs + 1 if better else max(choice.signs - 2, 0)
    if choice.signs < choice.wait:
        return REACHED_END
    if choice.stiff == 1:
        within = _WITHIN * work.limits[STABILITY_LIMIT] / max(choice.decay, 1e-300)
        if abs(control.step) > within:
            control.step = np.copysign(within, control.step)
    return CHANGE


@inner
def _change(control, work):
    """Let the other method march from here on.

    Parameters
    ----------
    control : CONTROL
    work : StiffnessSwitchingWork
    """
    choice = choice_in(work.choice)
    if choice.stiff == 1:
        # what it replaced, in steps of the other method, and what it cost
        replaced = abs(control.time - choice.begun) / choice.length
        regretted = replaced < work.limits[STIFF_STEP_COST] * choice.since
        choice.wait = min(2 * choice.wait, _LONGEST_WAIT) if regretted else _FIRST_WAIT
    if control.changes < CHANGES:
        work.when[control.changes] = control.time
    choice.begun, choice.length = control.time, abs(control.length)
    choice.stiff, choice.signs, choice.since = 1 - choice.stiff, 0, 0
    choice.due = _LOOKS_WHEN_STIFF
    control.changes += 1
    control.started = -1
    # its steps take another time, so that the driver looks soon
    control.attempts_left = min(control.attempts_left, _SOON)


def changed(address):
    """Change for the first time: the driver has laid out the other method; ``address``: of the table of the march."""
    table = as_longs(address)
    _change(as_control(table[0]), choosing_work_in(table))
    return 0


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, CHANGE where the other method is still to be laid out, or the reason of the member.
    """
    control.ask = ACCEPT
    stiff = choice_in(work.choice).stiff
    work.taken[stiff] += 1
    answer = ask_member(control, work.links, stiff)
    theirs = rates_at_state_of(work.links, stiff)
    for k in range(system.n):
        system.rates_at_state[k] = theirs[k]
    if answer == REACHED_END:
        answer = _consider(system, work, control)
    if answer == CHANGE and has_member(work.links, 1 - stiff):
        _change(control, work)
        answer = REACHED_END
    return answer


@inner
def _attempt(system, work, control):
    """Have the present method attempt the step.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
    """
    stiff = choice_in(work.choice).stiff
    control.order, control.member = work.orders[stiff], stiff
    return ask_member(control, work.links, stiff)


@inner
def _describe(system, work, control):
    """Have the present method describe its step.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
    """
    stiff = choice_in(work.choice).stiff
    answer = ask_member(control, work.links, stiff)
    fill_degrees(control, work.links, stiff, work.room, system.n)
    return answer


@inner
def _refuse(system, work, control):
    """Have the present method prepare another attempt.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
    """
    return ask_member(control, work.links, choice_in(work.choice).stiff)


@inner
def _start(system, work, control):
    """Have the present method start; at the start of a run nothing is known of the other.

    Parameters
    ----------
    system : System
    work : StiffnessSwitchingWork
    control : CONTROL

    Returns
    -------
    int
    """
    choice = choice_in(work.choice)
    if choice.wait <= 0:
        choice.wait, choice.due = _FIRST_WAIT if choice.wait == 0 else -choice.wait, _LOOKS_WHEN_STIFF
        work.taken[0] = work.taken[1] = 0
        for k in range(system.n):
            work.direction[k] = work.earlier[k] = work.sizes[k] = 0.0
    hand_rates_at_state(system, work.links, choice.stiff)
    return ask_member(control, work.links, choice.stiff)


family = answering(choosing_work_in, _attempt, _accept, _refuse, _start, _describe)
