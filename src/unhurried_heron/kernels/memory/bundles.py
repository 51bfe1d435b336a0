"""The groups of things a march works on, and the table of addresses in which they reach a kernel.

Each bundle has two forms with the same fields. The driver fills it with arrays and whole numbers, all allocated by it
and C-ordered, float64 unless said otherwise; a kernel sees pointers in the place of the arrays (`decoding`). Between
the two they travel as one int64 table, bundle after bundle, field after field, an array by its address. So a kernel has
one argument and can be called without Numba. n is the number of states, m of events.
"""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.control import LEDGER
from unhurried_heron.native.signature import address

# arrays of doubles and of whole numbers on the driver's side, pointers on the kernel's; decoders are made from these.
# A record (one element of a structured array) is annotated with its dtype
Array = Annotated[Any, float]
LongArray = Annotated[Any, int]


class System(NamedTuple):
    """The user's problem.

    ``rates``, ``context``, ``jacobian``, ``jacobian_context``, ``time_slope``, ``time_slope_context``: addresses
    (Jacobian or slope in time 0: by differences). ``moves``: whether the rates may depend on the time.
    ``state`` (n,): the present state, written by the march; ``slope`` (n,): the rates there, kept up to date by the
    family; ``trial`` (n,): the state at the end of an attempt, filled by the family, scratch otherwise.
    ``relative``, ``absolute`` (n,): tolerances.
    Of a Jacobian found by differences in groups of columns (``n_groups`` 0: one by one), int64: ``group`` (n,) of each
    column; ``rows``, ``columns``, ``places`` (n_entries,) of what can be nonzero; ``increments`` (n,) is scratch.
    """

    n: int
    rates: int
    context: int
    jacobian: int
    jacobian_context: int
    time_slope: int
    time_slope_context: int
    moves: int
    state: Array
    slope: Array
    trial: Array
    relative: Array
    absolute: Array
    n_groups: int
    n_entries: int
    group: LongArray
    rows: LongArray
    columns: LongArray
    places: LongArray
    increments: Array


class Parts(NamedTuple):
    """Addresses of the kernels that a march calls: its family's own, and the search for events."""

    family: int
    search: int


class Watch(NamedTuple):
    """The events.

    ``addresses`` int64 (m, 2): function and context; ``going``, ``stop`` int64 (m,); ``values`` (4, m), kept by
    the march.
    Found events go to ``times`` (room,), ``which`` int64 (room,), ``states`` (room, n); ``trial`` (n,) is scratch.
    """

    m: int
    room: int
    addresses: LongArray
    going: LongArray
    stop: LongArray
    values: Array
    times: Array
    which: LongArray
    states: Array
    trial: Array


class Output(NamedTuple):
    """What a chunk leaves: the accepted steps that are kept, and attempted steps.

    ``starts``, ``steps`` (room,); ``coefficients`` (room, degree + 1, n): state = sum of coefficients[d] theta^d for
    theta in [0, 1], a lower degree with zeros; ``size`` is the length of one step's coefficients. ``ledger`` (rows,) of
    `control.LEDGER`; ``rows`` is 0 where it is not kept. ``wanted``: times at which the state is recorded, in the order
    of the run, and an infinity; ``recorded`` (times, n): the states there. ``recent`` (RECENT,): how long the last
    accepted steps were, in a ring.
    """

    room: int
    rows: int
    size: int
    starts: Array
    steps: Array
    coefficients: Array
    ledger: Annotated[Any, LEDGER]
    wanted: Array
    recorded: Array
    recent: Array


CONTROLLER: Final = np.dtype(
    [
        ("aim", np.float64),  # logarithms of the error, and of the smallest that it tells apart, over the aim
        ("least", np.float64),
        ("alone", np.float64),  # exponents
        ("now", np.float64),
        ("before", np.float64),
        ("steps", np.float64),
        ("cautious", np.int64),
        ("shrink", np.float64),
        ("grow", np.float64),
        ("deadband", np.float64),  # a factor of growth below which a step keeps its length
        ("previous_size", np.float64),  # of the step before: logarithm of its error over the aim, and length (0 none)
        ("previous_step", np.float64),
    ],
    align=True,
)

# where each bundle begins in a march's table: the control record, then the bundles every march has, then its own
SYSTEM: Final = 1
PARTS: Final = SYSTEM + len(System._fields)
WATCH: Final = PARTS + len(Parts._fields)
OUTPUT: Final = WATCH + len(Watch._fields)
OWN: Final = OUTPUT + len(Output._fields)


def address_table(*parts: Any) -> Any:
    """Return the int64 table of arrays and whole numbers; the arrays must be kept alive beside it."""
    return np.array([address(part) if isinstance(part, np.ndarray) else part for part in parts], dtype=np.int64)
