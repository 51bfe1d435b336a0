"""The groups of things a march works on, and the table of addresses in which they reach a kernel.

Each bundle has two forms with the same fields. The driver fills it with arrays and whole numbers, all allocated by it
and C-ordered, float64 unless said otherwise; a kernel sees pointers in place of the arrays (`decoding`). Between
the two they travel as one int64 table, bundle after bundle, field after field, an array by its address. So a kernel has
one argument and can be called without Numba. n is the number of states, m of events.
"""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.control import LEDGER

# arrays of doubles and of whole numbers on the driver's side, pointers on the kernel's; decoders are made from these.
# A record (one element of a structured array) is annotated with its dtype
Array = Annotated[Any, float]
LongArray = Annotated[Any, int]


class System(NamedTuple):
    """The user's problem.

    ``rates``, ``context``, ``jacobian``, ``jacobian_context``, ``time_derivative``, ``time_derivative_context``:
    addresses (Jacobian or time derivative 0: by differences). ``moves``: whether the rates may depend on the time.
    ``state`` (n,): the present state, written by the march; ``rates_at_state`` (n,): the rates there, kept up to date
    by the family; ``trial`` (n,): the state at the end of an attempt, filled by the family, scratch otherwise.
    ``relative``, ``absolute`` (n,): tolerances. ``guards``, ``guards_context``: a function of ``n_guards`` numbers that
    must not change their signs across a pole, and ``n_arguments`` that must not leap over narrow parts of the rates;
    ``guarded`` (2 (n_guards + n_arguments) + n,): them where the march stands and at the end of the attempt, and rates
    there. ``parts`` (``control.n_parts``, 4): see `kernels.march.narrow`. ``nonnegative`` (n_nonnegative,) int64: the
    states that the march keeps from falling below zero. ``manifold``, ``manifold_context``: a function of
    ``n_manifold`` numbers that are zero all along, and of the ``n_manifold_entries`` of their derivatives by the
    states, which go to ``manifold_work``; see `kernels.march.manifold`. Of a Jacobian found by differences in groups
    of columns (``n_groups`` 0: one by one), int64: ``group`` (n,) of each column; ``rows``, ``columns``,
    ``jacobian_indices`` (n_entries,) of what can be nonzero; ``increments`` (n,) is scratch. ``n_entries`` of any other
    Jacobian are how many numbers its function writes. Where linear algebra takes products with the Jacobian
    (``operator``), where that is taken is kept in its place: time, state and rates. M of
    M y' = rates has ``n_mass`` entries ``mass`` in int64 ``mass_rows`` and ``mass_columns``, none where it is the
    identity; ``mass_sizes`` (n,): sums of their sizes by rows, of which ``n_constraints`` are 0. ``rates_at_state`` are
    y' then.
    """

    n: int
    rates: int
    context: int
    jacobian: int
    jacobian_context: int
    time_derivative: int
    time_derivative_context: int
    moves: int
    state: Array
    rates_at_state: Array
    trial: Array
    relative: Array
    absolute: Array
    n_guards: int
    guards: int
    guards_context: int
    guarded: Array
    n_arguments: int
    parts: Array
    n_nonnegative: int
    nonnegative: LongArray
    n_manifold: int
    manifold: int
    manifold_context: int
    n_manifold_entries: int
    manifold_order: LongArray
    manifold_rows: LongArray
    manifold_columns: LongArray
    manifold_numbers: LongArray
    manifold_first: LongArray
    manifold_begins: LongArray
    manifold_work: Array
    n_groups: int
    n_entries: int
    group: LongArray
    rows: LongArray
    columns: LongArray
    jacobian_indices: LongArray
    increments: Array
    operator: int
    n_mass: int
    n_constraints: int
    mass_rows: LongArray
    mass_columns: LongArray
    mass: Array
    mass_sizes: Array


class Parts(NamedTuple):
    """Addresses of the kernels that a march calls: its family's own, the search for events, and the crossing."""

    family: int
    search: int
    cross: int


