"""Diagonally implicit Runge-Kutta methods."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import LOW_ORDER, ErrorScale, for_fixed_steps, proportional, with_hidden_error
from unhurried_heron.families.family import NO_MASS, Family, MassKind, SetupRequest, WorkSpace, of_stiff_ends
from unhurried_heron.families.linear import LINEAR_KERNELS, growth_kernel
from unhurried_heron.kernels.diagonally_implicit_work import DiagonalWork
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.methods.additive import ADDITIVE, Additive
from unhurried_heron.methods.coefficients import floats
from unhurried_heron.methods.runge_kutta import DIAGONALLY_IMPLICIT, RungeKutta
from unhurried_heron.methods.stability import follows_growth
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem

_CONTROLLER: Final = Controller(safety=0.8, error_exponent=1.0, cautious=True, shrink=0.2, grow=4.0)
# The share of the tolerance for the error of Newton's iteration, which enters the solution unfiltered and adds up
# over the steps: their number grows as tolerance^(-1 / (q + 1)) for an estimate of order q.
_NEWTON_SHARE: Final = 0.03
# Errors of Newton's iteration add up over about this many steps for each halving of the tolerance.
_FEW_STEPS: Final = 10.0
# Newton's corrections cannot be smaller than this many roundings of the state.
_ROUNDING: Final = 8 * float(np.finfo(float).eps)


def _scale(method: RungeKutta | Additive, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale of the error for the user's tolerances.

    Parameters
    ----------
    method : RungeKutta or Additive
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
    scale = with_hidden_error(method, relative, proportional(method, relative, absolute, state, fixed))
    tightest = float(scale.relative.min(where=scale.relative > 0, initial=1.0))
    kept = _NEWTON_SHARE * min(1.0, _FEW_STEPS * tightest ** (1.0 / (method.estimate_order + 1)))
    return replace(scale, newton=max(kept, _ROUNDING / tightest))


def _lay_out(method: RungeKutta, demand: SetupRequest, additive: Additive | None = None) -> WorkSpace:
    """Allocate what the kernel works on, for a method or for the implicit half of an additive one.

    Parameters
    ----------
    method : RungeKutta
    demand : SetupRequest
    additive : Additive, optional

    Returns
    -------
    WorkSpace

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    n, scales, linear = demand.n, demand.scales, demand.linear
    if linear is None:
        raise unforeseen("an implicit family is given linear algebra")
    a, s = floats(method.a), method.stages
    diagonals = sorted({float(x) for x in a.diagonal() if x}, reverse=True)
    contexts = [linear.context(False) for _ in diagonals]
    addresses = np.array([address(context[0]) for context in contexts], dtype=np.int64)
    of_stage = np.array([addresses[diagonals.index(x)] if x else 0 for x in a.diagonal()], dtype=np.int64)
    growth, keep = growth_kernel(linear, n)
    interpolant = method.interpolant if additive is None else additive.interpolant
    degree = len(interpolant)
    parts = _no_parts() if additive is None else _parts(additive, demand)
    numbers: dict[str, Any] = {
        "stages": s,
        "degree": degree,
        "n_shifts": len(diagonals),
        "known": int(additive is None and method.begins_with_the_end),
        "ends": int(additive is None and method.ends_in_a_stage),
        "filtered": int(abs(method.embedded_at_infinity) > 1.0),
        "contexts": of_stage,
        "shifts": addresses,
        "diagonals": np.array(diagonals),
        "a": a,
        "b": floats(method.b),
        "c": floats(method.c),
        "error": method.error_weights[0] if method.paired else np.zeros(s),
        "interpolant": np.ascontiguousarray(interpolant),
        "limits": np.array([scales.newton, scales.between, follows_growth(method.stability)]),
    }
    vectors = ("scale", "shifted", "base", "z", "residual", "defect", "direction", "stage", "kept", "guess")
    work = DiagonalWork(
        memory=np.zeros(1, dtype=IMPLICIT_MEMORY),
        controller=(demand.controller or _CONTROLLER).record(method.estimate_order),
        newton=np.zeros(1, dtype=NEWTON),
        growth=growth,
        factor=linear.factor,
        solve=linear.solve,
        jacobian=linear.jacobian,
        spare=np.zeros(n * n + 3 if growth else 0),
        k=np.zeros((s, n)),
        p=np.zeros((degree + 1, n)),
        **numbers,
        **parts[0],
        **dict[str, Any]({name: np.zeros(n) for name in vectors}),
    )
    return WorkSpace(work, np.zeros(n), degree, (*contexts, linear, keep, parts[1]))


def _no_parts() -> tuple[dict[str, Any], Any]:
    nothing = dict.fromkeys(("additive", "implicit", "implicit_context", "explicit", "explicit_context"), 0)
    return {**nothing, "a_explicit": np.zeros(0), "k_implicit": np.zeros(0)}, None


def _parts(method: Additive, demand: SetupRequest) -> tuple[dict[str, Any], Any]:
    """Return the fields of an additive method, and what to keep."""
    implicit, explicit = demand.parts
    fields = {
        "additive": 1,
        "implicit": implicit.address,
        "implicit_context": implicit.context_address,
        "explicit": explicit.address,
        "explicit_context": explicit.context_address,
        "a_explicit": floats(method.a_explicit),
        "k_implicit": np.zeros((method.stages, demand.n)),
    }
    return fields, (implicit, explicit)


def _takes_mass(method: RungeKutta) -> MassKind:
    explicit = sum(not row[i] for i, row in enumerate(method.a))
    # rates at explicit stages would have to be solved for, but at one that is the end of the step before
    return NO_MASS if explicit > method.begins_with_the_end else of_stiff_ends(method)


def _scale_of_both(method: Additive, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale of the error of an additive method, as `_scale` does.

    Parameters
    ----------
    method : Additive
    relative : ndarray, shape (n_states,)
    absolute : ndarray, shape (n_states,)
    state : ndarray, shape (n_states,)
    fixed : bool

    Returns
    -------
    ErrorScale
    """
    scale = _scale(method, relative, absolute, state, fixed)
    if fixed or method.order <= LOW_ORDER:
        return scale
    # the error between the steps, filtered by the implicit part alone, does not bound what the explicit one leaves
    part = max(method.hidden_error, 1.0)
    return replace(scale, relative=scale.relative / part, absolute=scale.absolute / part, between=scale.between * part)


def _fits(method: Additive, problem: Problem) -> str:
    if isinstance(problem.model.rates, WrittenRates):
        return ""
    return "the parts of a Python function are not known; write the equations, and mark terms as implicit(…)"


DIAGONAL: Final = Family(
    DIAGONALLY_IMPLICIT,
    "diagonally_implicit.family",
    _lay_out,
    implicit=True,
    scale=_scale,
    takes_controller=True,
    takes_mass=_takes_mass,
    beside=LINEAR_KERNELS,
)

ADDITIVE_STAGES: Final = Family(
    ADDITIVE,
    "diagonally_implicit.family",
    lambda method, demand: _lay_out(method.half, demand, method),
    implicit=True,
    scale=_scale_of_both,
    takes_controller=True,
    beside=LINEAR_KERNELS,
    fits=_fits,
    additive=True,
)
