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

    ``addresses`` int64 (m, 2): function and context; ``going``, ``stop`` int64 (m,); ``values`` (3, m), kept by
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

EXPLICIT_MEMORY: Final = np.dtype(
    [
        ("squared", np.float64),  # squared error of the present attempt
        ("code", np.int64),  # of the rates in it
    ],
    align=True,
)


class Tableau(NamedTuple):
    """An explicit method, its arithmetic compiled by `native.tableaux`.

    ``attempt``, ``further``, ``error``, ``polynomial``: addresses. ``degree`` of the step polynomial; ``width``: rows of
    ``stages``, one for each stage and, where it is no stage, one for the rate at the end of the step; ``total`` with
    the further stages, beyond which is room for a state. ``where`` int64 (1,): the stage at which the rates stopped.
    """

    memory: Annotated[Any, EXPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    attempt: int
    further: int
    error: int
    polynomial: int
    degree: int
    width: int
    total: int
    stages: Array
    where: LongArray


NEWTON: Final = np.dtype(
    [
        ("contraction", np.float64),  # what was left of a correction when it was last seen, and of how large a one
        ("correction", np.float64),
        ("first", np.float64),  # corrections of the present iteration: the first, and the one before
        ("before", np.float64),
        ("theta", np.float64),  # its contraction, 0 where it says nothing
        ("shrink", np.float64),  # by how much to shorten the step where it diverges
    ],
    align=True,
)


IMPLICIT_MEMORY: Final = np.dtype(
    [
        ("previous_step", np.float64),  # 0 where there is none
        ("jacobian_age", np.int64),  # 0 none, 1 from an earlier step, 2 from here
        ("factored_step", np.float64),  # step the factors belong to, 0 without
        ("sign", np.int64),  # of the determinant of the real factors
        # of the present attempt
        ("outcome", np.int64),
        ("error", np.float64),
    ],
    align=True,
)


# age of a Jacobian: found at the present step, or at one before
FRESH: Final = 2
OLD: Final = 1
# outcomes of the iteration
CONVERGED, DIVERGED, STOPPED, GROWS, GOES_ON = 1, 0, -1, 2, 3


# numbers of a method and of a run, in ``limits``: the largest error of Newton's iteration, and of what is let through
# between the steps unmeasured, in units of the tolerance of the estimate; how large h times a growing mode may be for
# the method to follow it
NEWTON_LIMIT, BETWEEN, FOLLOWS = range(3)
# of fully implicit methods besides: the shift of the filter; N(0) of the nodes' polynomial N, and the largest value of
# x N; where the defect is looked at, and N there
GAMMA, NODE_0, LARGEST, FIRST, SECOND, AT_FIRST, AT_SECOND = range(3, 10)


class BlockWork(NamedTuple):
    """A fully implicit method and its work space, kept between chunks.

    ``factor`` and ``solve`` are the addresses of the linear algebra; ``filter``, ``whole`` and ``blocks`` int64
    (n_real + n_pairs,) those of its contexts, the filter being the first real block where there is one; ``numbers``
    (stages,) of the blocks. Matrices (stages, stages): ``t``, ``u`` the transformation and its inverse, ``v``, ``v_end``
    from increments to the polynomial in theta and in theta - 1, ``inverse`` of the tableau's. ``c``, ``e``, ``end``
    (stages,): nodes, weights of the estimate and of the end; ``free``, ``pulled`` (stages + 1,): see `between`.
    ``limits`` (10,): see above. ``jacobian`` (n, n). Rows of n: ``z``, ``w`` stage increments, plain and transformed;
    ``f`` their rates, ``g`` corrections, ``p`` the polynomial of the step before (stages,); ``scale`` allowed errors,
    ``shifted`` for `jacobian`, ``moved``, ``estimate``, ``d1``, ``d2``. For fixed steps where simplified iterations
    fail, ``stacked`` and ``direction`` (stages n,); ``spare`` (n n + 1,) for eigenvalues. ``insist`` and ``growth`` are
    the addresses of the kernels that use these, 0 where they are not there.
    """

    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    insist: int
    growth: int
    factor: int
    solve: int
    filter: int
    whole: int
    stages: int
    n_real: int
    n_pairs: int
    corrects: int
    uses_slope: int
    ends: int
    blocks: LongArray
    numbers: Array
    t: Array
    u: Array
    v: Array
    v_end: Array
    inverse: Array
    c: Array
    e: Array
    end: Array
    free: Array
    pulled: Array
    limits: Array
    jacobian: Array
    spare: Array
    stacked: Array
    direction: Array
    scale: Array
    shifted: Array
    moved: Array
    estimate: Array
    d1: Array
    d2: Array
    z: Array
    w: Array
    f: Array
    g: Array
    p: Array


class DiagonalWork(NamedTuple):
    """A diagonally implicit method and its work space, kept between chunks.

    ``a`` (stages, stages), ``b``, ``c``, ``error`` (stages,), ``interpolant`` (degree, stages) as in its tableau.
    ``contexts`` int64 (stages,): of each stage's linear systems, 0 where it is explicit; ``n_shifts`` of them differ:
    ``shifts`` int64 (n_shifts,) their addresses, ``diagonals`` (n_shifts,) their coefficients, the largest first.
    ``known``: whether the first stage is the end of the step before; ``ends``: whether the last one is the end;
    ``filtered``: whether the error estimate is. ``limits`` (3,). ``k`` (stages, n): slopes of the stages as they were solved; ``p`` (degree + 1, n): the polynomial of the
    step before; the rest as in `BlockWork`.
    """

    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    growth: int
    factor: int
    solve: int
    stages: int
    degree: int
    n_shifts: int
    known: int
    ends: int
    filtered: int
    contexts: LongArray
    shifts: LongArray
    diagonals: Array
    a: Array
    b: Array
    c: Array
    error: Array
    interpolant: Array
    limits: Array
    jacobian: Array
    spare: Array
    scale: Array
    shifted: Array
    base: Array
    z: Array
    residual: Array
    defect: Array
    direction: Array
    stage: Array
    k: Array
    p: Array


class LinearlyImplicitWork(NamedTuple):
    """A Rosenbrock method and its work space.

    In the transformed form, which has no products with the Jacobian: ``a``, ``c`` (stages, stages), ``m``, ``error``,
    ``gamma``, ``alpha`` (stages,), ``interpolant`` (degree, stages); ``diagonal`` (1,): the coefficient of the Jacobian.
    ``same`` int64 (stages,): the stage that has the same rates, -1 for the slope at the start, its own place for none.
    ``limits``, ``p`` and the rest as in `DiagonalWork`; ``u``, ``f`` (stages, n): stages and their rates; ``drift``
    (n,): the slope of the rates in time.
    """

    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    growth: int
    factor: int
    solve: int
    context: int
    stages: int
    degree: int
    filtered: int
    same: LongArray
    a: Array
    c: Array
    m: Array
    error: Array
    gamma: Array
    alpha: Array
    diagonal: Array
    interpolant: Array
    limits: Array
    jacobian: Array
    spare: Array
    scale: Array
    shifted: Array
    residual: Array
    defect: Array
    drift: Array
    u: Array
    f: Array
    p: Array


CHOICE: Final = np.dtype(
    [
        ("stiff", np.int64),  # whether the present method is the one for stiff stretches
        ("allowed", np.int64),  # whether there is another
        ("signs", np.int64),  # in a row, that the other would be better
        ("wait", np.int64),  # for so many of them
        ("since", np.int64),  # steps since the last change, and when it was, and how long steps were then
        ("begun", np.float64),
        ("length", np.float64),
        ("decay", np.float64),  # the largest modulus of an eigenvalue, as far as it is known
    ],
    align=True,
)


# so many changes from one method to the other are told with their times
CHANGES: Final = 32


class ChoosingWork(NamedTuple):
    """Two methods of which one marches at a time, that of ``links``.

    ``orders`` int64 (2,); ``limits`` (2,): the non-stiff one's real limit of stability, and how many of its steps one of
    the stiff one costs. ``direction``, ``moved``, ``rates``, ``sizes`` (n,) for the largest eigenvalue. ``room``: the larger degree
    of their polynomials.
    """

    choice: Annotated[Any, CHOICE]
    room: int
    links: LongArray
    orders: LongArray
    limits: Array
    direction: Array
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


class SeveralWork(NamedTuple):
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

    ``predicts``, ``weights`` (2 steps,): of values and of slopes; ``newest`` (1,): b_0; ``corrects``: whether there is a
    corrector. ``degree`` of its own polynomial, ``room`` for that of the starter. ``predicted`` (n,): the new slope.
    """

    history: Annotated[Any, HISTORY]
    steps: int
    degree: int
    room: int
    by_slopes: int
    corrects: int
    links: LongArray
    interpolant: Array
    predicts: Array
    weights: Array
    newest: Array
    past: Array
    slopes: Array
    predicted: Array


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
    by_slopes: int
    links: LongArray
    interpolant: Array
    predicts: Array
    weights: Array
    newest: Array
    past: Array
    slopes: Array
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
    """A multistep method of variable step and order (`kernels.divided`).

    ``table``, ``fresh`` (rows, n): divided differences from the present point backward, and those from the end of the
    attempt; ``times`` (rows,) of the points; ``spans``, ``sums`` (rows,) scratch; ``most`` order. ``evaluations`` a step
    of an explicit method. Of an implicit one besides: what `DiagonalWork` has.
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


class ExactWork(NamedTuple):
    """Closed forms in the place of a method, to start others: ``function`` and ``context`` addresses.

    ``order`` int64 (n,): where each state stands among the closed forms, ``values`` (n,); ``degree`` of the polynomials,
    through ``theta`` (degree + 1,) by ``inverse`` (degree + 1, degree + 1).
    """

    function: int
    context: int
    degree: int
    order: LongArray
    values: Array
    theta: Array
    inverse: Array


# where each bundle begins in a march's table: the control record, then the bundles every march has, then its own
SYSTEM: Final = 1
PARTS: Final = SYSTEM + len(System._fields)
WATCH: Final = PARTS + len(Parts._fields)
OUTPUT: Final = WATCH + len(Watch._fields)
OWN: Final = OUTPUT + len(Output._fields)


def address_table(*parts: Any) -> Any:
    """Return the int64 table of arrays and whole numbers; the arrays must be kept alive beside it."""
    return np.array([address(part) if isinstance(part, np.ndarray) else part for part in parts], dtype=np.int64)
