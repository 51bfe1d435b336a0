"""Choosing the next step of an implicit march, and whether Jacobian and factors are kept.

``work``: any bundle with ``memory``, ``controller`` and ``newton``, records.
"""

from __future__ import annotations

from unhurried_heron.kernels.implicit.growth import heed_growth
from unhurried_heron.kernels.implicit.newton import forget_iterations
from unhurried_heron.kernels.implicit.scale import set_scale
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.controller import factor_after_acceptance, factor_after_refusal, forget
from unhurried_heron.kernels.march.outcome import first_not_finite, too_short
from unhurried_heron.kernels.memory.control import (
    ACCEPTED,
    NEWTON_FAILED,
    NOT_FINITE,
    PAUSED,
    RATES_STOPPED,
    REACHED_END,
    REFUSED,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory, newton_in
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, GROWS, OLD, STOPPED

# Below this contraction the next step needs no third iteration, which is worth keeping an old Jacobian.
_GOOD_CONTRACTION = 3e-3
# new factors cost about a tenth to a third of a step (measured: 8 to 100 states), which longer steps must gain
_WORTH_GROWING = 1.25
# A step that would damp a growing mode is shortened by the largest factor allowed from one step to the next.
_BELOW_GROWTH = 1.0 / 6.0


@inner
def after_divergence(control, system, work, rates):
    """Shorten the step, or try a fixed one with a fresh Jacobian; return a reason to give up, or REACHED_END.

    ``rates``: the last that were evaluated, at ``system.trial``.

    Parameters
    ----------
    control : CONTROL
    system : System
    work : work space of an implicit family
    rates : float pointer, (n,)
        The last that were evaluated, at ``system.trial``.

    Returns
    -------
    int
        REACHED_END, STEP_TOO_SMALL, NOT_FINITE or NEWTON_FAILED.
    """
    memory, h = implicit_memory(work.memory), control.length
    if memory.outcome == GROWS:
        control.step = h * _BELOW_GROWTH
        return STEP_TOO_SMALL if too_short(control) else REACHED_END
    control.newton_failures += 1
    control.bad_component = first_not_finite(system.trial, rates, system.n)
    if control.bad_component >= 0:
        control.bad_time = control.time + h
    stale = memory.jacobian_age == OLD
    if stale:
        memory.jacobian_age = 0
    if control.adaptive == 0:
        if stale:
            return REACHED_END
    else:
        control.step = h * newton_in(work.newton).shrink
        if not too_short(control):
            return REACHED_END
    return NOT_FINITE if control.bad_component >= 0 else NEWTON_FAILED


@inner
def _after_refusal(control, work):
    """Shorten the step after too large an error; return a reason to give up, or REACHED_END."""
    memory = implicit_memory(work.memory)
    control.step = control.length * factor_after_refusal(work.controller, memory.error)
    if memory.jacobian_age == OLD:
        memory.jacobian_age = 0
    if too_short(control):
        return STEP_TOO_SMALL
    return REACHED_END


@inner
def after_failure(system, work, control, rates):
    """Shorten a step that was solved but too wrong, or not solved; return a reason to give up, or REACHED_END.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    rates : float pointer, (n,)
        The last that were evaluated, at ``system.trial``.

    Returns
    -------
    int
        REACHED_END, STEP_TOO_SMALL, NOT_FINITE or NEWTON_FAILED.
    """
    if implicit_memory(work.memory).outcome == CONVERGED:
        return _after_refusal(control, work)
    return after_divergence(control, system, work, rates)


@inner
def begin_anew(system, work, control):
    """Forget what was learnt before the start, or before a switch; return REACHED_END.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL

    Returns
    -------
    int
    """
    memory = implicit_memory(work.memory)
    memory.previous_step = memory.factored_step = 0.0
    memory.jacobian_age = memory.trusted = 0
    forget(work.controller)
    forget_iterations(work)
    set_scale(system, work, control.step)
    return REACHED_END


@inner
def after_acceptance(control, work):
    """Choose the next step and decide whether Jacobian and factors are kept."""
    memory = implicit_memory(work.memory)
    memory.previous_step = control.length
    memory.jacobian_age = OLD if newton_in(work.newton).theta <= _GOOD_CONTRACTION else 0
    if control.adaptive == 0:
        return
    factor = factor_after_acceptance(work.controller, memory.error, control)
    if not (memory.jacobian_age == OLD and 1.0 <= factor <= _WORTH_GROWING):
        control.step = control.length * factor


@inner
def note_solution(system, work, control, outcome, count):
    """Note how the equations of an attempt were solved, and return what it answers so far.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    outcome : int
        CONVERGED, DIVERGED, STOPPED or GROWS.
    count : int
        Iterations.

    Returns
    -------
    int
        ACCEPTED where they were solved; REFUSED, PAUSED or RATES_STOPPED.
    """
    memory = implicit_memory(work.memory)
    control.row_iterations, memory.outcome = count, outcome
    if control.stop != 0:
        # The march returns: an unfinished Jacobian is not used if it is resumed.
        memory.jacobian_age, memory.factored_step = 0, 0.0
        return PAUSED
    if outcome == STOPPED:
        return RATES_STOPPED
    return ACCEPTED if outcome == CONVERGED else REFUSED


@inner
def refuse_not_finite(system, work, answer):
    """Return REFUSED in place of ACCEPTED where the end of the attempt is not finite.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    answer : int
        Of the attempt so far.

    Returns
    -------
    int
    """
    if answer == ACCEPTED and first_not_finite(system.trial, system.trial, system.n) >= 0:
        implicit_memory(work.memory).outcome = DIVERGED
        return REFUSED
    return answer


@inner
def finish_step(system, work, control, context, moves):
    """Choose the step after an accepted one, by its error and by what grows.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of a context of real factors.
    moves : float pointer, (n,)
        How far each state moved in the step.
    """
    set_scale(system, work, control.step)
    after_acceptance(control, work)
    heed_growth(system, work, control, context, moves)
