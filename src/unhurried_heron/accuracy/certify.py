"""Certified digits: tolerances of two unrelated families are tightened until they agree with margin, or it is refused.

What is certain is what neither family, nor the tolerance, nor a bound on the steps, nor the last bit of the problem's
own numbers changes.
"""

from __future__ import annotations

import math
import time as clock
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.accuracy.certificate import MIN_STEPS, Certificate
from unhurried_heron.accuracy.resting_states import unseen_states
from unhurried_heron.arrays import Array
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.option_values import in_time
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.errors import HeronError, OptionError, excerpt
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.input.rules import POSITIVE, several, whole
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.switch_types import RootSwitch
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.problem.pointwise import surroundings
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run
from unhurried_heron.study.agreement import Agreement, agreement_of, grown
from unhurried_heron.study.attempts import INTERRUPTED, Attempt, OnInterrupt, attempt_run, raise_common_error
from unhurried_heron.text import certificate_document as words

if TYPE_CHECKING:
    pass

# One method of each family, fully implicit, explicit, linearly implicit and multistep: two that can do the problem
# are compared.
_FAMILIES: Final = ("radau-iia-variable", "verner-98", "steinebach-54", "adams-variable")
# The same for problems with constraints among their equations, and with a mass matrix.
_WITH_CONSTRAINTS: Final = ("radau-iia-variable", "verner-98", "esdirk-54-7", "backward-differentiation-variable")
_WITH_MASS: Final = ("radau-iia-variable", "esdirk-54-7", "backward-differentiation-variable")
# Steps that an explicit run may take in any case.
_MANY: Final = 300_000
# Steps that an explicit run may take, as a multiple of those of the implicit run.
_MANY_TIMES: Final = 100
# The factor from one relative tolerance to the next.
_TIGHTER: Final = 1e-2
# The tightest relative tolerance; rounding rules below it.
_TIGHTEST: Final = 5e-14
# The absolute tolerance of a state as a share of the relative one, for its final value.
_OF_END: Final = 1e-3
# The same for its largest value; the larger of the two counts.
_OF_SIZE: Final = 1e-7
# The first relative change of the start by which growth is measured.
_NUDGE: Final = 1e-9
# The smallest such change, a thousand roundings.
_MIN_NUDGE: Final = 1e-12
# Growth is measured anew with the smallest change where the first one grew beyond this share of the size.
_STILL_SMALL: Final = 1e-3
# Digits that can be asked for; doubles have not quite sixteen, and steps use up three.
_MAX_DIGITS: Final = 13
# The default budget in seconds.
_SECONDS: Final = 60.0
# The share of the remaining time that a second family may take where a third one is left.
_SECOND_SHARE: Final = 0.25
# The number of times at which the first run shows the sizes of the states.
_SEEN: Final = 33
# A family is slow if its first run takes this share of the time.
_SLOW: Final = 0.05
# The relative tolerance of the first run.
_PILOT: Final = 1e-6
# The relative difference from a run with short steps from which the first has stepped over a feature.
_STEPPED_OVER: Final = 1e-3


def certify(
    problem: Problem,
    digits: int = 6,
    *,
    at: Sequence[float | str] | None = None,
    seconds: float = _SECONDS,
    on_interrupt: str = "raise",
) -> Certificate:
    """Find how many digits of the answer are certain.

    Parameters
    ----------
    problem : Problem
        Its events act; one that stops ends the run, and its time is certified, too.
    digits : int
        Significant digits wanted of every state, from 1 to 13: an error of at most half a unit of the last one.
    at : sequence of float or str, optional
        Times besides the end.
    seconds : float
        For everything.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return how far it got.

    Returns
    -------
    Certificate
        Also where it is refused: it tells how far it got, and why.

    Raises
    ------
    OptionError
        Digits or times are unusable.
    Exception
        What the problem's own function raised, in every run.
    """
    refuse_no_problem(problem, "certify")
    digits = whole(1, _MAX_DIGITS)(digits, "digits", "certify")
    seconds, ctrl_c = POSITIVE(seconds, "seconds"), OnInterrupt(on_interrupt)
    start, end = problem.interval
    times = (
        []
        if at is None
        else [
            _time(problem, each) for each in several("times")(at, "times", "certify, at", message="these are no times")
        ]
    )
    if not all(min(start, end) <= time <= max(start, end) for time in times):
        raise OptionError("a time lies outside the interval", name="at", location="certify",
                          expected=f"times from {min(start, end):.6g} to {max(start, end):.6g}",
                          given=excerpt(at))  # fmt: skip
    return _Search(problem, digits, np.array(sorted(set(times) - {end}, reverse=end < start)), seconds, ctrl_c).result()


def _time(problem: Problem, given: Any) -> float:
    try:
        return float(in_time(problem, given, "certify, at"))
    except (TypeError, ValueError, OverflowError) as error:
        if isinstance(error, HeronError):
            raise
        raise OptionError("this is no time", name="at", location="certify",
                          expected="a number, or a time with its unit",
                          given=excerpt(given)) from None  # fmt: skip


