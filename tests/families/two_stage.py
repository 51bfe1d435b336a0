"""A family from outside: two implicit stages with one diagonal coefficient (B. Norsett, 1974), order 2, L-stable."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Any, NamedTuple

import numpy as np

from unhurried_heron.families import Controller, Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array
from unhurried_heron.kernels.memory.implicit_records import NEWTON
from unhurried_heron.methods.stability import Region
from unhurried_heron.problem.problem import Problem

GAMMA = 1.0 - math.sqrt(0.5)
REGION = Region(math.inf, math.inf, 90.0, 0.0)


@dataclass(frozen=True)
class TwoStage:
    name: str = "two-stage-2"
    family: str = "two-stage"
    source: str = "a test"
    stiff: bool = True
    adaptive: bool = True
    stages: int = 2
    order: int = 2
    embedded_order: int = 1
    estimate_order: int = 1
    interpolant_order: int = 2
    evaluations: int = 2
    implicit: bool = True
    stability: tuple = ((1.0, 1.0 - 2.0 * GAMMA), (1.0, -2.0 * GAMMA, GAMMA**2))
    real_stability_limit: float = math.inf
    region: Region = REGION


class Work(NamedTuple):
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    factor: int
    solve: int
    real: int
    jacobian: Array
    scale: Array
    shifted: Array
    base: Array
    z: Array
    residual: Array
    first: Array
    second: Array


def lay_out(method: TwoStage, demand: SetupRequest) -> WorkSpace:
    n = demand.n
    linear = demand.linear
    context = linear.context(False)
    vectors = [np.zeros(n) for _ in range(7)]
    controller = Controller(safety=0.7).record(method.embedded_order)
    newton = np.zeros(1, dtype=NEWTON)
    work = Work(controller, newton, linear.factor, linear.solve, context[0].ctypes.data, linear.jacobian, *vectors)
    return WorkSpace(work, np.zeros(n), 3, (context, linear))


def fits(method: TwoStage, problem: Problem) -> str:
    return "it is for 100 states at most" if len(problem.states) > 100 else ""


FAMILY = Family("two-stage", "two_stage_kernel:family", lay_out, implicit=True, fits=fits)
