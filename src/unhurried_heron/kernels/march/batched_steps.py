"""Strides: fixed steps between which nobody looks, many at once (`codegen.batched_steps`)."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.batch import BLOCK, CODE, MADE
from unhurried_heron.kernels.memory.call import address_of, call_kernel, call_stride
from unhurried_heron.kernels.memory.control import (
    RATES_STOPPED,
    REACHED_END,
    RECENT,
    SMALLEST_RELATIVE_STEP,
    STRIDE,
)

_N, _RATES, _CONTEXT, _STATE, _OTHER = (BLOCK.index(name) for name in ("n", "rates", "context", "state", "other"))
# This many steps before the end, and before a wanted time, are taken one by one.
_LAST = 2
# A batch of fewer steps costs more than it saves.
_WORTH = 4


@inner
def _before(control, time):
    """How many steps end well before a time."""
    return (time - control.origin) / control.step - control.fixed_steps - _LAST


@inner
def stride(control, output, parts, address):
    """Let the family take the steps that nobody looks at; return REACHED_END if all is well.

    Parameters
    ----------
    control : CONTROL
    output : Output
    parts : Parts
    address : int
        Address of the table of the march.

    Returns
    -------
    int
        REACHED_END, or the reason of the family.
    """
    furthest = max(abs(control.time), abs(control.end))
    if abs(control.step) < SMALLEST_RELATIVE_STEP * furthest:
        return REACHED_END
    room = min(_before(control, control.end), _before(control, output.wanted[control.next_wanted]))
    control.stride = int(min(room, float(control.attempts_left)))
    if control.stride < _WORTH:
        return REACHED_END
    control.ask = STRIDE
    reason = call_kernel(parts.family, address)
    taken = control.stride
    if taken == 0:
        return reason
    control.length = control.step
    for i in range(min(taken, RECENT)):
        output.recent[(control.accepted + taken - 1 - i) & (RECENT - 1)] = control.step
    control.accepted += taken
    control.fixed_steps += taken
    control.attempts_left -= taken
    control.time = control.origin + control.fixed_steps * control.step
    return reason


@inner
def native_stride(system, control, function, block, evaluations):
    """Take the steps in machine code of the method's own, and count.

    Parameters
    ----------
    system : System
    control : CONTROL
    function : int
        Address of the machine code.
    block : int64 pointer
        Its arguments, as `codegen.batched_steps` lays them out.
    evaluations : int
        Of the rates in each step.

    Returns
    -------
    int
        REACHED_END or RATES_STOPPED.
    """
    left = (control.evaluation_limit - control.rate_evaluations) // evaluations
    count = min(control.stride, left)
    block[_N], block[_RATES], block[_CONTEXT] = system.n, system.rates, system.context
    block[_STATE], block[_OTHER] = address_of(system.state), address_of(system.trial)
    control.stride = call_stride(function, control.origin, control.step, control.fixed_steps, count, block)
    control.rate_evaluations += control.stride * evaluations + block[MADE]
    if block[CODE] >= 1:
        return REACHED_END
    control.bad_time = control.origin + (control.fixed_steps + control.stride + 1) * control.step
    return RATES_STOPPED
