"""Sentences on the states of a run: which is hardest, and whether the tolerances suit their sizes."""

from __future__ import annotations

from functools import cached_property
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.diagnosis.candidates import method_of, run_again, work_of
from unhurried_heron.driver.tolerances import SMALLEST_RTOL
from unhurried_heron.errors import ConstraintError, unforeseen
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.text.document import Statement
from unhurried_heron.text.numbers import at_time, in_tolerances, share_of

# The factor by which a fixed step is shortened for the run that the answer is compared with.
_HALF: Final = 0.5
# A run is compared at a tolerance a hundred times tighter, and ten times where that would take more rate evaluations
# than this. It is a count, because what is said must not depend on the clock.
_LONG: Final = 200_000
# The seconds that the tighter run may take, as a multiple of those of the run.
_LONGER: Final = 3.0
# How tight a relative tolerance is made at most, above the smallest that a run takes; an absolute one has no such end.
_LEAST_RTOL: Final = 2.0 * SMALLEST_RTOL
# The number of tolerances from which an error is explained.
_MUCH: Final = 10.0
# Growth explains an error if a perturbation of one tolerance grows to at least this share of it.
_OWN: Final = 0.2
_TIMES: Final = {10: "ten", 100: "a hundred"}
# The share of the run from which the absolute tolerance decides about a state.
_RULES: Final = 0.9
# The share of a state's size from which an absolute tolerance is coarse.
_COARSE: Final = 1e-2
# Rows that are compared.
_ROWS: Final = 400
# States that one sentence names.
_SHOWN: Final = 4


class TighterRun:
    """The same run at a tighter tolerance, or of half the step, by which the answer is judged."""

    def __init__(self, run: Run) -> None:
        self.run, self.fixed = run, run.options["step"] is not None
        self.times = 10 if work_of(run) * 100.0 ** (1.0 / run.data.methods[0].order) > _LONG else 100
        self.changed = {"step": _HALF * run.options["step"]} if self.fixed else {
            "rtol": _tightened(run.options["rtol"], self.times, _LEAST_RTOL),
            "atol": _tightened(run.options["atol"], self.times, 0.0)}  # fmt: skip
        self.by = method_of(run)
        # Answers are compared between the steps, too, if the steps were kept.
        start, end, kept = run.problem.interval[0], run.ending.time, isinstance(run.data.trajectory, StepTrajectory)
        self.wanted_times = np.linspace(start, end, _ROWS) if kept else run.times
        found = run_again(run, self.by, times=_LONGER, record=self.wanted_times.tolist(), **self.changed)
        self.tighter = found.run if found.done else None

    @property
    def usable(self) -> bool:
        """Whether it is there, and there is something to judge."""
        return self.tighter is not None and bool(self.run.problem.states) and self.run.tally.accepted > 0

    def misses(self, other: Run, right: Run | None = None) -> tuple[Array, Array]:
        """Return times, and how far a run misses another there, in tolerances (or shares of each state's size)."""
        right = self.tighter if right is None else right
        if right is None:
            raise unforeseen("a run that was not looked at")
        times = self._common(other, right)
        answer, truth = other.at(times), right.at(times)
        if self.fixed:
            size = np.abs(truth).max(axis=0, initial=0.0)
            order = self.run.data.methods[0].order
            allowed = np.where(size > 0.0, size, 1.0) * (2.0**order - 1.0) / 2.0**order
        else:
            # The error is relative to the largest size: where a state passes zero, a small shift in time
            # is many times its tolerance.
            largest = np.abs(truth).max(axis=0, initial=0.0)
            allowed = _tolerance_of_states(self.run, "rtol") * largest + _tolerance_of_states(self.run, "atol")
        return times, np.abs(answer - truth) / np.maximum(allowed, 1e-300)

    def _common(self, run: Run, other: Run) -> Array:
        """Return the times that both reached, and where neither jumps: its two sides differ by all of it."""
        start, end = self.run.problem.interval[0], self.run.ending.time
        sign = 1.0 if end >= start else -1.0
        last = min(sign * end, sign * run.ending.time, sign * other.ending.time)
        times = self.wanted_times[sign * self.wanted_times <= last]
        jumps = np.concatenate([run.data.trajectory.jumps.times, other.data.trajectory.jumps.times])
        if jumps.size and times.size:
            near = np.abs(times[:, None] - jumps).min(axis=1) <= 1e-6 * abs(end - start)
            times = times[~near]
        return times

    @cached_property
    def own(self) -> tuple[Array, Array]:
        """What the run itself misses."""
        return self.misses(self.run)

    def error(self, other: Run) -> float | None:
        """Return the largest miss of a run, None where there is nothing to judge it by."""
        if not self.usable or not other.ending.as_requested:
            return None
        found = self.own if other is self.run else self.misses(other)
        return float(found[1].max(initial=0.0))

    def growth(self) -> float | None:
        """Return by how many tolerances the solution moves where the start moves by one, None where that is unknown.

        Of the tighter run, in which what the steps do, and what fails in them, hides none of it.
        """
        run, problem = self.run, self.run.problem
        moved = (
            problem.start
            + _tolerance_of_states(run, "rtol") * np.abs(problem.start)
            + _tolerance_of_states(run, "atol")
        )
        try:
            with quietly():
                # The warning on closed forms that begin elsewhere is meant for users.
                begun = beginning_near(problem, moved, {})
        except ConstraintError:
            return None
        found = run_again(run, self.by, times=_LONGER, problem=begun, record=self.wanted_times.tolist(), **self.changed)
        return float(self.misses(found.run)[1].max(initial=0.0)) if found.run is not None and found.done else None


