"""What families work on that remember past steps, or are made of others, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray
from unhurried_heron.kernels.memory.work_spaces import IMPLICIT_MEMORY, NEWTON

CHOICE: Final = np.dtype(
    [
        ("stiff", np.int64),  # whether the present method is the one for stiff intervals
        ("allowed", np.int64),  # whether there is another
        ("signs", np.int64),  # in a row, that the other would be better
        ("wait", np.int64),  # how many of these signs are waited for
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


# columns of ``links``, a row for each member of a family that is made of others
LINK_KERNEL, LINK_TABLE, LINK_DEGREE = range(3)
# and how many they are
LINK_SIZE: Final = 3
# indices of ``limits``: the non-stiff method's real limit of stability; how many of its steps one of the stiff method
# costs; and h times an eigenvalue beyond which the steps are those that stability chose
STABILITY_LIMIT, STIFF_STEP_COST, PACE = range(3)


class StiffnessSwitchingWork(NamedTuple):
    """Two methods of which one marches at a time, that of ``links``.

    ``orders`` int64 (2,); ``limits`` (3,): see above. ``direction``, ``earlier``, ``moved``, ``rates``, ``sizes`` (n,)
    for the largest eigenvalue. ``room``: the larger degree of their polynomials. ``taken`` int64 (2,): steps of each;
    ``when`` (CHANGES,): times of the first changes.
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


class ClosedFormWork(NamedTuple):
    """Closed forms in place of a method, to start others: ``function`` and ``context`` addresses.

    ``order`` int64 (n,): where each state stands among the closed forms, ``values`` (n,); ``degree`` of the
    polynomials, through ``theta`` (degree + 1,) by ``inverse`` (degree + 1, degree + 1).
    """

    function: int
    context: int
    degree: int
    order: LongArray
    values: Array
    theta: Array
    inverse: Array
