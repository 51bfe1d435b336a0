"""Multistep methods of variable step and order."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, proportional
from unhurried_heron.families.family import WITH_CONSTRAINTS, Family, SetupRequest, WorkSpace
from unhurried_heron.families.linear import LINEAR_KERNELS, growth_kernel
from unhurried_heron.kernels.divided_differences_work import VARIABLE, VariableWork
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.methods.variable_multistep import VARIABLE_ADAMS, VARIABLE_DIFFERENTIATION, VariableMultistep

# The share of the tolerance for a step, because the errors of many short steps add up.
_SHARE: Final = 0.3
# The share of the tolerance for the error of Newton's iteration, which enters the differences.
_NEWTON_SHARE: Final = 0.02
# Newton's corrections cannot be smaller than this many roundings of the state.
_ROUNDING: Final = 8 * float(np.finfo(float).eps)


def _scale(method: VariableMultistep, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale of the error for the user's tolerances.

    Parameters
    ----------
    method : VariableMultistep
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
    scale = proportional(method, relative, absolute, state, fixed)
    tightest = float((_SHARE * scale.relative).min(where=scale.relative > 0, initial=1.0))
    return replace(
        scale,
        relative=_SHARE * scale.relative,
        absolute=_SHARE * scale.absolute,
        newton=max(_NEWTON_SHARE, _ROUNDING / tightest),
    )


def _lay_out(method: VariableMultistep, demand: SetupRequest) -> WorkSpace:
    n, linear, scales = demand.n, demand.linear, demand.scales
    # what is known of two orders above, and the end of the step
    rows = method.highest + 3
    degree = _degree(method)
    growth, looked = growth_kernel(linear, n) if linear else (0, None)
    context = linear.context(False) if linear else None
    vectors: dict[str, Any] = {name: np.zeros(n) for name in ("scale", "shifted", "base", "z", "residual", "moved")}
    work = VariableWork(
        variable=np.zeros(1, dtype=VARIABLE),
        memory=np.zeros(1, dtype=IMPLICIT_MEMORY),
        controller=Controller(safety=1.0).record(method.highest),
        newton=np.zeros(1, dtype=NEWTON),
        growth=growth,
        factor=linear.factor if linear else 0,
        solve=linear.solve if linear else 0,
        context=address(context[0]) if context else 0,
        rows=rows,
        most=method.highest,
        evaluations=method.evaluations,
        table=np.zeros((rows, n)),
        fresh=np.zeros((rows, n)),
        times=np.zeros(rows + 1),
        spans=np.zeros(rows + 1),
        sums=np.zeros(rows + 2),
        weights=np.zeros(rows + 1),
        limits=np.array([scales.newton, scales.between, 1.0]),
        jacobian=linear.jacobian if linear else np.zeros((0, 0)),
        spare=np.zeros(n * n + 3 if growth else 0),
        **vectors,
    )
    return WorkSpace(work, np.zeros(n), degree, (context, linear, looked))


# Steps until the order has risen. Of 0, 15, 30 and 60, measured on seven problems of 2,000 to 20,000 states, 15 cost
# least: with fewer, what was stiff was left and begun anew.
_FIRST_STEPS: Final = 15


def _degree(method: VariableMultistep) -> int:
    return method.highest + (0 if method.implicit else 1)


ADAMS: Final = Family(VARIABLE_ADAMS, "variable_adams.family", _lay_out, scale=_scale, degree=_degree)
DIFFERENTIATION: Final = Family(
    VARIABLE_DIFFERENTIATION,
    "variable_differentiation.family",
    _lay_out,
    implicit=True,
    scale=_scale,
    beside=LINEAR_KERNELS,
    takes_mass=lambda method: WITH_CONSTRAINTS,
    degree=_degree,
    first_steps=_FIRST_STEPS,
)
