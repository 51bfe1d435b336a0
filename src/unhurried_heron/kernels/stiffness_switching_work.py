"""What a choice between two methods works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import Array, LongArray

CHOICE: Final = np.dtype(
    [
        ("stiff", np.int64),  # whether the present method is the one for stiff intervals
        ("allowed", np.int64),  # whether there is another
        ("signs", np.int64),  # in a row, that the other would be better
        (
            "wait",
            np.int64,
        ),  # how many of these signs are waited for; until a run begins 0, or less than that by so many
        ("due", np.int64),  # the next look, in steps since the last change
        ("since", np.int64),  # these, and when that was, and how long steps were then
        ("begun", np.float64),
        ("length", np.float64),
        ("seen", np.float64),  # the largest modulus of an eigenvalue by the last two looks, 0 unknown
        ("decay", np.float64),  # the largest modulus of an eigenvalue, as far as it is known
    ],
    align=True,
)

# Changes from one method to the other that are listed with their times.
CHANGES: Final = 32

# indices of ``limits``: the non-stiff method's real limit of stability; how many of its steps one of the stiff method
# costs; h times an eigenvalue beyond which the steps are those that stability chose; and how many steps the stiff one
# takes before their length tells something
STABILITY_LIMIT, STIFF_STEP_COST, PACE, FIRST_STEPS = range(4)


class StiffnessSwitchingWork(NamedTuple):
    """Two methods of which one marches at a time; in ``links`` the non-stiff one is the first.

    ``orders`` int64 (2,); ``limits`` (4,): see above. ``direction``, ``earlier``, ``moved``, ``rates``, ``sizes`` (n,)
    for the largest eigenvalue. ``room``: the larger degree of their polynomials. ``taken`` int64 (2,): steps of each;
    ``when`` (CHANGES,): times of the first changes. ``radius`` int64 (1,): the address of the largest eigenvalue where
    the stiff method knows it, else 0.
    """

    choice: Annotated[Any, CHOICE]
    room: int
    links: LongArray
    orders: LongArray
    limits: Array
    direction: Array
    earlier: Array
    moved: Array
    rates: Array
    sizes: Array
    taken: LongArray
    when: Array
    radius: LongArray
