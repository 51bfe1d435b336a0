"""What a choice among several orders works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import LongArray

SEVERAL: Final = np.dtype(
    [
        ("present", np.int64),  # which member marches
        ("good", np.int64),  # steps in a row whose iterations contracted well
        ("refusals", np.int64),  # of the present step
    ],
    align=True,
)


class VariableOrderWork(NamedTuple):
    """Several methods of rising order, all laid out: ``orders``, steps ``taken`` int64, ``highest`` that is taken."""

    several: Annotated[Any, SEVERAL]
    highest: int
    room: int
    links: LongArray
    orders: LongArray
    taken: LongArray
