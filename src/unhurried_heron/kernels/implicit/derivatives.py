"""The derivatives that M y' = f(t, y) implies for a mass matrix M, and states that meet its constraints.

M is the identity where ``system.n_mass`` is 0. Rows of zeros are constraints, 0 = g(t, y): with M_d and J_a for the
other rows of M and those of the Jacobian, the derivatives solve M_d y' = f_d and J_a y' = -dg/dt (index 1). E. Hairer
and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section VI.1.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.mass_matrix import subtract_mass
from unhurried_heron.kernels.implicit.newton import factor_for
from unhurried_heron.kernels.implicit.scale import set_scale, size_of
from unhurried_heron.kernels.linear_algebra.calls import sign_of_determinant, solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.outcome import check_rates_at_state, find_rates_at_state
from unhurried_heron.kernels.march.polynomial import derive_step
from unhurried_heron.kernels.march.rates import ask_rates
from unhurried_heron.kernels.memory.control import (
    FOR_END,
    FOR_JACOBIAN,
    FOR_STARTING,
    INCONSISTENT,
    NEWTON_FAILED,
    RATES_STOPPED,
    REACHED_END,
)
from unhurried_heron.kernels.memory.decoding import implicit_memory

# The shift in shift*M - J at first, in lengths of the interval that is left: J is to be small beside it,
_FIRST_SHIFT = 1e6
# by which factor it grows where J is not,
_LARGER = 1e4
# and how often at most.
_SHIFTS = 6
# Solutions are refined until a correction is below this share of them,
_REFINED = 1e-13
# so often at most.
_REFINEMENTS = 5
# Newton's iterations for constraints,
_TURNS = 20
# which are met where a correction is below this share of the tolerance.
_MET = 1e-3
# Within so many tolerances of them the Jacobian is as good as new,
_NEAR = 1.0
# as long as a correction is below this share of the one before.
_GOOD = 0.1
# How far from them, in its units, a run of fixed steps may begin: no tolerance was said.
_ALLOWED_AT_FIXED_STEPS = 1e4
# The square root of the spacing of doubles at one.
_ROOT = 1.4901161193847656e-08


@inner
def _solve_split(system, work, context, shift, right, arrays):
    """Solve M_d x = right_d and -J_a x = right_a with factors of shift*M - J; return whether J was small beside them.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    context : int
        Address of the context of the factors.
    shift : float
        That of the factors.
    right : float pointer, (n,)
    arrays : (float pointer, float pointer)
        The solution (n,), and scratch (n,).

    Returns
    -------
    bool
    """
    (x, missed), n = arrays, system.n
    for k in range(n):
        x[k] = 0.0
        missed[k] = right[k]
    before = np.inf
    for turn in range(_REFINEMENTS):
        for k in range(n):
            if system.mass_sizes[k] > 0.0:
                missed[k] *= shift
        if solve(work.solve, context, missed, missed, _ROOT) != DONE:
            return False
        for k in range(n):
            x[k] += missed[k]
        size, change = size_of(work, x, n), size_of(work, missed, n)
        if change <= _REFINED * size:
            return True
        # rounding contracts no further
        if turn > 1 and change > 0.5 * before:
            return change <= _ROOT * size
        before = change
        for k in range(n):
            missed[k] = right[k] if system.mass_sizes[k] > 0.0 else 0.0
        subtract_mass(system, 1.0, x, missed)
        for k in range(n):
            if system.mass_sizes[k] == 0.0:
                missed[k] = 0.0
    return before <= _ROOT * size_of(work, x, n)


@inner
def _rates_and_factors(system, work, control, context, shift, rates):
    """Find rates, Jacobian and factors of shift*M - J where the march stands; return REACHED_END if all is well.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the factors.
    shift : float
    rates : float pointer, (n,)
        Filled with the right-hand sides.

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NEWTON_FAILED.
    """
    if ask_rates(system, control, FOR_STARTING, control.time, system.state, rates) != 1:
        return RATES_STOPPED
    if jacobian_at(system, work, control, control.time, system.state, rates) != 1:
        return RATES_STOPPED
    return REACHED_END if factor_for(work, control, context, shift) == DONE else NEWTON_FAILED


@inner
def _meet_constraints(system, work, control, context, shift, arrays):
    """Move the state to where the constraints hold and M y is as it was; return REACHED_END if it is there.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the factors, which are of ``shift``.
    shift : float
    arrays : (float pointer, float pointer)
        The right-hand sides (n,), and scratch (n,).

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED, NEWTON_FAILED, or INCONSISTENT where the run begins at a state that is to move.
    """
    (rates, missed), n, move, before = arrays, system.n, system.rates_at_state, np.inf
    for _ in range(_TURNS):
        for k in range(n):
            if system.mass_sizes[k] > 0.0:
                rates[k] = 0.0
        if not _solve_split(system, work, context, shift, rates, (move, missed)):
            return NEWTON_FAILED
        size = size_of(work, move, n)
        if size <= _MET:
            return REACHED_END
        if not size < np.inf:
            return NEWTON_FAILED
        allowed = 1.0 if control.adaptive == 1 else _ALLOWED_AT_FIXED_STEPS
        if control.accepted == 0 and control.time == control.origin and control.moved == 0 and size > allowed:
            control.bad_component = 0
            for k in range(1, n):
                if abs(move[k]) / work.scale[k] > abs(move[control.bad_component]) / work.scale[control.bad_component]:
                    control.bad_component = k
            return INCONSISTENT
        for k in range(n):
            system.state[k] += move[k]
        if size > _NEAR or size > _GOOD * before:
            reason = _rates_and_factors(system, work, control, context, shift, rates)
            if reason != REACHED_END:
                return reason
        elif ask_rates(system, control, FOR_STARTING, control.time, system.state, rates) != 1:
            return RATES_STOPPED
        before = size
    return NEWTON_FAILED


@inner
def _write_change_in_time(system, control, rates, out):
    """Write dg/dt of the constraints, whose values are in ``rates``; the other rows are those of ``rates``.

    Parameters
    ----------
    system : System
    control : CONTROL
    rates : float pointer, (n,)
    out : float pointer, (n,)
        Filled with the result.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, t, left = system.n, control.time, control.end - control.time
    if left == 0.0:
        left = -control.length
    moved = t + np.copysign(min(abs(left), _ROOT * max(abs(t), abs(left))), left)
    code = ask_rates(system, control, FOR_JACOBIAN, moved, system.state, out)
    for k in range(n):
        out[k] = rates[k] if system.mass_sizes[k] > 0.0 else (out[k] - rates[k]) / (moved - t)
    return code


