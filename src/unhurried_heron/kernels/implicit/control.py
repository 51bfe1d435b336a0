"""Choosing the next step of an implicit march, and whether Jacobian and factors are kept.

``work``: any bundle with ``memory``, ``controller`` and ``newton``, records.
"""

from __future__ import annotations

from unhurried_heron.kernels.implicit.newton import forget_iterations
from unhurried_heron.kernels.implicit.scale import set_scale
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.controller import factor_after_acceptance, factor_after_refusal, forget
from unhurried_heron.kernels.march.outcome import first_not_finite, too_short
from unhurried_heron.kernels.memory.control import (
    NEWTON_FAILED,
    NOT_FINITE,
    REACHED_END,
    STEP_TOO_SMALL,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory, newton_in
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, GROWS, OLD

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
def after_failure(control, system, work, rates):
    """Shorten a step that was solved but too wrong, or not solved; return a reason to give up, or REACHED_END.

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
    if implicit_memory(work.memory).outcome == CONVERGED:
        return _after_refusal(control, work)
    return after_divergence(control, system, work, rates)


@inner
def begin_anew(control, system, work):
    """Forget what was learnt before the start, or before a switch.

    Parameters
    ----------
    control : CONTROL
    system : System
    work : work space of an implicit family
    """
    memory = implicit_memory(work.memory)
    memory.previous_step = memory.factored_step = 0.0
    memory.jacobian_age = memory.trusted = 0
    forget(work.controller)
    forget_iterations(work)
    set_scale(system, work, control.step)


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
