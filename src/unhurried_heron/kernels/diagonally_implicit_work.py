"""What a diagonally implicit method works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, NamedTuple

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON


class DiagonalWork(NamedTuple):
    """A diagonally implicit method and its work space, kept between chunks.

    ``a`` (stages, stages), ``b``, ``c``, ``error`` (stages,), ``interpolant`` (degree, stages) as in its tableau.
    ``contexts`` int64 (stages,): of each stage's linear systems, 0 where it is explicit; ``n_shifts`` of them differ:
    ``shifts`` int64 (n_shifts,) their addresses, ``diagonals`` (n_shifts,) their coefficients, the largest first.
    ``known``: whether the first stage is the end of the step before; ``ends``: whether the last one is the end;
    ``filtered``: whether the error estimate is. ``limits`` (3,). ``k`` (stages, n): rates of the stages as they were
    solved; ``p`` (degree + 1, n): the polynomial of the step before; the rest as in `BlockWork`.

    Of an ``additive`` method: ``implicit``, ``explicit``, the two parts of the rates, and their contexts;
    ``a_explicit`` (stages, stages); ``k_implicit`` (stages, n), the implicit part in ``k``.
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
    additive: int
    implicit: int
    implicit_context: int
    explicit: int
    explicit_context: int
    a_explicit: Array
    k_implicit: Array