@inner
def find_rates_at_end(system, control, coefficients, degree):
    """Find the rates at the end of an accepted step; with a mass matrix the derivatives of its polynomial there.

    Parameters
    ----------
    system : System
    control : CONTROL
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    degree : int
        Degree of the step polynomial.

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED or NOT_FINITE.
    """
    if system.n_mass == 0:
        return find_rates_at_state(system, control, FOR_END)
    derive_step(coefficients, degree, system.n, 1.0, system.rates_at_state)
    for k in range(system.n):
        system.rates_at_state[k] /= control.length
    return check_rates_at_state(system, control)


@inner
def derive(system, work, control, context, arrays):
    """Meet the constraints where the march stands, and write the derivatives of the states to ``rates_at_state``.

    The sign of the determinant of shift*M - J for short steps is kept. Jacobian and factors are forgotten.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of real factors.
    arrays : (float pointer, float pointer)
        Scratch (n,), each.

    Returns
    -------
    int
        REACHED_END, RATES_STOPPED, NOT_FINITE, NEWTON_FAILED or INCONSISTENT.
    """
    (rates, missed), memory = arrays, implicit_memory(work.memory)
    memory.jacobian_age, memory.factored_step = 0, 0.0
    set_scale(system, work, control.step)
    left = control.end - control.time
    shift = _FIRST_SHIFT / (left if left != 0.0 else control.length)
    for _ in range(_SHIFTS):
        reason = _rates_and_factors(system, work, control, context, shift, rates)
        if reason != REACHED_END:
            return reason
        control.reference_sign = sign_of_determinant(context)
        if system.n_constraints > 0:
            reason = _meet_constraints(system, work, control, context, shift, arrays)
            if reason != REACHED_END and reason != NEWTON_FAILED:
                return reason
            # the iteration has written over the right-hand sides
            if ask_rates(system, control, FOR_STARTING, control.time, system.state, rates) != 1:
                return RATES_STOPPED
            if _write_change_in_time(system, control, rates, work.shifted) != 1:
                return RATES_STOPPED
            for k in range(system.n):
                rates[k] = work.shifted[k]
        if reason == REACHED_END and _solve_split(system, work, context, shift, rates, (system.rates_at_state, missed)):
            return check_rates_at_state(system, control)
        shift *= _LARGER
    return NEWTON_FAILED
