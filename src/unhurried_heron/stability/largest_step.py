"""The largest fixed step at which a method stays bounded: foreseen from eigenvalues, then found by marching."""

from __future__ import annotations

import math
import time as clock
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import check_fits, refuse_no_problem
from unhurried_heron.errors import MethodError, OptionError, unforeseen
from unhurried_heron.input.rules import POSITIVE
from unhurried_heron.methods.catalogue import DEFAULT, find_method
from unhurried_heron.methods.method import Method, capabilities, in_use
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.stability.eigenvalues import eigenvalues_along, rows_worth
from unhurried_heron.stability.regions import Stability, stability
from unhurried_heron.stability.step_limit import CLOSE, LargestStep, Limits
from unhurried_heron.study.attempts import attempt_run
from unhurried_heron.study.reference import size_of

if TYPE_CHECKING:
    pass

# Rows at which eigenvalues are looked at,
_ROWS: Final = 2000
# and that are drawn.
_SHOWN: Final = 500
# A run is unbounded if it exceeds the size of the solution by this factor.
_BOUNDED: Final = 10.0
# Decays slower than this share of the fastest do not die out within the interval in any case.
_MIN_DECAY: Final = 1e-3
# Directions of the left half-plane in which the region is measured.
_DIRECTIONS: Final = 61
# Eigenvalues that are tried.
_CANDIDATES: Final = 12
# The least distance of the border.
_TINY: Final = 1e-9
# Marches of these multiples of the steps must stay bounded, too.
_MORE: Final = (2.0, 1.6, 1.4, 1.25, 1.18, 1.12, 1.08, 1.05, 1.03, 1.02, 1.01)
# Marches of fewer steps keep them all.
_ALL_KEPT: Final = 20_000
# The factor of the count while a bracket is looked for,
_WIDER: Final = 1.15
# at most this often.
_MAX_WIDENINGS: Final = 40
# The default budget in seconds.
_SECONDS: Final = 20.0
# The change of the start, as a share of each state.
_NUDGE: Final = 1e-8
# A march is not stable that makes it grow by this factor.
_GROWS: Final = 1e3
# The relative tolerance of the runs by which the problem's own growth is known.
_TIGHT: Final = 1e-10
# Seconds that a march is given at least.
_MIN_LEFT: Final = 0.01
# The relative tolerance of the run along which eigenvalues are found.
_REFERENCE_RTOL: Final = 1e-7


