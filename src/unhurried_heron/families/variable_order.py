"""Methods that choose among several orders along the run."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import unforeseen
from unhurried_heron.families.error_scale import ErrorScale
from unhurried_heron.families.family import WITH_CONSTRAINTS, Family, SetupRequest, WorkSpace
from unhurried_heron.families.linear import LINEAR_KERNELS
from unhurried_heron.kernels.memory.links import LINK_SIZE
from unhurried_heron.kernels.variable_stages_work import SEVERAL, VariableOrderWork
from unhurried_heron.methods.stiffness_switching import SEVERAL_ORDERS as NAME
from unhurried_heron.methods.stiffness_switching import VariableOrder

# The largest tolerances for which a second and a third order are worth their larger systems.
_WORTH: Final = (1e-3, 1e-6)


def _user_tolerances(method: VariableOrder, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the user's tolerances: each member has its own scale of them.

    Parameters
    ----------
    method : VariableOrder
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


def _lay_out(method: VariableOrder, demand: SetupRequest) -> WorkSpace:
    if demand.member is None:
        raise unforeseen("a march lays out members")
    relative = demand.scales.relative
    tightest = float(relative.min(where=relative > 0.0, initial=1.0))
    highest = min(sum(tightest <= largest for largest in _WORTH), len(method.members) - 1)
    members = tuple(demand.member(each) for each in method.members[: highest + 1])
    room = max(member.work.degree for member in members)
    links = np.zeros(LINK_SIZE * len(members), dtype=np.int64)
    orders = np.array([each.order for each in method.members], dtype=np.int64)
    work = VariableOrderWork(np.zeros(1, dtype=SEVERAL), highest, room, links, orders, np.zeros_like(orders))
    return WorkSpace(work, np.zeros(demand.n), room, (), members, links)


SEVERAL_ORDERS: Final = Family(
    NAME,
    "variable_stages.family",
    _lay_out,
    implicit=True,
    scale=_user_tolerances,
    takes_controller=True,
    takes_mass=lambda method: WITH_CONSTRAINTS,
    beside=("fully_implicit.step.family", *LINEAR_KERNELS),
    degree=lambda method: int(method.stages) + 1,
    members=lambda method, relative: tuple(method.members),
)
