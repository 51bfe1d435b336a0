"""Damped Newton's method for all stages of a fully implicit fixed step at once (`implicit.damped_newton`).

Every stage has its own Jacobian, so the s n unknowns do not fall apart.
"""

from __future__ import annotations

from unhurried_heron.kernels.fully_implicit.newton import all_stage_rates, block_work_in
from unhurried_heron.kernels.implicit.damped_newton import solve_damped
from unhurried_heron.kernels.implicit.mass_matrix import sign_of_short_steps, subtract_mass
from unhurried_heron.kernels.implicit.newton import TOLERANCE
from unhurried_heron.kernels.linear_algebra.calls import factor, sign_of_determinant, solve
from unhurried_heron.kernels.linear_algebra.context import DONE, RE
from unhurried_heron.kernels.linear_algebra.jacobian import jacobian_at
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs, offset_by
from unhurried_heron.kernels.memory.decoding import system_in
from unhurried_heron.kernels.memory.implicit_records import NEWTON_LIMIT


@inner
def _miss(system, work, control, h, part):
    """Write f - M A^-1 z/h to ``stacked``; return the code of the rates.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.
    part : int
        Not used: the whole step is solved at once.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, s = system.n, work.stages
    code = all_stage_rates(system, work, control, h)
    if code != 1:
        return code
    for i in range(s):
        stacked = offset_by(work.stacked, i * n)
        for k in range(n):
            missing = 0.0
            for j in range(s):
                missing += work.inverse[i * s + j] * work.z[j * n + k]
            work.d1[k] = missing / (h * part)
            stacked[k] = work.f[i * n + k]
        subtract_mass(system, 1.0, work.d1, stacked)
    return 1


@inner
def _form(system, work, control, h, part):
    """Fill the whole matrix at the present stages; return the code of the Jacobian.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.
    part : int
        Not used, as above.

    Returns
    -------
    int
        1, or the code of the function that stopped.
    """
    n, s = system.n, work.stages
    size, whole = s * n, as_doubles(as_longs(work.whole)[RE])
    for i in range(s):
        z, rates = offset_by(work.z, i * n), offset_by(work.f, i * n)
        for k in range(n):
            work.d1[k] = system.state[k] + z[k]
            work.d2[k] = rates[k]
        code = jacobian_at(system, work, control, control.time + work.c[i] * h, work.d1, work.d2)
        if code != 1:
            return code
        for r in range(n):
            row = offset_by(whole, (i * n + r) * size)
            for j in range(s):
                for k in range(n):
                    row[j * n + k] = -work.jacobian[r * n + k] if i == j else 0.0
                if system.n_mass == 0:
                    row[j * n + r] += work.inverse[i * s + j] / (h * part)
        for e in range(system.n_mass):
            row = offset_by(whole, (i * n + system.mass_rows[e]) * size)
            for j in range(s):
                row[j * n + system.mass_columns[e]] += system.mass[e] * work.inverse[i * s + j] / (h * part)
    return 1


@inner
def _correct(system, work, control, h, part, fresh):
    """Turn the miss into the Newton correction.

    Parameters
    ----------
    system : System
    work : BlockWork
    control : CONTROL
    h : float
        Length of the step, negative backwards.
    part : int
        Not used, as above.
    fresh : bool
        Whether Jacobian and factors are to be found anew.

    Returns
    -------
    (int, int)
        The code of the rates, 2 where the matrix is singular; and the sign of the determinant, 0 for none.
    """
    sign = 1
    if fresh:
        code = _form(system, work, control, h, part)
        if code != 1:
            return code, 0
        control.factorisations += 1
        if factor(work.factor, work.whole, 0.0, 0.0) != DONE:
            return 2, 0
        sign = sign_of_determinant(work.whole)
        if work.n_real % 2 == 1:
            # conjugate pairs of blocks leave the sign as it is
            sign *= sign_of_short_steps(system, control, h)
    solved = solve(work.solve_whole, work.whole, work.stacked, work.stacked, TOLERANCE)
    control.solves += 1
    control.iterations += 1
    return (1 if solved == DONE else 2), sign


def solve_block(address):
    """Solve the stages of the next step from no change; return the outcome.

    The number of iterations goes to ``control.row_iterations``. ``address``: of the table of a fully implicit march.
    """
    table = as_longs(address)
    control, system, work = as_control(table[0]), system_in(table), block_work_in(table)
    arrays = (work.stages * system.n, work.z, work.stacked, work.direction, work.w)
    equations = (arrays, _miss, _correct, control.length)
    outcome, control.row_iterations = solve_damped(system, work, control, equations, work.limits[NEWTON_LIMIT])
    return outcome
