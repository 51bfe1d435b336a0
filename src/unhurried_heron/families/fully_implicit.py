"""Fully implicit Runge-Kutta methods."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, for_fixed_steps
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace, of_stiff_ends
from unhurried_heron.families.linear import LINEAR_KERNELS, dense_context, growth_kernel
from unhurried_heron.families.linear_choice import MAX_DAMPED
from unhurried_heron.kernels.fully_implicit.work import BlockWork
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.methods.fully_implicit import DiagonalisedTableau
from unhurried_heron.methods.runge_kutta import FULLY_IMPLICIT as NAME
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.methods.stability import follows_growth

# errors of several components and steps add up
_SHARE: Final = 0.7
# The share of the tolerance for the error of Newton's iteration, which enters the solution unfiltered.
_NEWTON_SHARE: Final = 0.05
# a refusal costs a whole step, and to aim at half of what is allowed a sixth of one. The trend of the error is carried
# on from step to step (K. Gustafsson, ACM Trans. Math. Softw. 20 (1994) 496-517), where it makes the step shorter. What
# was learnt at one step says little of one six times as long: the error would change a thousandfold
_CONTROLLER: Final = Controller(
    safety=0.5**0.25,
    error_exponent=2.0,
    previous_error_exponent=-1.0,
    step_ratio_exponent=1.0,
    cautious=True,
    shrink=1 / 6,
    grow=6.0,
)
# Newton's corrections cannot be smaller than this many roundings of the state.
_ROUNDING: Final = 8 * float(np.finfo(float).eps)


def _scale(method: RungeKutta, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale for the user's tolerances.

    The estimate of a fully implicit method goes with a lower power of the step, h^(q+1), than the error of its
    polynomial, h^(p+1), and that of the solution, h^r, do. Where both are at most ``rtol``, the estimate is of the size
    rtol^((q+1)/min(p+1, r)).

    Parameters
    ----------
    method : RungeKutta
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
    if fixed:
        return for_fixed_steps(state)
    share = (method.estimate_order + 1) / min(method.interpolant_order + 1, method.order)
    # pure absolute tolerances have no scale that such a power could refer to: the estimate is taken as it is
    with np.errstate(divide="ignore"):
        loosened = np.where(relative > 0, _SHARE * relative ** (share - 1.0), 1.0)
    between = float(1.0 / loosened.max())
    tightest = float((relative * loosened).min(where=relative > 0, initial=1.0))
    newton = max(_NEWTON_SHARE * between, _ROUNDING / tightest)
    return ErrorScale(relative * loosened, absolute * loosened, newton, between)


def numbers_of(method: RungeKutta, scales: ErrorScale) -> dict[str, Any]:
    """Return the numbers of a method and a run, by the fields of `BlockWork`."""
    diagonalised: DiagonalisedTableau = method.diagonalised
    first, second = diagonalised.checked_nodes
    nodal = diagonalised.nodal
    limits: list[Any] = [scales.newton, scales.between, follows_growth(method.stability), diagonalised.gamma]
    limits += [
        np.polyval(nodal, 0.0),
        diagonalised.largest,
        first,
        second,
        np.polyval(nodal, first),
        np.polyval(nodal, second),
    ]
    s = method.stages
    return {
        "stages": s,
        "n_real": diagonalised.n_real,
        "n_pairs": (s - diagonalised.n_real) // 2,
        "corrects": int(diagonalised.can_be_corrected),
        "uses_start_rates": int(diagonalised.uses_start_rates),
        "ends": int(method.ends_in_a_stage),
        "numbers": diagonalised.numbers,
        "t": np.ascontiguousarray(diagonalised.basis),
        "u": np.linalg.inv(diagonalised.basis),
        "v": diagonalised.polynomial,
        "v_end": diagonalised.polynomial_at_end,
        "inverse": diagonalised.inverse.astype(float),
        "c": np.array([float(x) for x in method.c]),
        "e": diagonalised.error_weights,
        "end": diagonalised.end,
        "free": diagonalised.free,
        "pulled": diagonalised.pulled,
        "limits": np.array(limits),
    }


def _lay_out(method: RungeKutta, demand: SetupRequest) -> WorkSpace:
    from unhurried_heron.kernels.machine_code.prepare import load_kernels

    n, control, scales, linear = demand.n, demand.control, demand.scales, demand.linear
    if linear is None:
        raise unforeseen("an implicit family is given linear algebra")
    numbers = numbers_of(method, scales)
    s, insist, m = method.stages, 0, 0
    # this needs full matrices
    if demand.fixed and linear.jacobian.ndim == 2 and s * n <= 3 * MAX_DAMPED:
        (kernel,) = load_kernels("fully_implicit.damped_newton.solve_block")
        insist, m = kernel.address, s * n
    growth, looked = growth_kernel(linear, n)
    real = [linear.context(False) for _ in range(max(numbers["n_real"], 1))]
    pairs = [linear.context(True) for _ in range(numbers["n_pairs"])]
    whole = dense_context(m, control, None, False)
    blocks = [*(real if numbers["n_real"] else []), *pairs]
    rows: dict[str, Any] = {name: np.zeros((s, n)) for name in ("z", "w", "f", "g", "p", "guess")}
    vectors: dict[str, Any] = {name: np.zeros(n) for name in ("scale", "shifted", "moved", "estimate", "d1", "d2")}
    work = BlockWork(
        memory=np.zeros(1, dtype=IMPLICIT_MEMORY),
        controller=(demand.controller or _CONTROLLER).record(method.estimate_order),
        newton=np.zeros(1, dtype=NEWTON),
        insist=insist,
        growth=growth,
        factor=linear.factor,
        solve=linear.solve,
        solve_whole=linear.solve_others,
        filter=address(real[0][0]),
        whole=address(whole[0]),
        blocks=np.array([address(context[0]) for context in blocks], dtype=np.int64),
        jacobian=linear.jacobian,
        spare=np.zeros(n * n + 3 if growth else 0),
        stacked=np.zeros(m),
        direction=np.zeros(m),
        **numbers,
        **rows,
        **vectors,
    )
    return WorkSpace(work, np.zeros(n), s + 1, (*real, *pairs, whole, linear, looked))


FULLY_IMPLICIT: Final = Family(
    NAME,
    "fully_implicit.step.family",
    _lay_out,
    implicit=True,
    scale=_scale,
    reference=FOR_STIFF,
    takes_controller=True,
    takes_mass=of_stiff_ends,
    beside=LINEAR_KERNELS,
    degree=lambda method: int(method.stages) + 1,
)
