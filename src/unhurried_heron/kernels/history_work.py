"""What multistep methods at fixed steps work on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON

HISTORY: Final = np.dtype(
    [
        ("count", np.int64),  # how many rows of the past there are
        ("head", np.int64),  # the newest
        ("length", np.float64),  # of the steps between them, 0 where there is one alone
        ("delegated", np.int64),  # whether the present step is the starter's
        ("handed", np.int64),  # whether the starter knows where the march is
    ],
    align=True,
)


class ExplicitHistoryWork(NamedTuple):
    """An explicit multistep method, or predictor and corrector, and its past (`kernels.history`).

    ``predicts``, ``weights`` (2 steps,): of values and of rates; ``newest`` (1,): b_0; ``corrects``: whether there is
    a corrector. ``degree`` of its own polynomial, ``room`` for that of the starter. ``predicted`` (n,): the new rates.
    ``stride``: the address of its code, ``block``: see `codegen.batched_steps`.
    """

    history: Annotated[Any, HISTORY]
    steps: int
    degree: int
    room: int
    by_past_rates: int
    corrects: int
    stride: int
    links: LongArray
    interpolant: Array
    predicts: Array
    weights: Array
    newest: Array
    past: Array
    past_rates: Array
    predicted: Array
    block: LongArray


class ImplicitHistoryWork(NamedTuple):
    """An implicit multistep method and its past: as `ExplicitHistoryWork`, solved as in `DiagonalWork`."""

    history: Annotated[Any, HISTORY]
    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    factor: int
    solve: int
    context: int
    steps: int
    degree: int
    room: int
    by_past_rates: int
    links: LongArray
    interpolant: Array
    predicts: Array
    weights: Array
    newest: Array
    past: Array
    past_rates: Array
    limits: Array
    jacobian: Array
    scale: Array
    shifted: Array
    base: Array
    z: Array
    residual: Array
    defect: Array
    direction: Array
    stage: Array
    kept: Array
    guess: Array
