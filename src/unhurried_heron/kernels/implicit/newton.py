"""Newton's method with factors that are kept: when it has converged, and when it never will.

`judge` is for any block of stages; `solve_stage` for one stage, M (y - base) = h gamma f(t, y), with factors of
M/(h gamma) - J in a ``context``. There ``work`` is any bundle with ``newton``, a record of `NEWTON`; ``factor`` and
``solve``, addresses of the linear algebra; and ``base``, ``z``, ``residual`` and ``scale`` (n,): the stage is base + z,
and corrections are measured in units of ``scale``. E. Hairer and G. Wanner, *Solving
Ordinary Differential Equations II*, 2nd ed. (1996), section IV.8.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.implicit.mass_matrix import subtract_mass, worst_missed
from unhurried_heron.kernels.linear_algebra.calls import factor, solve
from unhurried_heron.kernels.linear_algebra.context import DONE
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.march.rates import ask_part
from unhurried_heron.kernels.memory.control import FOR_STAGES
from unhurried_heron.kernels.memory.decoding import newton_in
from unhurried_heron.kernels.memory.implicit_records import CONVERGED, DIVERGED, GOES_ON, STOPPED

# The relative error of a correction that costs no iteration: it is smaller than what the kept factors leave.
TOLERANCE = 0.05
# The spacing of doubles at one.
_EPSILON = 2.220446049250313e-16
# Iterations of a step at most. An iteration that gains less than a factor of two each time, a thousand in ten, costs
# more than a shorter step with new factors.
MAX_ITERATIONS = 10
# The same at fixed steps, which cannot be shortened where the iteration is slow.
MAX_ITERATIONS_FIXED = 50
# The contraction that a step after a failure is to have: five iterations turn a quarter into a thousandth.
_AIM = 0.25
# The factor of such a step at least,
_MIN_SHRINK = 0.1
# and at most.
_MAX_SHRINK = 0.5
# The contraction of an earlier step counts as worse by this factor with every step since, so that it is soon measured
# again.
_DOUBT = 30.0
# Corrections above this multiple of the threshold tell the contraction; smaller ones are rounding.
_SAYS_SOMETHING = 10.0
# The contraction is taken to be at least this share of that of the step before.
_LIKE_BEFORE = 0.3
# Equations count as met if they are missed by no more than this number of tolerances.
_MET = 10.0
# A stiff equation, whose residual is its stiffness times the error, counts as met if its miss fell to this share of
# the first.
_NEARER = 0.1
# Corrections below this many roundings of a state change nothing.
ROUNDED = 8.0 * _EPSILON
# The rounding of corrections with a mass matrix, in largest errors of the iteration,
_ROUNDED_BY_OTHERS = 30.0
# but no more than this share of the tolerance.
_MUCH = 0.5
# A state that moves by more than this multiple of its size and of what its rate foresees has left the solution.
_STRAYS = 4.0


@inner
def forget_iterations(work):
    """Forget what was seen in earlier steps."""
    newton = newton_in(work.newton)
    newton.contraction = newton.correction = 1.0


@inner
def is_rounding(system, k, step, correction, movement):
    """Whether a correction of state k is rounding, of a state that goes no further than its rate at the start tells.

    Where a guess has gone astray, corrections may be small beside it for being cut by a false Jacobian.

    Parameters
    ----------
    system : System
    k : int
        Index of the state.
    step : float
        Length of the step.
    correction : float
    movement : float
        How far the state has moved in the step.

    Returns
    -------
    bool
    """
    size = abs(system.state[k])
    return abs(correction) <= ROUNDED * size and abs(movement) <= _STRAYS * (
        size + abs(step * system.rates_at_state[k])
    )


@inner
def missed_at_rest(system, work, shift):
    """Return what the worst equation misses where nothing moves, in units of the tolerance: no guess may be worse.

    Infinite with a mass matrix, where the rates at the state are not at hand.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    shift : float
        The shift in shift*M - J, one over a time.

    Returns
    -------
    float
    """
    return np.inf if system.n_mass > 0 else worst_missed(system, work, system.rates_at_state, shift)


@inner
def begin_iterations(work, missed=np.inf, at_rest=0.0):
    """Begin to iterate, and return the record in which that is told.

    Parameters
    ----------
    work : work space of an implicit family
    missed : float, optional
        By the equations at rest.
    at_rest : float, optional
        The size of corrections, in tolerances, that are rounding where they contract no further.

    Returns
    -------
    NEWTON
    """
    newton = newton_in(work.newton)
    newton.first_miss, newton.at_rest = missed, at_rest
    newton.theta, newton.shrink, newton.before = 0.0, _MAX_SHRINK, 1.0
    return newton


@inner
def rounding_of(system, control, threshold):
    """Return the size of corrections, in tolerances, that are rounding where they contract no further.

    With a mass matrix a state has the rounding of others in it, however small it is itself.

    Parameters
    ----------
    system : System
    control : CONTROL
    threshold : float
        The largest error of the iteration, in tolerances.

    Returns
    -------
    float
    """
    if system.n_mass == 0:
        return threshold
    return max(threshold, min(_MUCH, _ROUNDED_BY_OTHERS * threshold)) if control.adaptive == 1 else 1.0


@inner
def judge(newton, count, size, miss, limits, hurry):
    """Return CONVERGED, DIVERGED or GOES_ON; the correction is to be applied unless the iteration has diverged.

    A small correction alone proves nothing: factors of a Jacobian that is too large make every correction small. So
    the equations must be met, or each correction must at least have brought them nearer.

    Parameters
    ----------
    newton : NEWTON
    count : int
        Number of the iteration, from 1.
    size : float
        Of the correction, in tolerances.
    miss : float
        By how much the worst equation was missed before it, unfiltered and in the tolerance of its own state.
    limits : (float, int)
        The largest error of the iteration in tolerances, and the most iterations.
    hurry : bool
        Whether the iteration counts as diverged where it is foreseen that these will not do.

    Returns
    -------
    int
        CONVERGED, DIVERGED or GOES_ON.
    """
    threshold, most = limits
    if not size < 1e300:
        return DIVERGED
    before, newton.before = newton.before, max(size, 1e-300)
    met = miss <= _MET or (count > 1 and miss <= _NEARER * newton.first_miss)
    if count == 1:
        newton.first_miss = min(newton.first_miss, miss)
        # The error that is left after the first correction is not known yet; it grows with the correction
        # where the equations are nonlinear.
        newton.first = size
        rest = _DOUBT * newton.contraction * max(1.0, size / newton.correction)
    else:
        theta = size / before
        rest = theta / (1.0 - theta) if theta < 1.0 else np.inf
        # A large first correction of well contracting components hides the others, whose contraction the last step saw.
        if count == 2 and hurry:
            rest = max(rest, _LIKE_BEFORE * newton.contraction)
        # at rounding level the corrections no longer contract; there is nothing left to gain
        at_rest = theta >= 1.0 and size <= newton.at_rest and met
        hopeless = theta >= 1.0 or (hurry and rest * size * theta ** (most - count) > threshold)
        if hopeless and not at_rest:
            newton.shrink = max(_MIN_SHRINK, min(_MAX_SHRINK, _AIM / theta))
            return DIVERGED
        if at_rest:
            newton.theta = 0.0
            return CONVERGED
        # The ratio of two corrections of the size of rounding says nothing about the contraction.
        newton.theta = theta if before > _SAYS_SOMETHING * threshold else 0.0
    if met and rest * size <= threshold:
        newton.contraction, newton.correction = max(rest, _EPSILON), max(newton.first, 1e-300)
        return CONVERGED
    return GOES_ON if count < most else DIVERGED


@inner
def factor_for(work, control, context, shift):
    """Factor shift*M - J; return DONE, or FAILED where that is singular.

    Parameters
    ----------
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the factors.
    shift : float
        The shift in shift*M - J, one over a time.

    Returns
    -------
    int
    """
    control.factorisations += 1
    return factor(work.factor, context, shift, 0.0)


@inner
def solve_stage(system, work, control, context, time, shift, threshold, share=1.0):
    """Iterate on ``z`` from what it holds; ``system.trial`` is the stage and ``residual`` the last correction.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    context : int
        Address of the context of the factors.
    time : float
        Of the stage.
    shift : float
        The shift in shift*M - J, one over a time.
    threshold : float
        The largest error of the iteration, in tolerances.
    share : float, optional
        The share of each correction that is taken, where the factors are of another shift.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    at_rest = missed_at_rest(system, work, shift)
    part = (system.rates, system.context)
    return solve_part(system, work, control, part, at_rest, (context, time, shift), threshold, share)


