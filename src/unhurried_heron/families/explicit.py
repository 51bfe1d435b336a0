"""Explicit Runge-Kutta methods."""

from __future__ import annotations

import functools
from typing import Any, Final

import numpy as np

from unhurried_heron.families.family import Demand, Family, WorkSpace
from unhurried_heron.kernels.memory.bundles import EXPLICIT_MEMORY, Tableau
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.methods.runge_kutta import RungeKutta


def _lay_out(method: RungeKutta, demand: Demand) -> WorkSpace:
    addresses, engine = _tableau_code(method)
    lowest = min(method.order, method.embedded_order) if method.adaptive else method.order
    degree, width = method.interpolant.shape
    stages, where = np.zeros((width, demand.n)), np.zeros(1, dtype=np.int64)
    memory = np.zeros(1, dtype=EXPLICIT_MEMORY)
    tableau = Tableau(memory, *addresses, degree, width, lowest + 1, stages, where)
    return WorkSpace(tableau, stages[0], degree, (engine,))


@functools.lru_cache(maxsize=64)
def _tableau_code(method: RungeKutta) -> tuple[tuple[int, int, int], Any]:
    # what compiles is loaded when something runs
    from unhurried_heron.native.tableaux import compile_tableau

    a = np.array([[float(x) for x in row] for row in method.a])
    b, c = (np.array([float(x) for x in row]) for row in (method.b, method.c))
    return compile_tableau(a, b, c, method.error_weights, method.interpolant)


EXPLICIT: Final = Family("explicit Runge-Kutta", "explicit_runge_kutta.family", _lay_out, reference=DEFAULT)
