"""Rosenbrock methods."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, proportional, with_hidden_error
from unhurried_heron.families.family import REGULAR, WITH_CONSTRAINTS, Family, SetupRequest, WorkSpace
from unhurried_heron.families.linear import LINEAR_KERNELS, growth_kernel
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.kernels.rosenbrock_work import LinearlyImplicitWork
from unhurried_heron.methods.rosenbrock import ROSENBROCK, Rosenbrock
from unhurried_heron.methods.stability import follows_growth

_CONTROLLER: Final = Controller(safety=0.8, error_exponent=1.0, cautious=True, shrink=0.2, grow=4.0)


def _scale(method: Rosenbrock, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale of the error for the user's tolerances.

    Parameters
    ----------
    method : Rosenbrock
    relative : ndarray, shape (n_states,)
        The user's relative tolerances.
    absolute : ndarray, shape (n_states,)
        The user's absolute tolerances.
    state : ndarray, shape (n_states,)
    fixed : bool
        Whether steps are fixed.

    Returns
    -------
    ErrorScale
    """
    return with_hidden_error(method, relative, proportional(method, relative, absolute, state, fixed))


def _lay_out(method: Rosenbrock, demand: SetupRequest) -> WorkSpace:
    n, scales, linear = demand.n, demand.scales, demand.linear
    if linear is None:
        raise unforeseen("an implicit family is given linear algebra")
    s, numbers = method.stages, method.transformed
    context = linear.context(False)
    growth, keep = growth_kernel(linear, n)
    degree = len(numbers.interpolant)
    vectors = ("scale", "shifted", "residual", "defect", "time_derivative")
    work = LinearlyImplicitWork(
        memory=np.zeros(1, dtype=IMPLICIT_MEMORY),
        controller=(demand.controller or _CONTROLLER).record(method.estimate_order),
        newton=np.zeros(1, dtype=NEWTON),
        growth=growth,
        factor=linear.factor,
        solve=linear.solve,
        context=address(context[0]),
        stages=s,
        degree=degree,
        filtered=int(abs(method.embedded_at_infinity) > 1.0),
        same=_same_rates(numbers.a, numbers.alpha),
        diagonal=np.array([float(method.gamma[0][0])]),
        limits=np.array([scales.newton, scales.between, follows_growth(method.stability)]),
        jacobian=linear.jacobian,
        spare=np.zeros(n * n + 3 if growth else 0),
        u=np.zeros((s, n)),
        f=np.zeros((s, n)),
        p=np.zeros((degree + 1, n)),
        **{name: np.ascontiguousarray(part) for name, part in numbers._asdict().items()},
        **{name: np.zeros(n) for name in vectors},
    )
    return WorkSpace(work, np.zeros(n), degree, (context, linear, keep))


def _same_rates(a: Array, alpha: Array) -> IntArray:
    """Return for each stage the first whose rates are the same, -1 for those at the start of the step."""
    found = np.arange(len(a), dtype=np.int64)
    for i in range(len(a)):
        same = [j for j in range(i) if alpha[j] == alpha[i] and np.array_equal(a[j], a[i])]
        if same:
            found[i] = same[0]
        elif not a[i].any() and alpha[i] == 0.0:
            found[i] = -1
    return found


LINEARLY_IMPLICIT: Final = Family(
    ROSENBROCK,
    "rosenbrock.family",
    _lay_out,
    implicit=True,
    time_derivative=True,
    scale=_scale,
    takes_controller=True,
    takes_mass=lambda method: WITH_CONSTRAINTS if method.keeps_constraints else REGULAR,
    beside=LINEAR_KERNELS,
)