def worst_state(run: Run, truth: TighterRun) -> list[Statement]:
    """Say in which state the answer is worst, by a run at a tighter tolerance or half the step."""
    if not run.ending.as_requested or not run.problem.states or not run.tally.accepted:
        return []
    if not truth.usable:
        return [Statement("states", "Which state is hardest could not be told: a tighter run did not end.", {})]
    times, scaled = truth.own
    if not times.size:
        return []
    row, column = np.unravel_index(int(scaled.argmax()), scaled.shape)
    name, worst = run.problem.states[int(column)], float(scaled[row, column])
    when = at_time(float(times[row]), run.problem.units.get("t", ""))
    tighter = "at half the step" if truth.fixed else f"{_TIMES[truth.times]} times tighter"
    if not worst:
        return [Statement("states", f"A run {tighter} gives the very same answer.", {"error": 0.0})]
    if truth.fixed:
        text = f"By a run {tighter}, the error is largest in '{name}', at {when}: about {worst:.2g} of its size."
    else:
        text = (
            f"The hardest state is '{name}': by a run {tighter} it is off by up to {in_tolerances(worst)}, at {when}."
        )
    statements = [Statement("states", text, {"state": name, "time": float(times[row]), "error": worst})]
    return statements if truth.fixed or worst <= _MUCH else [*statements, *_error_growth(worst, truth)]


def _error_growth(worst: float, truth: TighterRun) -> list[Statement]:
    """Say whether the problem makes errors grow, or the errors of the steps add up."""
    growth = truth.growth()
    if growth is None:
        return []
    moves = f"a start moved by one tolerance moves the answer by up to {in_tolerances(growth)}"
    if growth > _OWN * worst:
        text = f"The problem itself makes errors grow: {moves}. 'certify' tells which digits are certain."
    else:
        text = f"The errors of the steps add up, the problem makes them grow little: {moves}. Give a smaller rtol."
    return [Statement("growth", text, {"growth": growth, "error": worst})]


def tolerance_scaling(run: Run) -> list[Statement]:
    """Say for which states the tolerances do not suit the size."""
    if run.options["step"] is not None or not run.states.size:
        return []
    relative, absolute = _tolerance_of_states(run, "rtol"), _tolerance_of_states(run, "atol")
    sizes = np.abs(run.states)
    # Members of one indexed state are of one kind, and most of them may be at rest.
    families = [group_of(name) for name in run.problem.states]
    family = np.unique(families, return_inverse=True)[1]
    largest = np.zeros(family.max() + 1)
    np.maximum.at(largest, family, sizes.max(axis=0))
    largest = largest[family]
    with np.errstate(divide="ignore", invalid="ignore"):
        coarse = np.where(largest > 0.0, absolute / largest, 0.0)
    found = []
    bad = np.flatnonzero(coarse > np.maximum(_COARSE, 10.0 * relative))
    if bad.size:
        names = ", ".join(f"'{run.problem.states[k]}'" for k in bad[:_SHOWN]) + " …" * (bad.size > _SHOWN)
        worst = int(bad[coarse[bad].argmax()])
        one = bad.size == 1
        text = (
            f"The absolute tolerance is too coarse for {names}: {absolute[worst]:.2g}, where "
            f"{'it' if one else 'the smallest'} never exceeds {largest[worst]:.2g}. Give a smaller atol, by name."
        )
        figures = {"states": names, "atol": float(absolute[worst]), "largest": float(largest[worst])}
        found.append(Statement("tolerance", text, figures))
    zero = np.flatnonzero((absolute == 0.0) & (sizes.min(axis=0) <= 1e-12 * largest))
    if zero.size:
        name = run.problem.states[int(zero[0])]
        found.append(
            Statement(
                "tolerance",
                f"'{name}' comes to zero, where a relative tolerance alone allows no error: give an atol.",
                {"states": name},
            )
        )
    if not found:
        with np.errstate(divide="ignore", invalid="ignore"):
            rules = (absolute > relative * sizes).mean(axis=0)
        ruled = np.flatnonzero((rules > _RULES) & (largest > 0.0))
        names = ", ".join(f"'{run.problem.states[k]}'" for k in ruled[:_SHOWN])
        ruled_text = (
            f" (for {names} the absolute one rules {share_of(float(rules[ruled].min()))} of the time)" if names else ""
        )
        found.append(Statement("tolerance", f"The tolerances suit the size of every state{ruled_text}.", {}))
    return found


def _tightened(value: Any, times: int, least: float) -> Any:
    """Return a tolerance, or those of states by name, so many times tighter; what is zero remains so.

    Parameters
    ----------
    value : float or dict of str to float
    times : int
    least : float
        Not below this.

    Returns
    -------
    float or dict of str to float
    """
    if isinstance(value, dict):
        return {name: _tightened(part, times, least) for name, part in value.items()}
    return max(value / times, least) if value else value


def _tolerance_of_states(run: Run, name: str) -> Array:
    """Return a tolerance for each state, shape (n_states,)."""
    value = run.options[name]
    given = [value.get(state, 0.0) for state in run.problem.states] if isinstance(value, dict) else value
    return np.broadcast_to(np.asarray(given, dtype=np.float64), (run.problem.model.layout.size,))
