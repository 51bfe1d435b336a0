"""Explicit Runge-Kutta methods."""

from __future__ import annotations

import functools
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, hidden_part, proportional
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.explicit_runge_kutta_work import EXPLICIT_MEMORY, Tableau
from unhurried_heron.kernels.memory.batch import BLOCK_SIZE
from unhurried_heron.methods.catalogue import FOR_SMOOTH
from unhurried_heron.methods.coefficients import balanced, floats
from unhurried_heron.methods.runge_kutta import EXPLICIT as NAME
from unhurried_heron.methods.runge_kutta import RungeKutta

# proportional and integral parts (K. Gustafsson, ACM Trans. Math. Softw. 17 (1991) 533-554): with 0.6 of the error now
# and 0.2 of its change the steps settle where stability limits them, instead of being refused again and again. At this
# share least work was done for an error reached, over the problems of the tests
_CONTROLLER: Final = Controller(safety=0.77, error_exponent=0.8, previous_error_exponent=-0.2)


# Steps are shortened where the error between them exceeds the estimate by this factor: cancellation at the ends of
# the step does not act between them.
_ALIKE: Final = 1.5
# The error between the steps may be this multiple of the tolerance where the pair foresees it.
_BETWEEN: Final = 0.3
# The largest growth of a decaying mode by the step polynomial, near the limit of stability, before steps must be more
# accurate (measured: with this value errors between the steps keep within ten tolerances where a method follows a
# damped state).
_GROWTH: Final = 4.0


def _scale(method: RungeKutta, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale of the error for the user's tolerances.

    Parameters
    ----------
    method : RungeKutta
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
    if fixed:
        return scale
    # If the error of a method of low order exceeds its estimate, the errors of many steps add up.
    share = 1.0 / hidden_part(method) if method.hidden_error > 1.0 else 1.0
    if method.between_errors > _ALIKE:
        share = min(share, _BETWEEN / method.between_errors)
    share = min(share, _GROWTH / method.growth_between)
    return scale if share == 1.0 else ErrorScale(share * scale.relative, share * scale.absolute)


def _lay_out(method: RungeKutta, demand: SetupRequest) -> WorkSpace:
    (attempt, further, error, polynomial, stride), engine = _tableau_code(method, demand.n, strides=demand.fixed)
    degree, total = method.interpolant.shape
    width = total - len(method.further_stages)
    # The arguments of further stages stand in one more row.
    stages, where = np.zeros((total + (total > width), demand.n)), np.zeros(1, dtype=np.int64)
    memory = np.zeros(1, dtype=EXPLICIT_MEMORY)
    controller = (demand.controller or _CONTROLLER).record(method.estimate_order)
    block = np.zeros(BLOCK_SIZE, dtype=np.int64)
    tableau = Tableau(
        memory, controller, attempt, further, error, polynomial, stride, degree, width, total, stages, where, block
    )
    return WorkSpace(tableau, stages[0], degree, (engine,))


def _tableau_code(method: RungeKutta, n: int, *, strides: bool) -> tuple[list[int], Any]:
    # Modules that compile are loaded only when something runs.
    """Return the addresses of the compiled steps of a method, and what keeps them alive.

    Parameters
    ----------
    method : RungeKutta
    n : int
        Number of states.
    strides : bool
        Whether batches of steps are compiled, too.

    Returns
    -------
    (list of int, object)
    """
    from unhurried_heron.codegen.vector_ir import MAX_WRITTEN_OUT

    return _compiled(method, n if n <= MAX_WRITTEN_OUT else None, strides)


def stride_of(method: RungeKutta) -> tuple[int, int]:
    """Return the address of the batches of fixed steps of a method for any number of states, and its rows of stages.

    Parameters
    ----------
    method : RungeKutta

    Returns
    -------
    (int, int)
    """
    total = method.interpolant.shape[1]
    return _compiled(method, None, True)[0][4], total + 1


@functools.lru_cache(maxsize=256)
def _compiled(method: RungeKutta, size: int | None, strides: bool) -> tuple[list[int], Any]:
    """Compile the steps of a method, once for each number of states.

    Parameters
    ----------
    method : RungeKutta
    size : int or None
        Number of states where the code is for these alone.
    strides : bool
        Whether batches of steps are compiled, too.

    Returns
    -------
    (list of int, object)
    """
    from unhurried_heron.codegen.runge_kutta_ir import Arithmetic, compile_tableau

    width = len(method.interpolant[0]) - len(method.further_stages)
    further = [balanced([row[: width + i]], [sum(row)])[0] for i, row in enumerate(method.further_stages)]
    degrees = [1.0, *[0.0] * (len(method.interpolant) - 1)]
    numbers = Arithmetic(
        balanced(method.a, method.c),
        balanced([method.b], [1.0])[0],
        floats(method.c),
        method.error_weights,
        not method.ends_in_a_stage,
        further,
        balanced(method.interpolant, degrees),
    )
    return compile_tableau(numbers, size, strides=strides)


EXPLICIT: Final = Family(
    NAME,
    "explicit_runge_kutta.family",
    _lay_out,
    scale=_scale,
    takes_controller=True,
    strides=True,
    group_steps=stride_of,
    reference=FOR_SMOOTH,
)
