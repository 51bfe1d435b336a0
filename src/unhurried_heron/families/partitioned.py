"""Explicit partitioned methods at fixed steps."""

from __future__ import annotations

from itertools import accumulate
from typing import Final

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.partitioned_work import PartitionedWork
from unhurried_heron.methods.partitioned import PARTITIONED, Partitioned
from unhurried_heron.model.partition import partition_of
from unhurried_heron.problem.problem import Problem

# Of the step polynomial, the cubic through both ends.
_DEGREE: Final = 3


def _fits(method: Partitioned, problem: Problem) -> str:
    found = partition_of(problem.model)
    if isinstance(found, str):
        return f"its states fall into no two parts that move by each other, as positions and velocities do: {found}"
    if method.second_order and not found.second_order:
        return "it is for equations of second order, y'' = f(t, y), and these are others"
    return ""


def _lay_out(method: Partitioned, demand: SetupRequest) -> WorkSpace:
    if demand.problem is None or demand.rates_of is None:
        raise unforeseen("a partitioned family is given the rates of parts")
    found = partition_of(demand.problem.model)
    if isinstance(found, str):
        raise unforeseen("a problem of one part reached a partitioned family")
    turns = np.array([int(turn == "kick") for turn, _ in method.sequence], dtype=np.int64)
    shares = np.array([float(share) for _, share in method.sequence])
    one, other = (demand.rates_of(part) for part in (found.first, found.second))
    # how far the other part has come before a turn
    come = [list(accumulate(np.where(turns == kind, shares, 0.0), initial=0.0)) for kind in (1, 0)]
    nodes = np.array([come[turn][index] for index, turn in enumerate(turns.tolist())])
    nodes[np.abs(nodes - 1.0) < 1e-14] = 1.0
    n = demand.n
    work = PartitionedWork(
        n_turns=turns.size,
        n_first=found.first.size,
        n_second=found.second.size,
        rates_of_first=one.address,
        context_of_first=one.context_address,
        rates_of_second=other.address,
        context_of_second=other.context_address,
        first=found.first.astype(np.int64),
        second=found.second.astype(np.int64),
        turns=turns,
        shares=shares,
        nodes=nodes,
        rates=np.zeros(n),
        end=np.zeros(n),
    )
    return WorkSpace(work, np.zeros(n), _DEGREE, (one, other))


PARTS: Final = Family(PARTITIONED, "partitioned.family", _lay_out, fits=_fits, degree=lambda method: _DEGREE)
