"""The groups of arrays a march works on: shape, type, and who may write. All are allocated by the driver.

Every array is C-ordered; float64 unless said otherwise. n is the number of states, m of events, s of stages.

An entry kernel turns each bundle of arrays into a bundle of raw pointers first and hands only those on: an array
passed between compiled functions is reference-counted with atomic instructions, which costs more than a whole stage.
"""

from __future__ import annotations

from typing import Any, Final, NamedTuple

from unhurried_heron.kernels.call import offset_by, pointer_to
from unhurried_heron.kernels.compiling import inner

Array = Any  # mypy need not see Numba's view of arrays and pointers


class System(NamedTuple):
    """The user's problem.

    ``addresses`` int64 (4,): rates and their context, Jacobian and its context (0: by differences).
    ``state`` (n,): the present state, written by the march.
    ``relative``, ``absolute`` (n,): tolerances.
    """

    addresses: Array
    state: Array
    relative: Array
    absolute: Array


class Tableau(NamedTuple):
    """An explicit method, its arithmetic compiled by `tableau_code`.

    ``addresses`` int64 (3,): attempt, error, polynomial.
    ``shape`` int64 (4,): stages s; degree of the step polynomial; width: rows of the stage array, s or s + 1 with the
    rate at the end of the step; order of the error estimate plus one.
    ``stages`` (width, n), ``trial`` (n,), ``where`` int64 (1,): work space that survives between calls.
    """

    addresses: Array
    shape: Array
    stages: Array
    trial: Array
    where: Array


class DenseWork(NamedTuple):
    """Work space of an implicit march with dense linear algebra, kept between chunks.

    ``jacobian`` (n, n); ``real``, ``re``, ``im`` (n, n) factors; ``pivots`` int64 (2, n); ``vectors`` (rows, n).
    """

    jacobian: Array
    real: Array
    re: Array
    im: Array
    pivots: Array
    vectors: Array


class Watch(NamedTuple):
    """The events: ``addresses`` int64 (m, 2), ``going`` and ``stop`` int64 (m,), ``values`` (3, m) kept by the march.

    Found events go to ``times`` (room,), ``which`` int64 (room,), ``states`` (room, n); ``trial`` (n,) is scratch.
    """

    addresses: Array
    going: Array
    stop: Array
    values: Array
    times: Array
    which: Array
    states: Array
    trial: Array


class Output(NamedTuple):
    """What a chunk leaves: accepted steps and attempted steps.

    ``starts``, ``steps`` (room,); ``coefficients`` (room, degree + 1, n): state = sum of coefficients[d] theta^d for
    theta in [0, 1]; ``ledger`` (rows, 5) in the columns of `control.LEDGER_COLUMNS`.
    """

    starts: Array
    steps: Array
    coefficients: Array
    ledger: Array


class SystemPointers(NamedTuple):
    """`System` as the inner functions see it."""

    n: int
    rates: int
    context: int
    jacobian: int
    jacobian_context: int
    state: Array
    relative: Array
    absolute: Array


class TableauPointers(NamedTuple):
    """`Tableau` as the inner functions see it; ``end_rates`` is the last row of the stages."""

    attempt: int
    error: int
    polynomial: int
    s: int
    degree: int
    width: int
    order: int
    stages: Array
    end_rates: Array
    trial: Array
    where: Array


class DensePointers(NamedTuple):
    """`DenseWork` as the inner functions see it, each row of ``vectors`` by its name.

    ``trial`` a state; ``rates`` at the present point; ``scale`` allowed errors; ``z``, ``w`` stage increments, plain
    and transformed; ``g`` right-hand sides; ``p`` the polynomial of the step before.
    """

    jacobian: Array
    real: Array
    re: Array
    im: Array
    pivots: Array
    pivots_complex: Array
    trial: Array
    rates: Array
    scale: Array
    z1: Array
    z2: Array
    z3: Array
    w1: Array
    w2: Array
    w3: Array
    g1: Array
    g2: Array
    g3: Array
    p1: Array
    p2: Array
    p3: Array


DENSE_VECTORS: Final = 15


class WatchPointers(NamedTuple):
    """`Watch` as the inner functions see it."""

    m: int
    room: int
    addresses: Array
    going: Array
    stop: Array
    values: Array
    times: Array
    which: Array
    states: Array
    trial: Array


class OutputPointers(NamedTuple):
    """`Output` as the inner functions see it; ``size`` is the length of one step's coefficients."""

    room: int
    rows: int
    size: int
    starts: Array
    steps: Array
    coefficients: Array
    ledger: Array


@inner
def system_pointers(system):
    """Return the pointers of a `System`."""
    table = system.addresses
    return SystemPointers(
        system.state.size,
        table[0],
        table[1],
        table[2],
        table[3],
        pointer_to(system.state),
        pointer_to(system.relative),
        pointer_to(system.absolute),
    )


@inner
def watch_pointers(watch):
    """Return the pointers of a `Watch`."""
    return WatchPointers(
        watch.going.size,
        watch.times.size,
        pointer_to(watch.addresses),
        pointer_to(watch.going),
        pointer_to(watch.stop),
        pointer_to(watch.values),
        pointer_to(watch.times),
        pointer_to(watch.which),
        pointer_to(watch.states),
        pointer_to(watch.trial),
    )


@inner
def output_pointers(output):
    """Return the pointers of an `Output`."""
    return OutputPointers(
        output.starts.size,
        output.ledger.shape[0],
        output.coefficients.shape[1] * output.coefficients.shape[2],
        pointer_to(output.starts),
        pointer_to(output.steps),
        pointer_to(output.coefficients),
        pointer_to(output.ledger),
    )


@inner
def tableau_pointers(tableau):
    """Return the pointers of a `Tableau`."""
    code, shape = tableau.addresses, tableau.shape
    stages = pointer_to(tableau.stages)
    end_rates = offset_by(stages, (shape[2] - 1) * tableau.trial.size)
    trial, where = pointer_to(tableau.trial), pointer_to(tableau.where)
    return TableauPointers(
        code[0], code[1], code[2], shape[0], shape[1], shape[2], shape[3], stages, end_rates, trial, where
    )


@inner
def dense_pointers(work):
    """Return the pointers of a `DenseWork`."""
    v, n = pointer_to(work.vectors), work.vectors.shape[1]
    pivots = pointer_to(work.pivots)
    return DensePointers(
        pointer_to(work.jacobian),
        pointer_to(work.real),
        pointer_to(work.re),
        pointer_to(work.im),
        pivots,
        offset_by(pivots, n),
        v,
        offset_by(v, n),
        offset_by(v, 2 * n),
        offset_by(v, 3 * n),
        offset_by(v, 4 * n),
        offset_by(v, 5 * n),
        offset_by(v, 6 * n),
        offset_by(v, 7 * n),
        offset_by(v, 8 * n),
        offset_by(v, 9 * n),
        offset_by(v, 10 * n),
        offset_by(v, 11 * n),
        offset_by(v, 12 * n),
        offset_by(v, 13 * n),
        offset_by(v, 14 * n),
    )
