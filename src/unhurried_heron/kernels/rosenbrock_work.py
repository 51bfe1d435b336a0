"""What a Rosenbrock method works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, NamedTuple

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON


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
