"""Choosing the length of the next step by a controller that is data (`families.controller`)."""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.bundles import CONTROLLER
from unhurried_heron.kernels.memory.call import as_record

controller_at = as_record(CONTROLLER)
# An error of zero counts as this.
_TINY = 1e-300


@inner
def forget(address):
    """Begin anew: there is no step before."""
    controller_at(address).previous_step = 0.0


@inner
def factor_after_acceptance(address, error, control):
    """Return by what to multiply the length of an accepted step, and remember the step.

    Parameters
    ----------
    address : int
        Address of the record of the controller.
    error : float
        In tolerances.
    control : CONTROL

    Returns
    -------
    float
    """
    it = controller_at(address)
    # logarithms, so that the powers cost one exponential
    size = max(np.log(max(error, _TINY)) - it.aim, it.least)
    growth = -it.alone * size
    if it.previous_step != 0.0:
        trend = -it.now * size - it.before * it.previous_size
        if it.steps != 0.0:
            trend += it.steps * np.log(control.length / it.previous_step)
        growth = min(trend, growth) if it.cautious == 1 else trend
    it.previous_size, it.previous_step = size, control.length
    factor = min(it.grow, max(it.shrink, np.exp(growth)))
    if 1.0 < factor < it.deadband:
        factor = 1.0
    return min(factor, 1.0) if control.after_refusal == 1 else factor


@inner
def factor_after_refusal(address, error):
    """Return by what to multiply the length of a refused step."""
    it = controller_at(address)
    # An error that is not a number says only that the step must be shorter.
    if not error < np.inf:
        return it.shrink
    return max(it.shrink, np.exp(-it.alone * (np.log(error) - it.aim)))
