"""Linear multistep methods at fixed steps."""

from __future__ import annotations

import functools
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import MethodError, unforeseen
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, for_fixed_steps
from unhurried_heron.families.family import REGULAR, WITH_CONSTRAINTS, Family, Member, SetupRequest, WorkSpace
from unhurried_heron.families.linear import LINEAR_KERNELS
from unhurried_heron.kernels.history_work import HISTORY, ExplicitHistoryWork, ImplicitHistoryWork
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.batch import BLOCK_SIZE
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.kernels.memory.links import LINK_SIZE
from unhurried_heron.methods.multistep import EXPLICIT_MULTISTEP, IMPLICIT_MULTISTEP, Multistep

# Starters by order: the cheapest method of the catalogue of that order, up to the highest.
_EXPLICIT_STARTERS: Final = (
    "euler", "heun-2", "kutta-3", "classical-rk-4", "dormand-prince-54", "verner-65", "verner-76", "dormand-prince-853",
    "verner-98",
)  # fmt: skip
_IMPLICIT_STARTERS: Final = (
    "backward-euler", "sdirk-2", "radau-iia-3", "lobatto-iiic-4", "radau-iia-5", "lobatto-iiic-6", "radau-iia-9",
)  # fmt: skip


def _explicit_starter(method: Multistep) -> str:
    return _EXPLICIT_STARTERS[min(method.order, len(_EXPLICIT_STARTERS)) - 1]


def _implicit_starter(method: Multistep) -> str:
    return _IMPLICIT_STARTERS[min(method.order, len(_IMPLICIT_STARTERS)) - 1]


def _starter(method: Multistep, demand: SetupRequest) -> Member:
    if demand.member is None:
        raise unforeseen("a march lays out members")
    member = demand.member(demand.starter)
    if not method.implicit and getattr(demand.starter, "implicit", False):
        raise MethodError(f"{method.name} is explicit, and so must be what starts it", name="starter",
                          location="starter", expected="an explicit one-step method, or \"exact\"",
                          given=demand.starter.name)  # fmt: skip
    return member


def _shared(method: Multistep, demand: SetupRequest, member: Member) -> dict[str, Any]:
    """Return what both kinds have.

    Parameters
    ----------
    method : Multistep
    demand : SetupRequest
    member : Member

    Returns
    -------
    dict of str to object
    """
    n, k = demand.n, method.steps
    degree = len(method.interpolant)

    def past(values: Any, count: int) -> Array:
        filled: Array = np.array([float(x) for x in values] + [0.0] * max(count - len(values), 0))[:count]
        return filled

    if method.predictor is not None:
        predicts = [past(method.predictor[0], k), past(method.predictor[1][1:], k)]
    elif method.implicit:
        predicts = list(method.prediction)
    else:
        predicts = [past(method.a, k), past(method.b[1:], k)]
    return {
        "history": np.zeros(1, dtype=HISTORY),
        "steps": k,
        "degree": degree,
        "room": max(degree, member.work.degree),
        "by_past_rates": int(method.uses_past_rates),
        "links": np.zeros(LINK_SIZE, dtype=np.int64),
        "interpolant": np.ascontiguousarray(method.interpolant),
        "predicts": np.concatenate(predicts),
        "weights": np.concatenate([past(method.a, k), past(method.b[1:], k)]),
        "newest": np.array([float(method.b[0])]),
        "past": np.zeros((k + 1, n)),
        "past_rates": np.zeros((k + 1, n)),
    }


def _lay_out_explicit(method: Multistep, demand: SetupRequest) -> WorkSpace:
    member = _starter(method, demand)
    shared = _shared(method, demand, member)
    address, engine = _stride_code(method, demand.n, shared)
    work = ExplicitHistoryWork(
        corrects=int(method.predictor is not None),
        stride=address,
        predicted=np.zeros(demand.n),
        block=np.zeros(BLOCK_SIZE, dtype=np.int64),
        **shared,
    )
    return WorkSpace(work, np.zeros(demand.n), shared["room"], (engine,), (member,), shared["links"])


def _stride_code(method: Multistep, n: int, shared: dict[str, Any]) -> tuple[int, Any]:
    # Modules that compile are loaded only when something runs.
    """Return the address of compiled batches of steps, and what keeps them alive.

    Parameters
    ----------
    method : Multistep
    n : int
        Number of states.
    shared : dict of str to object
        What both kinds have.

    Returns
    -------
    (int, object)
    """
    from unhurried_heron.codegen.multistep_ir import Recurrence
    from unhurried_heron.codegen.vector_ir import MAX_WRITTEN_OUT

    k, corrected = method.steps, method.predictor is not None
    weights, predicts = shared["weights"].tolist(), shared["predicts"].tolist()
    remembers = not method.uses_past_rates or any(weights[1:k]) or any(predicts[1:k])
    newest = float(method.b[0]) if corrected else 0.0
    numbers = Recurrence(k, tuple(predicts), tuple(weights), newest, remembers)
    return _compiled(numbers, n if n <= MAX_WRITTEN_OUT else None)


@functools.lru_cache(maxsize=64)
def _compiled(numbers: Any, size: int | None) -> tuple[int, Any]:
    from unhurried_heron.codegen.multistep_ir import compile_recurrence

    return compile_recurrence(numbers, size)


def _lay_out_implicit(method: Multistep, demand: SetupRequest) -> WorkSpace:
    n, linear = demand.n, demand.linear
    if linear is None:
        raise unforeseen("an implicit family is given linear algebra")
    member = _starter(method, demand)
    shared = _shared(method, demand, member)
    context = linear.context(False)
    vectors = ("scale", "shifted", "base", "z", "residual", "defect", "direction", "stage", "kept", "guess")
    work = ImplicitHistoryWork(
        memory=np.zeros(1, dtype=IMPLICIT_MEMORY),
        controller=Controller(safety=1.0).record(method.order),
        newton=np.zeros(1, dtype=NEWTON),
        factor=linear.factor,
        solve=linear.solve,
        context=address(context[0]),
        limits=np.array([demand.scales.newton]),
        jacobian=linear.jacobian,
        **shared,
        **dict[str, Any]({name: np.zeros(n) for name in vectors}),
    )
    return WorkSpace(work, np.zeros(n), shared["room"], (context, linear), (member,), shared["links"])


def _fixed_scale(method: Multistep, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale for fixed steps, which follow no error.

    Parameters
    ----------
    method : Multistep
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
    return for_fixed_steps(state)


EXPLICIT_STEPS: Final = Family(
    EXPLICIT_MULTISTEP, "explicit_multistep.family", _lay_out_explicit, starts_by=_explicit_starter, strides=True
)
IMPLICIT_STEPS: Final = Family(
    IMPLICIT_MULTISTEP,
    "implicit_multistep.family",
    _lay_out_implicit,
    implicit=True,
    scale=_fixed_scale,
    beside=LINEAR_KERNELS,
    takes_mass=lambda method: REGULAR if any(method.b[1:]) else WITH_CONSTRAINTS,
    starts_by=_implicit_starter,
)