def _root_at_start(problem: Problem) -> str:
    """Return the argument of a root that is zero at the start, in words; empty where there is none."""
    around = surroundings(problem, problem.interval[0], problem.start)
    roots = [each for each in problem.model.rates.switches if isinstance(each, RootSwitch)]
    return next((to_text(each.argument) for each in roots if float(evaluate(each.argument, around)) == 0.0), "")


class _Search:
    """Runs of two families at falling tolerances."""

    def __init__(self, problem: Problem, digits: int, times: Array, seconds: float, ctrl_c: OnInterrupt) -> None:
        self.problem, self.digits, self.times, self.ctrl_c = problem, digits, times, ctrl_c
        self.until = clock.monotonic() + seconds
        written = problem.model.made_by(Constraints) is not None
        self.able = list(_FAMILIES if problem.model.mass is None else _WITH_CONSTRAINTS if written else _WITH_MASS)
        self.reason, self.nudge = "", _NUDGE
        self.size = self.low = np.ones(problem.model.layout.size)
        self.longest: float | None = None
        self.runs: list[Attempt] = []

    def result(self) -> Certificate:
        """Tighten until the digits are certain, or it can go no further."""
        root = _root_at_start(self.problem)
        if root:
            return self._refused(words.root_at_start(root))
        best: Agreement | None = None
        tolerance, before, reached, growth = 10.0 ** -(self.digits + 2), None, np.nan, np.nan
        tolerance = max(tolerance, _TIGHTEST)
        if not self._begins():
            raise_common_error(self.runs)
            return self._refused(self.reason if self.ctrl_c.hit else words.no_two_families(self.reason))
        while True:
            runs = self._both(tolerance)
            if runs is None:
                break
            if before is None:
                # From the first pair on, a run at another tolerance tells how fast the error falls.
                before = self._both(tolerance / _TIGHTER)
                if before is None:
                    break
            moved = self._moved(tolerance)
            if moved is not None and grown(self._values(runs[0]), moved, self.size, 1.0) > _STILL_SMALL:
                # A perturbation that is no longer small says nothing about smaller ones.
                self.nudge = _MIN_NUDGE
                moved = self._moved(tolerance)
            if moved is None:
                break
            answers = [self._values(run) for run in (*runs, *before)]
            if self._differ((*runs, *before)):
                self.reason = words.DISAGREE
                break
            growth = grown(answers[0], moved, self.size, self.nudge)
            best = agreement_of(answers, moved, self.size, self.nudge, self._in_time(runs[0], answers[0]))
            reached = tolerance
            if best.enough(self.digits):
                still = unseen_states(self.problem, [*runs, *before])
                if still:
                    best = best.without([self.problem.model.layout.slot(name) for name in still])
                    self.reason = words.rates_not_seen(still)
                break
            # The growth of a perturbation is known where the tolerance hides no more than the
            # perturbation.
            if tolerance <= _TIGHTEST or (tolerance <= 10.0 * self.nudge and best.by_growth(self.digits)):
                self.reason = best.why(growth, self._span(), self.problem.units.get("t", ""))
                break
            before, tolerance = runs, max(tolerance * _TIGHTER, _TIGHTEST)
        if best is None:
            return self._refused(self.reason or words.TOO_SHORT_FOR_ONE)
        done = best.enough(self.digits)
        if not done and not self.reason:
            self.reason = words.ended_at(reached)
        rows, why = best.rows(self._when(runs or before), self.problem.states), "" if done else self.reason
        return Certificate(self.problem, self.digits, done, rows, self.pair, reached, growth, why)

    def _begins(self) -> bool:
        """Run once, to see which families are able, how large states are, and whether there is anything narrow."""
        longest, slow = self._span() / MIN_STEPS, 0
        while len(self.able) > 1 and clock.monotonic() < self.until and not self.ctrl_c.hit:
            # A family that does not finish must leave time for the others.
            share = (self.until - clock.monotonic()) / len(self.able)
            pilot = self._run(self.able[0], _PILOT, None, share, seen=np.linspace(*self.problem.interval, _SEEN))
            if pilot is None:
                del self.able[0]
                continue
            if pilot.tally.seconds > _SLOW * len(self.able) * share and slow < len(self.able):
                # Other families come first. Seconds of compilation do not count: they are spent once
                # on a machine.
                self.able.append(self.able.pop(0))
                slow += 1
                continue
            self.reason, values = "", self._values(pilot)
            self.size = np.maximum(pilot.data.trajectory.largest(), np.abs(values).max(axis=0))
            self.low = np.abs(values).min(axis=0)
            closer = self._run(self.able[0], _PILOT, None, largest_step=longest)
            narrow = closer is None or grown(values, [self._values(closer)], self.size, 1.0) > _STEPPED_OVER
            self.longest = longest if narrow else None
            return True
        return False

    def _in_time(self, run: Run, values: Array) -> Array:
        """Return how fast states move where they are asked for, times how far that is from time zero."""
        times = np.array(self._when((run,)))
        rates = self.problem.rates_at(times, values)
        far: Array = np.abs(times[:, None] * np.where(np.isfinite(rates), rates, 0.0))
        return far

    def _refused(self, reason: str) -> Certificate:
        return Certificate(self.problem, self.digits, False, (), self.pair, np.nan, np.nan, reason)

    @property
    def _forward(self) -> bool:
        return self.problem.interval[1] > self.problem.interval[0]

    def _span(self) -> float:
        return abs(self.problem.interval[1] - self.problem.interval[0])

    def _when(self, runs: Any) -> list[float]:
        return [*self.times.tolist(), runs[0].ending.time]

    @property
    def pair(self) -> tuple[str, ...]:
        """The methods of the two families."""
        return tuple(self.able[:2])

    def _both(self, tolerance: float) -> tuple[Run, Run] | None:
        """Run both families; the second takes many steps, so that nothing narrow is stepped over."""
        first = self._run(self.able[0], tolerance, None)
        if first is None:
            return None
        most = max(_MANY, _MANY_TIMES * first.tally.accepted)
        # The second run is tighter than the first, whose error it measures.
        tighter, longest = max(tolerance * _TIGHTER, _TIGHTEST), self._span() / MIN_STEPS
        while len(self.able) > 1:
            last = len(self.able) == 2
            share = math.inf if last else _SECOND_SHARE * (self.until - clock.monotonic())
            second = self._run(self.able[1], tighter, None if last else most, share, largest_step=longest)
            if second is not None:
                return first, second
            if last or clock.monotonic() > self.until:
                return None
            del self.able[1]
        return None

    def _moved(self, tolerance: float) -> list[Array] | None:
        """Run twice from starts, and with parameters, that are moved by a little, and return the answers."""
        found = [self._once_moved(tolerance, seed) for seed in (7, 8)]
        runs = [run for run in found if run is not None]
        if len(runs) < len(found):
            return None
        if self._differ(runs):
            self.reason = words.DISAGREE_WHEN_MOVED
            return None
        return [self._values(run) for run in runs]

    def _once_moved(self, tolerance: float, seed: int) -> Run | None:
        problem = self.problem
        signs = np.random.default_rng(seed).choice([-1.0, 1.0], problem.model.layout.size + len(problem.parameters))
        start, signed = problem.start, self.nudge * signs
        moved = start + signed[: start.size] * np.abs(start)
        numbers = {}
        for sign, (name, value) in zip(signed[start.size :], problem.parameters.items(), strict=True):
            plain = name not in problem.model.sizes and problem.assembled.definitions[name].formula is None
            if plain and value:
                numbers[name] = value * (1.0 + sign)
        with quietly():
            # The warning on closed forms that begin elsewhere is meant for users.
            other = beginning_near(problem, moved, numbers)
        return self._run(self.able[0], tolerance, None, problem=other)

    def _run(self, method: str, tolerance: float, steps: int | None, seconds: float = math.inf, *,
             problem: Problem | None = None, seen: Any = (), **options: Any) -> Run | None:  # fmt: skip
        """Run a method at a tolerance in the time that is left; None where it did not end, which `reason` tells.

        Parameters
        ----------
        method : str
        tolerance : float
        steps : int or None
            The most steps; None for no limit.
        seconds : float, optional
            The most seconds.
        problem : Problem or None, optional
        seen : array_like, optional
            Further times at which states are recorded.
        **options : object
            As for `integrate`.

        Returns
        -------
        Run or None
        """
        left = min(self.until - clock.monotonic(), seconds)
        if left <= 0.0 or self.ctrl_c.hit:
            self.reason = self.reason or (words.INTERRUPTED if self.ctrl_c.hit else words.TOO_SHORT)
            return None
        states = self.problem.states
        allowed = tolerance * np.maximum(_OF_END * self.low, _OF_SIZE * self.size)
        atol = dict(zip(states, np.maximum(allowed, 1e-300).tolist(), strict=True))
        budget = Budget(seconds=left, steps=steps)
        options = {"largest_step": self.longest, **options}
        record: Any = np.union1d(self.times, seen)[:: 1 if self._forward else -1].tolist() or 2
        found = INTERRUPTED
        with self.ctrl_c:
            found = attempt_run(
                problem or self.problem, method, rtol=tolerance, atol=atol, record=record, budget=budget, ledger=False,
                **options,
            )  # fmt: skip
        self.runs.append(found)
        if self.ctrl_c.hit:
            self.reason = words.INTERRUPTED
            return None
        if not found.done:
            self.reason = words.did_not_end(method, tolerance, found.why)
            return None
        return found.run

    def _values(self, run: Run) -> Array:
        """Return the states at the wanted times and at the end, shape (n_times + 1, n_states)."""
        wanted = run.states[np.isin(run.times, self.times)]
        return np.vstack([wanted, run.data.trajectory.end_state])

    def _differ(self, runs: Sequence[Run]) -> bool:
        """Whether runs ended otherwise, or other things happened in them."""
        outcomes = {(run.ending.reason, len(run.data.occurrences), self._values(run).shape) for run in runs}
        ends = [run.ending.time for run in runs]
        return len(outcomes) > 1 or float(np.ptp(ends)) > 1e-3 * self._span()
