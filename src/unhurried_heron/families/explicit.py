"""Explicit Runge-Kutta methods."""

from __future__ import annotations

import functools
from typing import Any, Final

import numpy as np

from unhurried_heron.families.controller import Controller
from unhurried_heron.families.family import Demand, Family, WorkSpace
from unhurried_heron.kernels.memory.bundles import EXPLICIT_MEMORY, Tableau
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.methods.method import estimate_order
from unhurried_heron.methods.runge_kutta import RungeKutta

# proportional and integral parts (K. Gustafsson, ACM Trans. Math. Softw. 17 (1991) 533-554): with 0.6 of the error now
# and 0.2 of its change the steps settle where stability limits them, instead of being refused again and again. At this
# share least work was done for an error reached, over the problems of the tests
_CONTROLLER: Final = Controller(share=0.77, now=0.8, before=-0.2)


def _lay_out(method: RungeKutta, demand: Demand) -> WorkSpace:
    addresses, engine = _tableau_code(method, demand.n)
    degree, width = method.interpolant.shape
    stages, where = np.zeros((width, demand.n)), np.zeros(1, dtype=np.int64)
    memory = np.zeros(1, dtype=EXPLICIT_MEMORY)
    controller = _CONTROLLER.record(estimate_order(method))
    tableau = Tableau(memory, controller, *addresses, degree, width, stages, where)
    return WorkSpace(tableau, stages[0], degree, (engine,))


def _tableau_code(method: RungeKutta, n: int) -> tuple[tuple[int, int, int], Any]:
    # what compiles is loaded when something runs
    from unhurried_heron.native.tableaux import MOST_WRITTEN_OUT

    return _compiled(method, n if n <= MOST_WRITTEN_OUT else None)


@functools.lru_cache(maxsize=64)
def _compiled(method: RungeKutta, size: int | None) -> tuple[tuple[int, int, int], Any]:
    from unhurried_heron.native.tableaux import compile_tableau

    a = np.array([[float(x) for x in row] for row in method.a])
    b, c = (np.array([float(x) for x in row]) for row in (method.b, method.c))
    return compile_tableau(a, b, c, method.error_weights, method.interpolant, size)


EXPLICIT: Final = Family("explicit Runge-Kutta", "explicit_runge_kutta.family", _lay_out, reference=DEFAULT)
