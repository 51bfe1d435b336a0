"""What a stabilised method works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray

STRETCH: Final = np.dtype(
    [
        ("radius", np.float64),  # the largest eigenvalue
        ("cost", np.int64),  # evaluations that it took, 0 where it is to be found
        ("spent", np.int64),  # and those of steps since then
        # of the present attempt
        ("code", np.int64),
        ("squared", np.float64),
        ("index", np.int64),  # of its number of stages, where these have coefficients of their own
        ("node", np.float64),  # where its middle lies, 0 without one
        ("weight", np.float64),  # of the error estimate
    ],
    align=True,
)


class StabilisedWork(NamedTuple):
    """A stabilised method and its work space, kept between chunks.

    ``fixed_stages``: how many there are, 0 where each step takes what it needs. Rows (n,): ``stage`` and the one
    ``before``, the ``rates`` there, a stage in the ``middle``, the rates at the ``end``, the ``direction`` of the
    largest eigenvalue.

    Of a method with coefficients of its own for ``n_tables`` numbers of stages, by which ``fixed_stages`` counts: these
    (``counts``), how far each reaches (``limits``), where its ``coefficients`` begin, the rates of the stages that
    ``finishing`` (4, n) holds; the estimated error stands in the ``middle``.
    """

    stretch: Annotated[Any, STRETCH]
    controller: Annotated[Any, CONTROLLER]
    fixed_stages: int
    stage: Array
    before: Array
    rates: Array
    middle: Array
    end: Array
    direction: Array
    n_tables: int
    counts: LongArray
    limits: Array
    begins: LongArray
    coefficients: Array
    finishing: Array
