"""Steps across a pole are refused: a formula that the rates are divided by must not change its sign where they blow up.

A step may be far longer than the distance to a pole, and meet the tolerance on its other side, where the solution never
comes.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.call import call_native, offset_by
from unhurried_heron.kernels.memory.control import FOR_ESTIMATES

# Beyond the zero of a denominator the rates are evaluated at this distance, as a share of the step.
_NEAR = 1e-12
# At a pole they are this many times larger there than at the ends of the step.
_BLOWN_UP = 1e3
# the share of its length to which an attempt is shortened
SHORTER = 0.25


@inner
def is_guarded(system, control):
    """Whether there is anything to look at in each step."""
    return system.n_guards > 0 or control.n_parts > 0


@inner
def note_guards(system, control):
    """Evaluate the guards where the march stands; what gives no number is not watched."""
    if is_guarded(system, control):
        call_native(system.guards, control.time, system.state, system.guarded, system.guards_context)


@inner
def pass_guards(system):
    """Take the guards at the end of the step for those where the march stands."""
    for k in range(system.n_guards):
        system.guarded[k] = system.guarded[system.n_guards + system.n_arguments + k]


@inner
def _largest(values, n):
    size = 0.0
    for k in range(n):
        size = max(size, abs(values[k]))
    return size


@inner
def _is_pole(system, control, scratch, share):
    """Whether the rates blow up at a share of the way from the state to the end of the attempt.

    Parameters
    ----------
    system : System
    control : CONTROL
    scratch : float pointer, (n,)
        Scratch space.
    share : float
        Of the way.

    Returns
    -------
    bool
    """
    n, rates = system.n, offset_by(system.guarded, 2 * (system.n_guards + system.n_arguments))
    ends = _largest(system.rates_at_state, n)
    for turn in range(2):
        there = 1.0 if turn == 0 else share + _NEAR
        for k in range(n):
            scratch[k] = system.state[k] + there * (system.trial[k] - system.state[k])
        code = ask_rates(system, control, FOR_ESTIMATES, control.time + there * control.length, scratch, rates)
        if code != 1:
            return True
        if turn == 0:
            ends = max(ends, _largest(rates, n))
    return not _largest(rates, n) <= _BLOWN_UP * ends


@inner
def look_ahead(system, control):
    """Evaluate the guards at the end of the attempt; False if they stopped."""
    ends = offset_by(system.guarded, system.n_guards + system.n_arguments)
    return call_native(system.guards, control.finish, system.trial, ends, system.guards_context) == 1


@inner
def crossed_pole(system, control, scratch):
    """Return the number of a guard whose sign the attempt has changed across a pole, -1 for none.

    Parameters
    ----------
    system : System
    control : CONTROL
    scratch : float pointer, (n,)
        Scratch space.

    Returns
    -------
    int
    """
    ends = offset_by(system.guarded, system.n_guards + system.n_arguments)
    for k in range(system.n_guards):
        before, after = system.guarded[k], ends[k]
        if before * after < 0.0 and _is_pole(system, control, scratch, before / (before - after)):
            return k
    return -1


@inner
def refuse_for(control, guard, share):
    """Refuse an attempt that its family took, for a guard, and set a share of its length for the next.

    Parameters
    ----------
    control : CONTROL
    guard : int
        Its number.
    share : float
        Of the length of the attempt.
    """
    control.step = share * control.length
    control.guard = guard
    control.refused += 1
    control.after_refusal = 1
