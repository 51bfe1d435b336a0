"""What an iteration starts from at fixed steps: what is foreseen from the steps before, or no change.

A step that is long for what the solution does has several roots, and a prediction may lie at another than the one
connected with the present state: of y' = -y^2 the tangent from 1, two further on, ends in the mirror root exactly. So a
prediction is used only where the one of the step before came true, and its answer is kept only if this one does.
``work`` has ``z`` and ``guess`` (count,), and ``scale`` (n,).
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.decoding import implicit_memory

# A prediction counts as true if it misses the movement of the step by less than this share of it.
_CAME_TRUE = 0.3


@inner
def start_from(work, control, count):
    """Keep what is foreseen in ``z`` as the guess; start from no change where it is not to be trusted.

    Parameters
    ----------
    work : work space of an implicit family
    control : CONTROL
    count : int
        Numbers of the guess.

    Returns
    -------
    bool
        Whether the guess is trusted.
    """
    if control.adaptive == 1:
        return True
    trusted = implicit_memory(work.memory).trusted == 1
    for k in range(count):
        work.guess[k] = work.z[k]
        if not trusted:
            work.z[k] = 0.0
    return trusted


@inner
def came_true(work, n, count):
    """Note, and return, whether the solution in ``z`` is near to the guess.

    Parameters
    ----------
    work : work space of an implicit family
    n : int
        Number of states.
    count : int
        Numbers of the guess.

    Returns
    -------
    bool
    """
    missed, moved = 0.0, 0.0
    for k in range(count):
        unit = 1.0 / work.scale[k % n]
        missed = max(missed, abs(work.z[k] - work.guess[k]) * unit)
        moved = max(moved, abs(work.z[k]) * unit)
    # A movement below the resolution of the state needs no trust.
    true = missed <= _CAME_TRUE * moved or missed <= 1.0
    memory = implicit_memory(work.memory)
    memory.foreseen = memory.foreseen and int(true)
    return true
