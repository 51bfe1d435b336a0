"""What a loop over members of a sweep works on, as `bundles` are."""

from __future__ import annotations

from typing import Final, NamedTuple

from unhurried_heron.kernels.memory.bundles import Array, LongArray

# What is counted of each member, fields of the control record in the order of their columns.
COUNTED: Final = (
    "accepted",
    "refused",
    "rate_evaluations",
    "for_jacobians",
    "for_starting",
    "for_estimates",
    "for_between",
    "newton_failures",
    "jacobians",
    "factorisations",
    "solves",
    "iterations",
    "linear_iterations",
    "fill",
    "changes",
)
# What the loop answers: all members are done; a member needs more room for known times; it was stopped from outside;
# the events of a member do not fit into what is left of their buffer, so that it must begin again.
DONE, ROOM, STOPPED, FULL = range(4)
# Columns of the counts.
N_COUNTED: Final = len(COUNTED)


# Chebyshev points at which a quantity is interpolated on a part of a step.
N_POINTS: Final = 12
# Numbers that are taken of each quantity: the smallest and the largest value, the integral.
N_RESULTS: Final = 3
# Larger values, infinite ones among them, count as this.
LARGEST: Final = 1e280


class StepMeasures(NamedTuple):
    """Quantities whose extremes and integrals are taken over steps.

    ``starts``, ``steps`` (n_steps,), ``coefficients`` (n_steps, degree + 1, n): the steps, as in `Output`; ``size`` is
    the length of one step's coefficients; ``end`` (1,): where the last of them ends. int64 ``functions``
    (n_functions, 2): address and context of each quantity, a function of one number. int64 ``nonnegative``
    (n_nonnegative,): states that are never below zero. ``nodes`` (N_POINTS,): Chebyshev points; ``transform``
    (N_POINTS, N_POINTS): from values there to coefficients; ``scratch`` (2 N_POINTS + n + 1,). ``results``
    (n_functions, 3): smallest, largest, integral.
    """

    starts: Array
    steps: Array
    coefficients: Array
    n_steps: int
    size: int
    n: int
    end: Array
    n_functions: int
    functions: LongArray
    n_nonnegative: int
    nonnegative: LongArray
    nodes: Array
    transform: Array
    scratch: Array
    results: Array


class Sweep(NamedTuple):
    """Members that differ in parameters and starting values, marched one after another by one march.

    ``initialise``, ``march``: addresses of these kernels; ``data``, ``table``: the tables of `InitialData` and of the
    march; int64 ``next`` (1,): the member that is to march, written by the loop.

    ``parameters`` (n_members, n_parameters), ``initial`` (n_members, n): what each begins with. Of the ``n_own``
    sources of known times int64 ``own_sources``, int64 ``own_begins`` (n_members, n_own, 2): where the times of each
    begin and end in those listed. ``own_parts``: narrow parts, from int64 ``part_begins`` (n_members + 1,) on, to be
    copied to the march's ``parts``; ``n_narrow`` is 0 where all members have the same. int64 ``alone`` (n_members,):
    1 for a member that is left out. ``recorded``
    (n_members, n_times, n): the states at the times that are recorded; ``at_start``: whether the start is the first of
    these. ``finals`` (n_members, n), ``ends`` (n_members,): state and time at the end; int64 ``reasons`` (n_members,),
    `Reason` of each; ``counts`` (n_members, len(COUNTED)).

    Events that happened go to ``event_times`` (event_room,), ``event_states`` (event_room, n), the states before, and
    int64 ``event_members``, ``event_which`` (event_room,); ``event_modes`` (event_room, n_modes): the parameters that
    events change, after each, in the order of the march; int64 ``n_found`` (1,): how many are there.

    ``step_measures``: the table of a `StepMeasures` of which the march writes the steps, 0 where nothing is measured;
    ``n_measures``: how many numbers they leave for each member, in ``measures`` (n_members, n_measures).

    ``attempts``, ``evaluations``: what a member may use at most; ``slice``: attempts between two looks at int64
    ``stop`` (1,), which is set from outside.
    """

    initialise: int
    march: int
    data: LongArray
    table: LongArray
    next: LongArray
    n_members: int
    parameters: Array
    initial: Array
    n_own: int
    own_sources: LongArray
    own_begins: LongArray
    own_parts: Array
    part_begins: LongArray
    n_narrow: int
    parts: Array
    alone: LongArray
    n_times: int
    at_start: int
    recorded: Array
    finals: Array
    ends: Array
    reasons: LongArray
    counts: LongArray
    event_room: int
    event_times: Array
    event_states: Array
    event_members: LongArray
    event_which: LongArray
    n_modes: int
    event_modes: Array
    n_found: LongArray
    step_measures: LongArray
    n_measures: int
    measures: Array
    attempts: int
    evaluations: int
    slice: int
    stop: LongArray
