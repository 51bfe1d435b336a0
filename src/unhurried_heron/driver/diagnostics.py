"""What is seen of a run when it ends: steps limited by stability, states below their tolerance."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.driver.march import March
from unhurried_heron.kernels.memory.control import Purpose
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.trajectory import RecordedTrajectory, Trajectory
from unhurried_heron.text.ending_facts import QuietStates, StabilityLimit

# Runs of fewer steps than this are quick in any case.
_MANY_STEPS: Final = 1000
# Iterations of the power method at most.
_MAX_TURNS: Final = 20
# States up to which the eigenvalues of the full Jacobian are found.
_FEW: Final = 20
# Relative change of the state for a difference, near the square root of rounding.
_NUDGE: Final = 1e-7
# A step was chosen for its stability that is at least this share of the stable one,
_MIN: Final = 0.5
# and at most this multiple of it.
_MAX: Final = 2.0
# States that one sentence names.
_MAX_NAMES: Final = 4
# Attempts after which a run is first examined; an examination costs as much as a hundredth of them.
_FIRST: Final = 100_000
# Further examinations follow each after this factor of attempts,
_SPREAD: Final = 1.25
# and only those within the last attempts beyond this share are kept.
_PART: Final = 0.3


class Look(NamedTuple):
    """Where a march was after a number of attempts, what it held there, and how long its last steps were."""

    attempts: int
    time: float
    state: Array
    context: Array
    step: float


def look_at(march: March, attempts: int) -> Look:
    """Return where a march is."""
    # The last step may have been cut to end at the end of the interval.
    usual_step = float(np.median(np.abs(march.output.recent)))
    held = march.native.context.array.copy()
    return Look(attempts, float(march.control["time"][0]), march.system.state.copy(), held, usual_step)


def next_look(attempts: int) -> int:
    """Return after how many attempts a march is looked at again: some more each time."""
    return max(_FIRST, int(_SPREAD * attempts))


def worth_keeping(looks: Sequence[Look], attempts: int) -> list[Look]:
    """Return those of some looks that lie not too far back."""
    return [each for each in looks if each.attempts > _PART * attempts]


def stability_limit(march: March, method: Method, looks: Sequence[Look]) -> StabilityLimit | None:
    """Return when a method's steps were last as long as its stability allows; None where they were not.

    A limit that bounded none of the last steps, nor of most before, is not told.

    Parameters
    ----------
    march : March
    method : Method
    looks : sequence of Look
        At the run before.

    Returns
    -------
    StabilityLimit or None
    """
    control, part = march.control, march.native.explicit
    limit = capabilities(method).explicit_limit if part else method.real_stability_limit
    accepted = int(control["accepted"][0])
    attempts = accepted + int(control["refused"][0])
    if accepted < _MANY_STEPS or not np.isfinite(limit):
        return None
    sign, context = float(np.sign(march.control["step"][0])), march.native.context.array
    here = look_at(march, attempts)
    try:
        for look in (here, *worth_keeping(looks[::-1], attempts)):
            context[:] = look.context
            with np.errstate(all="ignore"):
                decay = _fastest_decay(march, look.time, look.state, sign)
            if _MIN * limit <= decay * look.step <= _MAX * limit:
                return StabilityLimit(accepted, look.time, float(control["time"][0]), part is not None)
    finally:
        context[:] = here.context
    return None


def _fastest_decay(march: March, time: float, state: Array, sign: float) -> float:
    """Return the fastest decay at a state, from differences of the rates, whose calls are counted.

    From all eigenvalues of a few states, by power iteration for many.

    Parameters
    ----------
    march : March
    time : float
        In the unit of the problem's time.
    state : ndarray, shape (n_states,)
    sign : float
        Direction of the run.

    Returns
    -------
    float
    """
    size = np.maximum(np.abs(state), march.system.absolute + march.system.relative * np.abs(state).max(initial=0.0))
    if state.size <= _FEW:
        rows = np.vstack([state, state + np.diag(_NUDGE * size)])
        found = _rates(march, time, rows)
        if found is None:
            return 0.0
        jacobian = (found[1:] - found[0]) / (rows[1:] - state).diagonal()[:, None]
        return float((-sign * np.linalg.eigvals(jacobian).real).max()) if np.isfinite(jacobian).all() else 0.0
    base = _rates(march, time, state[None, :])
    direction = np.random.default_rng(0).standard_normal(state.size)
    decay = 0.0
    for _ in range(_MAX_TURNS):
        direction /= np.sqrt(np.mean(direction**2))
        moved = state + _NUDGE * direction * size
        found = _rates(march, time, moved[None, :])
        if base is None or found is None:
            return 0.0
        shift, answer = (moved - state) / size, (found[0] - base[0]) / size
        if not (np.isfinite(answer).all() and answer.any()):
            return 0.0
        decay = -sign * float(answer @ shift) / float(shift @ shift)
        direction = answer
    return decay


def _rates(march: March, time: float, states: Array) -> Array | None:
    """Return the rates at several states, shape (rows, n_states), or None where not all could be had.

    Of an additive method those of the explicit part, which alone limits its steps.

    Parameters
    ----------
    march : March
    time : float
        In the unit of the problem's time.
    states : ndarray, shape (rows, n_states)

    Returns
    -------
    ndarray or None

    Raises
    ------
    BaseException
        What the user's function raised that is no Exception, as Ctrl-C.
    """
    march.control["purpose"] = Purpose.ESTIMATES
    found = evaluate_rows(march.native.explicit or march.native.rates, np.full(len(states), time), states)
    for name in ("rate_evaluations", "for_estimates"):
        march.control[name] += min(len(found) + 1, len(states))
    if len(found) == len(states):
        return found
    stopped = march.native.rates.pending_error()
    if stopped is not None and not isinstance(stopped[0], Exception):
        # Ctrl-C and the like must surface wherever they come.
        raise stopped[0]
    return None


def quiet_states(problem: Problem, trajectory: Trajectory, absolute: Array) -> QuietStates | None:
    """Return the states that never came above ten times their absolute tolerance; None without any.

    Parameters
    ----------
    problem : Problem
    trajectory : Trajectory
    absolute : ndarray, shape (n_states,)
        The absolute tolerances.

    Returns
    -------
    QuietStates or None
    """
    if (np.abs(trajectory.end_state) > 10.0 * absolute).all():
        # most runs end far above their tolerances
        return None
    largest = trajectory.largest()
    low = (largest > 0.0) & (0.1 * largest < absolute)
    if not low.any():
        return None
    quiet = np.flatnonzero(low)
    worst = int(quiet[0])
    return QuietStates(
        names=tuple(problem.model.layout.name_of(int(k)) for k in quiet[:_MAX_NAMES]),
        more=quiet.size > _MAX_NAMES,
        several=quiet.size > 1,
        largest=float(largest[worst]),
        absolute=float(absolute[worst]),
        recorded=isinstance(trajectory, RecordedTrajectory),
    )
