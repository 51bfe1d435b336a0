"""Methods that choose between two others along the run."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.memory.links import LINK_SIZE
from unhurried_heron.kernels.stiffness_switching_work import CHANGES, CHOICE, StiffnessSwitchingWork
from unhurried_heron.methods.method import Method
from unhurried_heron.methods.stability import value_at
from unhurried_heron.methods.stiffness_switching import CHOOSING, StiffnessSwitching

# The price of a step of the stiff method in steps of the non-stiff one. It is above what `benchmarks/run.py --part
# methods` prints, because each change of the method costs a restart as well.
_COST = 4.0
# What is added to that price for a full Jacobian, for each of its entries.
_COST_OF_FULL = 0.02
# That price where the Jacobian is banded or sparse.
_COST_OF_BANDS = 12.0
# That price of a stabilised explicit method, which has few stages where steps are near to the limit of another.
COST_OF_STABILISED: Final = 2.0
# The number of states up to which the Jacobian is taken for a full matrix in that price.
_MAX_FULL: Final = 100
# A step is that of a slow solution if it is this many times what the error of the fastest mode alone would allow.
_SLOWER = 3.0
# A step is limited by stability if it uses this share of the stability limit.
_CLOSE = 0.65
# The amplification of an oscillation from which a step is beyond the border of the stability region.
_GROWS = 1.01
# The share of the distance to that border at which steps are limited by it.
_BORDER = 0.8
# The share of the step that the error allows beyond which an oscillation is no longer resolved.
_FOLLOWED = 1.3


def _user_tolerances(
    method: StiffnessSwitching, relative: Array, absolute: Array, state: Array, fixed: bool
) -> ErrorScale:
    """Return the user's tolerances: each of the two has its own scale of them.

    Parameters
    ----------
    method : StiffnessSwitching
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
    return ErrorScale(relative, absolute)


def _pair_of(method: Any, relative: Array) -> tuple[Method, Method]:
    """Return the two methods of a `StiffnessSwitching` for the tightest of the tolerances."""
    pair: tuple[Method, Method] = method.pair(float(relative.min(where=relative > 0.0, initial=1.0)))
    return pair


def _lay_out(method: StiffnessSwitching, demand: SetupRequest) -> WorkSpace:
    if demand.member is None:
        raise unforeseen("a march lays out members")
    if demand.degree_of is None:
        raise unforeseen("and knows their polynomials")
    n, pair = demand.n, _pair_of(method, demand.scales.relative)
    # the stiff one is laid out when it is needed
    member = demand.member(pair[0])
    large = method.of_large(float(demand.scales.relative.min(where=demand.scales.relative > 0.0, initial=1.0)))
    room = max(member.work.degree, demand.degree_of(pair[1]), demand.degree_of(large))
    cost = _COST + _COST_OF_FULL * n**2 if n <= _MAX_FULL else _COST_OF_BANDS
    links = np.zeros(2 * LINK_SIZE, dtype=np.int64)
    choice = np.zeros(1, dtype=CHOICE)
    choice["allowed"] = 1
    work = StiffnessSwitchingWork(
        choice=choice,
        room=room,
        links=links,
        orders=np.array([each.order for each in pair], dtype=np.int64),
        limits=np.array([pair[0].real_stability_limit, cost, _pace(pair[0], demand.scales.relative), 0.0]),
        direction=np.zeros(n),
        earlier=np.zeros(n),
        moved=np.zeros(n),
        rates=np.zeros(n),
        sizes=np.zeros(n),
        taken=np.zeros(2, dtype=np.int64),
        when=np.zeros(CHANGES),
        radius=np.zeros(1, dtype=np.int64),
    )
    return WorkSpace(work, np.zeros(n), room, (), (member,), links)


def _pace(method: Any, relative: Array) -> float:
    """Return the h lambda beyond which there is something faster than the solution.

    A solution that swings by itself at lambda is followed by the steps that the error estimate allows for y' = lambda
    y; steps some times longer follow something slower.
    """
    tolerance = float(relative.min(where=relative > 0.0, initial=1.0))
    z = 1j * np.geomspace(1e-3, 30.0, 3000)
    estimate = np.abs(value_at(method.stability, z) - value_at(method.embedded_stability, z))
    allowed = float(np.abs(z[int(np.argmax(estimate > tolerance))])) if (estimate > tolerance).any() else 30.0
    border = _border(method)
    return float(
        min(_SLOWER * allowed, _CLOSE * method.real_stability_limit, max(_BORDER * border, _FOLLOWED * allowed))
    )


def _border(method: Any) -> float:
    """Return where the imaginary axis leaves the stability region: a swing that has died down holds the steps there."""
    z = 1j * np.geomspace(1e-3, 30.0, 3000)
    grows = np.abs(value_at(method.stability, z)) > _GROWS
    return float(np.abs(z[int(np.argmax(grows))])) if grows.any() else 30.0


def near_border(method: Any) -> float:
    """Return the h lambda beyond which a step is limited by stability, whatever its accuracy."""
    return _BORDER * min(_border(method), float(method.real_stability_limit))


ALONG_THE_RUN: Final = Family(
    CHOOSING,
    "stiffness_switching.family",
    _lay_out,
    scale=_user_tolerances,
    takes_controller=True,
    beside=("stiffness_switching.changed",),
    members=_pair_of,
    second_later=True,
)
