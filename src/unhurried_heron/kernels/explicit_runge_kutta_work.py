"""What an explicit Runge-Kutta method works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray

EXPLICIT_MEMORY: Final = np.dtype(
    [
        ("squared", np.float64),  # squared error of the present attempt
        ("code", np.int64),  # of the rates in it
    ],
    align=True,
)


class Tableau(NamedTuple):
    """An explicit method, its arithmetic compiled by `codegen.runge_kutta_ir`.

    ``attempt``, ``further``, ``error``, ``polynomial``, ``stride``: addresses. ``degree`` of the step polynomial;
    ``width``: rows of ``stages``, one for each stage and, where it is no stage, one for the rate at the end of the
    step; ``total`` with the further stages, beyond which is room for a state. ``where`` int64 (1,): the stage at which
    the rates stopped; ``block``: see `codegen.batched_steps`.
    """

    memory: Annotated[Any, EXPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    attempt: int
    further: int
    error: int
    polynomial: int
    stride: int
    degree: int
    width: int
    total: int
    stages: Array
    where: LongArray
    block: LongArray
