"""What each one-step family works on: its method's numbers, its resumable state and its scratch, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray

EXPLICIT_MEMORY: Final = np.dtype(
    [
        ("squared", np.float64),  # squared error of the present attempt
        ("code", np.int64),  # of the rates in it
    ],
    align=True,
)


class Tableau(NamedTuple):
    """An explicit method, its arithmetic compiled by `codegen.runge_kutta_ir`.

    ``attempt``, ``further``, ``error``, ``polynomial``, ``stride``: addresses. ``degree`` of the step polynomial;
    ``width``: rows of ``stages``, one for each stage and, where it is no stage, one for the rate at the end of the
    step; ``total`` with the further stages, beyond which is room for a state. ``where`` int64 (1,): the stage at which
    the rates stopped; ``block``: see `codegen.batched_steps`.
    """

    memory: Annotated[Any, EXPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    attempt: int
    further: int
    error: int
    polynomial: int
    stride: int
    degree: int
    width: int
    total: int
    stages: Array
    where: LongArray
    block: LongArray


NEWTON: Final = np.dtype(
    [
        ("contraction", np.float64),  # what was left of a correction when it was last seen, and of how large a one
        ("correction", np.float64),
        ("first", np.float64),  # corrections of the present iteration: the first, and the one before
        ("before", np.float64),
        ("first_miss", np.float64),  # by how much the equations were missed at first, in units of the tolerance
        ("at_rest", np.float64),  # corrections up to this size are rounding where they contract no further
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
        ("foreseen", np.int64),  # whether, at fixed steps, all of the present step was foreseen
        ("trusted", np.int64),  # whether, at fixed steps, the step before had been foreseen by the one before it
        # of the present attempt
        ("outcome", np.int64),
        ("error", np.float64),
    ],
    align=True,
)


# age of a Jacobian: found at the present step, or at one before
FRESH: Final = 2
# The Jacobian is of an earlier state.
OLD: Final = 1
# Outcomes of the iteration: the equations are solved,
CONVERGED = 1
# they are not,
DIVERGED = 0
# the rates stopped the run,
STOPPED = -1
# the step would pass over a growing mode,
GROWS = 2
# or another iteration is needed.
GOES_ON = 3


# numbers of a method and of a run, in ``limits``: the largest error of Newton's iteration, and of what is let through
# between the steps unmeasured, in units of the tolerance of the estimate; how large h times a growing mode may be for
# the method to follow it
NEWTON_LIMIT, BETWEEN, FOLLOWS = range(3)
# of fully implicit methods besides: the shift of the filter; N(0) of the nodes' polynomial N, and the largest value of
# x N; where the defect is looked at, and N there
GAMMA, NODE_0, LARGEST, FIRST, SECOND, AT_FIRST, AT_SECOND = range(3, 10)


class BlockWork(NamedTuple):
    """A fully implicit method and its work space, kept between chunks.

    ``factor``, ``solve`` and ``solve_whole`` are the addresses of the linear algebra; ``filter``, ``whole`` and
    ``blocks`` int64 (n_real + n_pairs,) those of its contexts, the filter being the first real block where there is
    one; ``numbers`` (stages,) of the blocks. Matrices (stages, stages): ``t``, ``u`` the transformation and its
    inverse, ``v``, ``v_end`` from increments to the polynomial in theta and in theta - 1, ``inverse`` of the tableau's.
    ``c``, ``e``, ``end`` (stages,): nodes, weights of the estimate and of the end; ``free``, ``pulled`` (stages + 1,):
    see `between`. ``limits`` (10,): see above. ``jacobian`` (n, n). Rows of n: ``z``, ``w`` stage increments, plain and
    transformed; ``guess`` what was foreseen of z; ``f`` their rates, ``g`` corrections, ``p`` the polynomial of the
    step before (stages,); ``scale``
    allowed errors, ``shifted`` for `jacobian`, ``moved``, ``estimate``, ``d1``, ``d2``. For fixed steps where
    simplified iterations fail, ``stacked`` and ``direction`` (stages n,); ``spare`` (n n + 3,) for eigenvalues.
    ``insist`` and ``growth`` are the addresses of the kernels that use these, 0 where they are not there.
    """

    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    insist: int
    growth: int
    factor: int
    solve: int
    solve_whole: int
    filter: int
    whole: int
    stages: int
    n_real: int
    n_pairs: int
    corrects: int
    uses_start_rates: int
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
    guess: Array


class DiagonalWork(NamedTuple):
    """A diagonally implicit method and its work space, kept between chunks.

    ``a`` (stages, stages), ``b``, ``c``, ``error`` (stages,), ``interpolant`` (degree, stages) as in its tableau.
    ``contexts`` int64 (stages,): of each stage's linear systems, 0 where it is explicit; ``n_shifts`` of them differ:
    ``shifts`` int64 (n_shifts,) their addresses, ``diagonals`` (n_shifts,) their coefficients, the largest first.
    ``known``: whether the first stage is the end of the step before; ``ends``: whether the last one is the end;
    ``filtered``: whether the error estimate is. ``limits`` (3,). ``k`` (stages, n): rates of the stages as they were
    solved; ``p`` (degree + 1, n): the polynomial of the step before; the rest as in `BlockWork`.
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
    kept: Array
    guess: Array
    k: Array
    p: Array


class LinearlyImplicitWork(NamedTuple):
    """A Rosenbrock method and its work space.

    In the transformed form, which has no products with the Jacobian: ``a``, ``c`` (stages, stages), ``m``, ``error``,
    ``gamma``, ``alpha`` (stages,), ``interpolant`` (degree, stages); ``diagonal`` (1,): the coefficient of the
    Jacobian. ``same`` int64 (stages,): the stage that has the same rates, -1 for the rates at the start, its own index
    for none. ``limits``, ``p`` and the rest as in `DiagonalWork`; ``u``, ``f`` (stages, n): stages and their rates;
    ``time_derivative`` (n,): the time derivative of the rates.
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
    time_derivative: Array
    u: Array
    f: Array
    p: Array
