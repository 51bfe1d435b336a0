"""Fully implicit methods of several orders, of which one marches at a time.

Many stages pay where Newton's iteration contracts well, which says that the solution is smooth on the scale of the
step; where it contracts badly, or fails, fewer are taken: E. Hairer and G. Wanner, J. Comput. Appl. Math. 111 (1999)
93-111.
"""

from __future__ import annotations

from unhurried_heron.kernels.fully_implicit.newton import block_work_in
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.members import (
    ask_member,
    fill_degrees,
    hand_rates_at_state,
    rates_at_state_of,
    table_of,
)
from unhurried_heron.kernels.march.requests import answering
from unhurried_heron.kernels.memory.call import as_record
from unhurried_heron.kernels.memory.control import ACCEPT, REACHED_END, REFUSE, START
from unhurried_heron.kernels.memory.decoding import decoder, newton_in
from unhurried_heron.kernels.variable_stages_work import SEVERAL, VariableOrderWork

several_in = as_record(SEVERAL)
several_work_in = decoder(VariableOrderWork)

# A contraction below this is good,
_GOOD = 0.02
# and one above this is bad.
_BAD = 0.5
# This many good steps of one order in a row lead to a higher one.
_STEPS = 4
# Refusals of one step that say that the order is too high for it.
_REFUSALS = 2


@inner
def _contraction(work, i):
    """Return the contraction last seen by a member, 0 where it says nothing."""
    return newton_in(block_work_in(table_of(work.links, i)).newton).theta


@inner
def _change(system, work, control, i):
    """Let another member march from here.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL
    i : int
        Index of the member.

    Returns
    -------
    int
        The answer of the member.
    """
    several = several_in(work.several)
    before, after = rates_at_state_of(work.links, several.present), rates_at_state_of(work.links, i)
    for k in range(system.n):
        after[k] = before[k]
    several.present, several.good = i, 0
    control.changes += 1
    control.ask = START
    return ask_member(control, work.links, i)


@inner
def _accept(system, work, control):
    """Take the end of an accepted step as the present state; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or the reason of the member.
    """
    several = several_in(work.several)
    present = several.present
    control.ask = ACCEPT
    answer = ask_member(control, work.links, present)
    work.taken[present] += 1
    theirs = rates_at_state_of(work.links, present)
    for k in range(system.n):
        system.rates_at_state[k] = theirs[k]
    several.refusals = 0
    if answer != REACHED_END:
        return answer
    contraction = _contraction(work, present)
    several.good = several.good + 1 if contraction <= _GOOD else 0
    if contraction > _BAD and present > 0:
        return _change(system, work, control, present - 1)
    if several.good >= _STEPS and present < work.highest:
        return _change(system, work, control, present + 1)
    return REACHED_END


@inner
def _refuse(system, work, control):
    """Prepare another attempt after a refused one; return REACHED_END, or a reason to give up.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
        REACHED_END, or the reason of the member.
    """
    several = several_in(work.several)
    control.ask = REFUSE
    answer = ask_member(control, work.links, several.present)
    several.refusals += 1
    several.good = 0
    if answer == REACHED_END and several.refusals >= _REFUSALS and several.present > 0:
        return _change(system, work, control, several.present - 1)
    return answer


@inner
def _derive(system, work, control):
    """Have the first member derive, and tell the present one what it found.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
        The answer of the member.
    """
    answer = ask_member(control, work.links, 0)
    found, theirs = (
        rates_at_state_of(work.links, 0),
        rates_at_state_of(work.links, several_in(work.several).present),
    )
    for k in range(system.n):
        system.rates_at_state[k] = theirs[k] = found[k]
    return answer


@inner
def _attempt(system, work, control):
    """Have the present member attempt the step.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
    """
    present = several_in(work.several).present
    control.order, control.member = work.orders[present], present
    return ask_member(control, work.links, present)


@inner
def _describe(system, work, control):
    """Have the present member describe its step.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
    """
    present = several_in(work.several).present
    answer = ask_member(control, work.links, present)
    fill_degrees(control, work.links, present, work.room, system.n)
    return answer


@inner
def _start(system, work, control):
    """Have the member of the lowest order start.

    Parameters
    ----------
    system : System
    work : VariableOrderWork
    control : CONTROL

    Returns
    -------
    int
    """
    several = several_in(work.several)
    several.present, several.good, several.refusals = 0, 0, 0
    if control.accepted == 0:
        for i in range(work.highest + 1):
            work.taken[i] = 0
    hand_rates_at_state(system, work.links, 0)
    return ask_member(control, work.links, 0)


family = answering(several_work_in, _attempt, _accept, _refuse, _start, _describe, derive=_derive)
