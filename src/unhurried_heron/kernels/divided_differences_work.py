"""What multistep methods of variable step work on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON

VARIABLE: Final = np.dtype(
    [
        ("order", np.int64),
        ("count", np.int64),  # rows of the table that are there
        ("steady", np.int64),  # steps since order or length changed
        ("refusals", np.int64),  # of the present step
        ("starting", np.int64),  # whether every step so far raised the order
        ("unit", np.float64),  # of time, in the table
        ("below", np.float64),  # errors of the order below, of this and of the one above, in units of the tolerance
        ("here", np.float64),
        ("above", np.float64),
        ("further", np.float64),  # of two orders below
    ],
    align=True,
)


class VariableWork(NamedTuple):
    """A multistep method of variable step and order (`kernels.divided_differences`).

    ``table``, ``fresh`` (rows, n): divided differences from the present point backward, and those from the end of the
    attempt; ``times`` (rows,) of the points; ``spans``, ``sums`` (rows,) scratch; ``most`` order. ``evaluations`` a
    step of an explicit method. Of an implicit one besides: what `DiagonalWork` has.
    """

    variable: Annotated[Any, VARIABLE]
    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    growth: int
    factor: int
    solve: int
    context: int
    rows: int
    most: int
    evaluations: int
    table: Array
    fresh: Array
    times: Array
    spans: Array
    sums: Array
    weights: Array
    limits: Array
    jacobian: Array
    spare: Array
    scale: Array
    shifted: Array
    base: Array
    z: Array
    residual: Array
    moved: Array