def largest_step(problem: Problem, method: str | Method, *, seconds: float = _SECONDS) -> LargestStep:
    """Find the largest fixed step at which every decaying mode of a problem stays bounded.

    The eigenvalues of the Jacobian along a reference solution and the method's region foresee it; marches with fixed
    steps then close in on it from both sides. It is a limit of stability, not of accuracy.

    Parameters
    ----------
    problem : Problem
    method : str or Method
    seconds : float
        For all marches together; where they are too few, what was foreseen is given as unconfirmed.

    Returns
    -------
    LargestStep

    Raises
    ------
    MethodError
        The method is unknown, takes no fixed steps, does not tell its stability function, or is additive.
    OptionError
        The reference solution did not reach the end.
    """
    refuse_no_problem(problem, "largest_step")
    seconds = POSITIVE(seconds, "seconds")
    check_fits(find_method(method), 1.0, None, None)
    chosen = in_use(find_method(method), fixed=True, local_extrapolation=None)
    limit = capabilities(chosen).explicit_limit
    if math.isfinite(limit):
        raise MethodError(f"the largest step of {chosen.name} depends on both parts of the rates", name=chosen.name,
                          location="largest_step", expected="a method that does not part them",
                          given=f"a limit of {limit:.3g} for h lambda of the explicit part")  # fmt: skip
    region, span = stability(chosen), abs(problem.interval[1] - problem.interval[0])
    with quietly():
        reference = integrate(problem, DEFAULT, rtol=_REFERENCE_RTOL, budget=Budget(seconds=seconds), progress=False)
    if not reference.ending.as_requested or reference.times.size < 2:
        raise OptionError("there is no reference solution to look along", name="problem", location="largest_step",
                          given=str(reference.ending), expected="a problem that is integrated to its end")  # fmt: skip
    times, modes = _modes(reference)
    looked = (region, times[:: 1 + times.size // _SHOWN], modes[:: 1 + times.size // _SHOWN])
    foreseen, mode, when = _foreseen(region, times, modes, _sign(problem))
    nothing = math.nan
    if math.isinf(foreseen):
        return LargestStep(chosen.name, math.inf, 0, math.inf, complex(nothing), nothing, nothing, False, None, *looked)
    reached = abs(reference.ending.time - problem.interval[0]) or span
    search = _Search(problem, chosen, size_of(reference.states), clock.monotonic() + seconds, reached, foreseen)
    good, bad = search.between(min(foreseen, reached))
    confirmed = good is not None and bad is not None
    count = good if good is not None else math.ceil(reached / foreseen) if bad is None or search.late else 0
    step = reached / good if good is not None else foreseen if count else 0.0
    fails = nothing if bad is None else reached / bad
    limits = Limits(foreseen, mode, when, good, bad, reached, search.chaotic)
    return LargestStep(chosen.name, step, count, foreseen, mode, when, fails, confirmed, limits, *looked)


def _sign(problem: Problem) -> float:
    return 1.0 if problem.interval[1] > problem.interval[0] else -1.0


def _modes(reference: Run) -> tuple[Array, Any]:
    """Return times along a reference solution, and the eigenvalues there."""
    kept = reference.data.trajectory
    if not isinstance(kept, StepTrajectory):
        raise unforeseen("a run whose steps were not kept")
    rows = rows_worth(len(reference.problem.states), _ROWS)
    # Times at its steps, and evenly spaced ones, because a stiff method steps over long intervals.
    even = np.linspace(kept.starts[0], kept.end_time, rows)
    times = np.unique(np.concatenate([even, kept.starts[:: 1 + kept.starts.size // rows]]))
    return times, eigenvalues_along(reference, times, reference.at(times))


def _foreseen(region: Stability, times: Array, modes: Any, sign: float) -> tuple[float, complex, float]:
    """Return the largest stable step, and the eigenvalue and the time that limit it.

    Parameters
    ----------
    region : Stability
    times : ndarray, shape (n_times,)
    modes : ndarray of complex, shape (n_times, n_modes)
        Eigenvalues.
    sign : float
        Direction of the run.

    Returns
    -------
    tuple[float, complex, float]
    """
    values = sign * modes
    scale = float(np.nanmax(np.abs(values), initial=0.0))
    decaying = values.real < -_MIN_DECAY * np.maximum(np.abs(values), _MIN_DECAY * scale)
    if not decaying.any():
        return math.inf, complex(math.nan), math.nan
    where, chosen = np.argwhere(decaying), values[decaying]
    # All eigenvalues are bounded roughly, from the limits in some directions; then exactly those that come first.
    directions = np.linspace(0.5 * math.pi, math.pi, _DIRECTIONS)
    roughly = region.limit(np.exp(1j * directions))
    turned = np.interp(np.angle(chosen.real + 1j * np.abs(chosen.imag)), directions, 1.0 / np.maximum(roughly, _TINY))
    first = np.argsort(-turned * np.abs(chosen))[:_CANDIDATES]
    limits = region.limit(chosen[first]) / np.abs(chosen[first])
    best = first[int(np.argmin(limits))]
    return float(limits.min()), sign * complex(chosen[best]), float(times[where[best][0]])


class _Search:
    """Marches with fixed steps, and whether they stay bounded; steps are counted over the interval."""

    def __init__(
        self, problem: Problem, method: Method, size: Array, until: float, span: float, foreseen: float
    ) -> None:
        self.problem, self.method, self.size, self.until, self.span = problem, method, size, until, span
        self.foreseen, self.late, self.chaotic = foreseen, False, False
        self._own_growth: float | None = None

    def stays(self, count: int) -> bool | None:
        """Whether a march stays bounded; None where time ran out."""
        left = self.until - clock.monotonic()
        if left <= 0.0:
            self.late = True
            return None
        # every step of a short run, many times of a long one
        record: Any = "steps" if count < _ALL_KEPT else _ALL_KEPT
        run = attempt_run(
            self.problem, self.method, step=self.span / count, record=record, budget=Budget(seconds=left)
        ).run
        if run is None:
            # functions may raise where a march leaves all bounds
            return False
        if run.ending.reason is EndingReason.BUDGET:
            self.late = True
            return None
        states: Any = np.vstack([run.states, run.data.trajectory.end_state])
        bounded = bool(run.ending.as_requested and (np.abs(states) <= _BOUNDED * self.size).all())
        return bounded and not (self.span / count > self.foreseen and self._is_chaotic(run, record))

    def _is_chaotic(self, run: Run, record: Any) -> bool:
        """Whether small changes grow in a march that stays bounded, and not in the solution."""
        step = run.options["step"]
        grown = self._growth(run, self.method, step=step, record=record)
        if grown <= _GROWS:
            return False
        if self._own_growth is None:
            options: dict[str, Any] = {"rtol": _TIGHT, "record": _ALL_KEPT // 100}
            kept = attempt_run(self.problem, DEFAULT, **options, budget=Budget(seconds=self._left())).run
            self._own_growth = math.inf if kept is None else self._growth(kept, DEFAULT, **options)
        self.chaotic = grown > _GROWS * max(self._own_growth, 1.0)
        return self.chaotic

    def _growth(self, run: Run, method: str | Method, **options: Any) -> float:
        """Return by what factor a small change of the start grows, relative to each state's size.

        Parameters
        ----------
        run : Run
        method : str or Method
        **options : object
            As for `integrate`.

        Returns
        -------
        float
        """
        signs = np.random.default_rng(7).choice([-1.0, 1.0], self.size.size)
        moved = self.problem.start + _NUDGE * signs * self.size
        with quietly():
            # The warning on closed forms that begin elsewhere is meant for users.
            problem = beginning_near(self.problem, moved, {})
        other = attempt_run(problem, method, **options, budget=Budget(seconds=self._left())).run
        if other is None or other.states.shape != run.states.shape:
            return 0.0
        return float(np.nanmax(np.abs(other.states - run.states) / self.size)) / _NUDGE

    def _left(self) -> float:
        return max(self.until - clock.monotonic(), _MIN_LEFT)

    def between(self, foreseen: float) -> tuple[int | None, int | None]:
        """Return how many steps stay bounded and how many do not, close to each other."""
        good: int | None = None
        bad: int | None = None
        count = math.ceil(self.span / foreseen * (1.0 - 1e-12))
        for _ in range(_MAX_WIDENINGS):
            stays = self.stays(count)
            if stays is None:
                return good, bad
            good, bad = (count, bad) if stays else (good, count)
            if (good is not None and bad is not None) or (stays and count == 1):
                break
            count = math.ceil(count / _WIDER) - (count < 8) if stays else math.ceil(count * _WIDER)
        more = list(_MORE)
        while good is not None and bad is not None:
            # Steps far beyond the limit may happen to stay bounded, so no shorter one may fail.
            apart = good - bad > max(1.0, CLOSE * bad)
            query = round(math.sqrt(good * bad)) if apart else math.ceil(good * more.pop()) if more else None
            stays = None if query is None else self.stays(query)
            if query is None or stays is None:
                break
            if query > good:
                good, bad, more = (good, bad, more) if stays else (self._shorter(query), query, list(_MORE))
            else:
                good, bad = (query, bad) if stays else (good, query)
        return good, bad

    def _shorter(self, count: int) -> int | None:
        """Return a larger count than one that fails, at which a march stays bounded."""
        for _ in range(_MAX_WIDENINGS):
            count = math.ceil(count * _WIDER)
            if self.stays(count):
                return count
        return None
