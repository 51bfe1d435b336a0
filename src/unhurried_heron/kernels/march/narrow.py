"""Steps do not leap over narrow parts of the rates: where an argument comes to one, steps move it across bit by bit.

A part is a row of four numbers: which argument, its lower and upper end, and by how much a step may move it within.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.guards import refuse_for
from unhurried_heron.kernels.memory.call import offset_by

# columns of ``system.parts``
ARGUMENT, LOW, HIGH, LONGEST = range(4)
# how many they are
PART_SIZE = 4
# Steps that move an argument by up to this multiple of its bound are still accepted, because the bound was foreseen
# from the step before.
_ALLOWANCE = 1.5
# no step is shortened below this share at once: what the argument does in a shorter step is not known
_MIN = 1e-3


@inner
def _allowed(part, before, move):
    """Return how far an argument may be moved from where it is in a direction, on account of one part.

    Parameters
    ----------
    part : float pointer, (PART_SIZE,)
    before : float
        The argument where the step begins.
    move : float
        The direction.

    Returns
    -------
    float
    """
    low, high, longest = part[LOW], part[HIGH], part[LONGEST]
    if move > 0.0:
        return np.inf if before >= high else max(low - before, 0.0) + longest
    return np.inf if before <= low else max(before - high, 0.0) + longest


@inner
def share_allowed(system, control, after):
    """Return which share of a step ends before a narrow part has been leapt over.

    Parameters
    ----------
    system : System
    control : CONTROL
    after : float pointer, (n_guards + n_arguments,)
        Guards and arguments at the end of the step.

    Returns
    -------
    float
    """
    share = 1.0
    for k in range(control.n_parts):
        part = offset_by(system.parts, PART_SIZE * k)
        index = system.n_guards + int(part[ARGUMENT])
        before = system.guarded[index]
        move = after[index] - before
        if abs(move) > part[LONGEST] and abs(move) < np.inf:
            # An argument that does not reach the part is not bounded by it.
            share = min(share, _allowed(part, before, move) / abs(move))
    return share


@inner
def leaps_over(system, control):
    """Whether an attempt leaps over a narrow part, and is refused for it."""
    share = share_allowed(system, control, offset_by(system.guarded, system.n_guards + system.n_arguments))
    if share * _ALLOWANCE >= 1.0:
        return False
    refuse_for(control, system.n_guards, max(share, _MIN))
    return True


@inner
def foresee(system, control, length):
    """Shorten the next step as far as the last, of some length, tells that it would leap over a narrow part.

    Parameters
    ----------
    system : System
    control : CONTROL
    length : float
        That of the last step, with its sign.
    """
    m = system.n_guards + system.n_arguments
    scale = control.step / length
    for k in range(system.n_guards, m):
        end = system.guarded[m + k]
        system.guarded[m + k] = end + scale * (end - system.guarded[k])
        system.guarded[k] = end
    control.step *= share_allowed(system, control, offset_by(system.guarded, m))