@inner
def solve_part(system, work, control, part, at_rest, stage, threshold, share=1.0):
    """Iterate as `solve_stage` does, for a part of the rates.

    Parameters
    ----------
    system : System
    work : work space of an implicit family
    control : CONTROL
    part : (int, int)
        The addresses of the function and of its context.
    at_rest : float
        What the equations miss where nothing moves, in tolerances; infinite where that is not known.
    stage : (int, float, float)
        The address of the context of the factors, the time of the stage, and the shift.
    threshold : float
        The largest error of the iteration, in tolerances.
    share : float, optional
        The share of each correction that is taken.

    Returns
    -------
    (int, int)
        CONVERGED, DIVERGED or STOPPED, and the number of iterations.
    """
    n, adaptive, outcome, count = system.n, control.adaptive == 1, GOES_ON, 0
    (context, time, shift), limits = stage, (threshold, MAX_ITERATIONS)
    newton = begin_iterations(work, at_rest, rounding_of(system, control, threshold))
    for k in range(n):
        system.trial[k] = work.base[k] + work.z[k]
    while outcome == GOES_ON:
        count += 1
        code = ask_part(part, control, FOR_STAGES, time, system.trial, work.residual)
        if code != 1:
            return (STOPPED if code < 1 else DIVERGED), count
        subtract_mass(system, shift, work.z, work.residual)
        miss = worst_missed(system, work, work.residual, shift)
        solved = solve(work.solve, context, work.residual, work.residual, TOLERANCE)
        control.solves += 1
        control.iterations += 1
        total, rounding = 0.0, True
        for k in range(n):
            work.residual[k] *= share
            ratio = work.residual[k] / work.scale[k]
            total += ratio * ratio
            moved = system.trial[k] - system.state[k]
            rounding = rounding and is_rounding(system, k, control.length, work.residual[k], moved)
        outcome = judge(newton, count, np.sqrt(total / n), 0.0 if rounding else miss, limits, adaptive)
        if solved != DONE:
            outcome = DIVERGED
        if outcome != DIVERGED:
            for k in range(n):
                work.z[k] += work.residual[k]
                system.trial[k] = work.base[k] + work.z[k]
    return outcome, count