class Watch(NamedTuple):
    """The events.

    ``addresses``, ``conditions``, ``derivatives``, ``speeds`` int64 (m, 2): function and context, 0 where there is
    none. A derivative is that along the solution, without which every step is searched; a speed is how many radians
    the sines of the function turn in a unit of time.
    A step is searched in parts that hold at most ``most_in_step`` changes of each. ``going``, ``stop`` int64 (m,);
    ``breaks`` int64 (m,): whether the function can jump, so that a change of its sign need be no zero.
    ``band`` (m,): how far from zero the state's own error may put a function that has just acted, 0 once it has been
    further away; ``side`` (m,): on which side of zero it is until then. ``relative``, ``absolute`` (n,): the tolerances
    as the user said them, in which that error is told.
    ``most``, ``last`` int64 (m,): how often it happens, and how often until the run ends (0: for ever);
    ``counts`` int64 (m,) and ``values`` (VALUE_ROWS, m), kept by the march.
    Found events go to ``times`` (room,), ``which`` int64 (room,), ``states`` (room, n); ``trial`` (n,) is scratch.
    Where events act (``acting``): ``after`` (room, n), the states after them, and ``modes`` (room, n_modes), values of
    the parameters in the slots ``mode_slots`` of the ``context`` of all functions.
    """

    m: int
    room: int
    most_in_step: int
    addresses: LongArray
    conditions: LongArray
    derivatives: LongArray
    speeds: LongArray
    going: LongArray
    stop: LongArray
    breaks: LongArray
    band: Array
    side: Array
    relative: Array
    absolute: Array
    most: LongArray
    last: LongArray
    counts: LongArray
    values: Array
    times: Array
    which: LongArray
    states: Array
    trial: Array
    acting: int
    after: Array
    context: Array
    n_modes: int
    mode_slots: LongArray
    modes: Array


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


# columns of ``actions``
ACTION_FUNCTION, ACTION_CONTEXT, FIRST_TARGET, N_TARGETS = range(4)
# and how many there are
ACTION_SIZE: Final = 4
# columns of ``tables``,
TABLE_ROWS, TABLE_LENGTH, TABLE_SLOT = range(3)
# and how many they are
TABLE_SIZE: Final = 3


class Crossing(NamedTuple):
    """What happens where the march stops on its way: at known times, at switches, at events that act.

    ``context``: that of all functions; ``changes``: the index of the count of changes of the parameters in it.

    Of the ``n_events`` events ``actions`` int64 (n_events, ACTION_SIZE): function and context (0: none), where its
    targets begin and how many they are (below zero: of a function, which answers NaN where nothing changes). A target
    is the index of a state, or n and a slot of the context; ``fresh`` takes the answers.

    Of the ``n_switches`` switches int64 arrays: ``slots`` of the context (-1: none), ``kinds``, ``nested``, ``gaps``
    and ``lives`` (n_switches, 2): function and context of the formula where others are held, and of the value where
    none is; ``follows`` (n_switches,): whether it depends on states that constraints tell; ``located``
    (m - n_events,): which of them the watch looks for. What was crossed goes to ``crossed`` (room,),
    ``crossed_values`` (room,) and int64 ``crossed_which``, ``crossed_row``.

    Known times: ``times`` (n_landings + 1,), the end of the run as the last; ``longest``: the bound on the steps beyond
    (NaN: as before); ``begins`` int64 (n_landings + 1,): where the ``items`` of each begin, which are events, or
    n_events and a switch, with the ``values`` that the switches take. ``tables`` int64 (n_tables, TABLE_SIZE): rows of
    a measured input, their number, and the slot of the row in use; ``limits`` (2,) between which functions are asked,
    ``inner`` (n_landings + 1, 2) those of each interval; ``limited``: whether there are any.
    """

    context: Array
    changes: int
    n_events: int
    actions: LongArray
    targets: LongArray
    fresh: Array
    n_switches: int
    slots: LongArray
    kinds: LongArray
    nested: LongArray
    gaps: LongArray
    lives: LongArray
    follows: LongArray
    located: LongArray
    room: int
    crossed: Array
    crossed_which: LongArray
    crossed_values: Array
    crossed_row: LongArray
    n_landings: int
    times: Array
    longest: Array
    begins: LongArray
    items: LongArray
    values: Array
    n_tables: int
    tables: LongArray
    limited: int
    limits: Array
    inner: Array


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
CROSSING: Final = OUTPUT + len(Output._fields)
OWN: Final = CROSSING + len(Crossing._fields)
# Where the states at wanted times are recorded.
RECORDED: Final = OUTPUT + Output._fields.index("recorded")
# The field of a crossing that counts its known times; the arrays of these follow it.
N_LANDINGS: Final = Crossing._fields.index("n_landings")


def address_table(*parts: Any) -> Any:
    """Return the int64 table of arrays and whole numbers; the arrays must be kept alive beside it."""
    return np.array([address(part) if isinstance(part, np.ndarray) else part for part in parts], dtype=np.int64)
