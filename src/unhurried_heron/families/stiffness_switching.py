"""Methods that choose between two others along the run."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.memory.multistep_work import CHANGES, CHOICE, StiffnessSwitchingWork
from unhurried_heron.methods.method import Method
from unhurried_heron.methods.stability import value_at
from unhurried_heron.methods.stiffness_switching import CHOOSING, StiffnessSwitching
from unhurried_heron.run.trajectory import Array

# a step of the stiff method is taken to cost so many of the non-stiff one: more than `benchmarks/run.py --part methods`
# prints, because changes cost as well
_COST, _COST_OF_FULL, _COST_OF_BANDS = 4.0, 0.02, 12.0
_MOST_FULL: Final = 100
# what the error allows for the fastest mode alone, times this, is a step for something slower; and so is one that uses
# most of what stability allows
_SLOWER, _CLOSE = 3.0, 0.65
# how much a step must amplify a swing that it is beyond the border, the share of the border at which steps are held
# there, and the share of what the error allows beyond which a swing is not followed any more
_GROWS, _BORDER, _FOLLOWED = 1.01, 0.8, 1.3


def _as_given(method: StiffnessSwitching, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the user's tolerances: each of the two has its own scale of them."""
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
    cost = _COST + _COST_OF_FULL * n**2 if n <= _MOST_FULL else _COST_OF_BANDS
    links = np.zeros(3, dtype=np.int64)
    work = StiffnessSwitchingWork(
        choice=np.zeros(1, dtype=CHOICE),
        room=room,
        links=links,
        orders=np.array([each.order for each in pair], dtype=np.int64),
        limits=np.array([pair[0].real_stability_limit, cost, _pace(pair[0], demand.scales.relative)]),
        direction=np.zeros(n),
        earlier=np.zeros(n),
        moved=np.zeros(n),
        rates=np.zeros(n),
        sizes=np.zeros(n),
        taken=np.zeros(2, dtype=np.int64),
        when=np.zeros(CHANGES),
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
    # a swing that has died down holds the steps at the border of stability on the imaginary axis
    grows = np.abs(value_at(method.stability, z)) > _GROWS
    border = float(np.abs(z[int(np.argmax(grows))])) if grows.any() else 30.0
    return float(
        min(_SLOWER * allowed, _CLOSE * method.real_stability_limit, max(_BORDER * border, _FOLLOWED * allowed))
    )


ALONG_THE_RUN: Final = Family(
    CHOOSING,
    "stiffness_switching.family",
    _lay_out,
    scale=_as_given,
    takes_controller=True,
    beside=("stiffness_switching.changed",),
    members=_pair_of,
    second_later=True,
)
