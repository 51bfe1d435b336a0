"""What happened in a run, in sentences, each with its numbers, and each of them measured."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, Records
from unhurried_heron.deadline import done_within
from unhurried_heron.diagnosis.alternatives import Alternative, best_of
from unhurried_heron.diagnosis.candidates import Candidate, candidates_for, method_of, run_again
from unhurried_heron.diagnosis.tolerance_diagnosis import TighterRun, tolerance_scaling, worst_state
from unhurried_heron.equality import ByValue
from unhurried_heron.input.rules import POSITIVE
from unhurried_heron.methods.catalogue import FOR_SMOOTH, FOR_STIFF, find_method
from unhurried_heron.run.late_bindings import STUDIES
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import grown_at_end
from unhurried_heron.stability.stability_limited_steps import (
    StabilityLimitedSteps,
    decays_that_grow,
    stability_limited_steps,
)
from unhurried_heron.study.arguments import a_run
from unhurried_heron.study.attempts import OnInterrupt, in_words
from unhurried_heron.text.document import Document, Statement
from unhurried_heron.text.numbers import at_time, counted, in_seconds, intervals_in_words, rounded, share_of

if TYPE_CHECKING:
    import pandas as pd

# A share of the steps below this is not mentioned.
_SOME: Final = 0.02
# A problem is stiff where stability makes an explicit step this many times shorter than accuracy needs.
_STIFF: Final = 5.0
# A share of the work from which a cause is called much.
_COSTLY: Final = 0.1
# A state leaves all bounds that grows by this factor
_LEAVES: Final = 100.0
# over the last part of the time of this share.
_LAST: Final = 0.01
# Runs of fewer steps are not worth another method.
_FEW_STEPS: Final = 200


@dataclass(frozen=True, eq=False)
class Explanation(ByValue):
    """What a run was like.

    Attributes
    ----------
    run : Run
    statements : tuple of Statement
        Sentences with ``about`` ("steps", "stiffness", "refused", "method", "states", "tolerance", "budget",
        "ending", "growth", "interrupted") and ``figures``, the numbers in them by name.
    """

    run: Run = field(repr=False)
    statements: tuple[Statement, ...]

    def document(self) -> Document:
        """Return the sentences as the points of a list."""
        return Document(f"{self.run.problem.title or 'The run'}, {self.run.method}", self.statements, listed=True)

    def __str__(self) -> str:
        return str(self.document())

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame, a row for each sentence: ``about``, ``text`` and its ``figures``, a dict."""
        import pandas as pd

        return pd.DataFrame([{"about": s.about, "text": s.text, "figures": dict(s.figures)} for s in self.statements])

    def about(self, subject: str) -> tuple[Statement, ...]:
        """Return the sentences about something.

        Parameters
        ----------
        subject : str

        Returns
        -------
        tuple[Statement, ...]
        """
        return tuple(each for each in self.statements if each.about == subject)


def explain(run: Run, *, seconds: float = 10.0, on_interrupt: str = "raise") -> Explanation:
    """Say what happened in a run: what limited its steps, whether it is stiff, what would do better, and by how much.

    Whatever is said was measured: eigenvalues along the run against the region of its method, the counts of its ledger,
    and runs of other methods on the same problem, each within twice the time that the run took, a tighter one within
    three times (half a second at least, five seconds at most), all within ``seconds``.

    Parameters
    ----------
    run : Run
    seconds : float
        For all of it.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return what was found by then.

    Returns
    -------
    Explanation

    Raises
    ------
    OptionError
        This is no run.
    """
    run, ctrl_c = a_run(run, "explain"), OnInterrupt(on_interrupt)
    found: list[Statement] = []
    with done_within(POSITIVE(seconds, "seconds")), ctrl_c:
        # The statements are added one by one, so that those found before an interrupt are kept.
        found.extend(_RunFacts(run).statements())
    if ctrl_c.hit:
        found.append(Statement("interrupted", "Looking on was interrupted: there may be more to say.", {}))
    return Explanation(run, tuple(found))


def worth_saying(run: Run) -> str:
    """Return the one sentence that a run should end with; empty where there is nothing worth saying.

    Only runs that say of themselves that stability held them back are looked at, and what a budget ended.
    """
    looked = _RunFacts(run)
    if run.ending.limited_until is not None:
        found = candidates_for(run, stiff=True)
        best = Alternative(run, found[0]) if found and found[0].done else None
        if best is not None and best.better:
            return best.statement().text
    rest = [each.text for each in looked.on_ending() if each.about == "budget"]
    return rest[0] if rest else ""


STUDIES["explain"] = explain


class _RunFacts:
    """A run as it is looked at."""

    def __init__(self, run: Run) -> None:
        self.run, self.unit, self.unknown = run, run.problem.units.get("t", ""), ""

    @cached_property
    def kept(self) -> Run | None:
        """The run with a ledger: itself, or the same once more; None where that did not end in its budget."""
        run = self.run
        if run.data.ledger is not None:
            return run
        return run_again(run, method_of(run), largest_step=run.options.get("largest_step")).run

    @cached_property
    def region(self) -> StabilityLimitedSteps | None:
        """Its steps in the region of its method, None where that cannot be told."""
        for run in (self.run, self.kept):
            try:
                if run is not None:
                    return stability_limited_steps(run)
            except Exception as error:
                # The run kept states at some times only, or the function of the user refuses states
                # beside the solution.
                self.unknown = in_words(error)
        return None

    @property
    def rows(self) -> Records | None:
        """The ledger, None where there is none."""
        return None if self.kept is None else self.kept.data.ledger

    @cached_property
    def stiff(self) -> bool:
        """Whether stability limited steps, or would limit those of an explicit method."""
        if self.implicit or self.region is None:
            return self.factors is not None and bool((self.factors[1] > _STIFF).any())
        return self.region.share >= _SOME

    @cached_property
    def truth(self) -> TighterRun:
        """A tighter run, by which answers are judged."""
        return TighterRun(self.run)

    @cached_property
    def factors(self) -> tuple[StabilityLimitedSteps, Array] | None:
        """Steps that accuracy chose, and by what factor an explicit method must shorten each; None where unknown."""
        found = self.smoothly
        if found is None or found.run is None:
            return None
        try:
            looked = stability_limited_steps(found.run)
        except Exception:
            # The same exceptions as above can occur here.
            return None
        return looked, looked.stiffness / find_method(FOR_SMOOTH).real_stability_limit

    @cached_property
    def implicit(self) -> bool:
        """Whether it solved for its steps."""
        return self.run.tally.jacobians > 0

    @cached_property
    def smoothly(self) -> Candidate | None:
        """The run by an implicit method, whose steps stability does not limit; the run itself where it is one."""
        if self.implicit and self.run.options["step"] is None:
            return Candidate(self.run.method, self.run, "")
        options: dict[str, Any] = {"step": None, "rtol": 1e-6} if self.run.options["step"] is not None else {}
        found = run_again(self.run, FOR_STIFF, **options)
        return found if found.done else None

    def statements(self) -> Iterator[Statement]:
        """Return all sentences, in the order they are read."""
        done = self.run.tally.accepted > 0
        yield from self.on_ending()
        # A run without a step has no steps, stiffness or states to explain.
        if done:
            yield from self.on_steps()
            yield from self.on_stiffness()
        yield from self.on_refusals()
        yield from self.on_methods()
        if done:
            yield from worst_state(self.run, self.truth)
            yield from tolerance_scaling(self.run)

    def on_ending(self) -> list[Statement]:
        """Say why it ended early, and what the rest would take."""
        run = self.run
        if run.ending.as_requested:
            return []
        statements = [Statement("ending", f"It did not end as asked: {run.ending.message}", {"time": run.ending.time})]
        if run.ending.reason.cut_short:
            start, end = run.problem.interval
            done = abs(run.ending.time - start) / abs(end - start)
            if done > 0.0:
                left = (1.0 - done) / done
                more, seconds = left * run.tally.accepted, left * run.tally.seconds
                statements.append(
                    Statement(
                        "budget",
                        f"It came through {share_of(done)} of the interval; at this pace the rest "
                        f"takes about {more:,.0f} more steps and {in_seconds(seconds)}.",
                        {"done": done, "steps": more, "seconds": seconds},
                    )
                )
            return statements
        return statements + self._leaving()

    def _leaving(self) -> list[Statement]:
        """Say which state leaves all bounds where a run breaks off, if one does."""
        found = grown_at_end(self.run.data.trajectory, _LAST)
        if found is None or found[2] < _LEAVES * found[1]:
            return []
        name, before, size = self.run.problem.model.layout.name_of(found[0]), *found[1:]
        text = f"'{name}' grew from {before:.3g} to {size:.3g} in size over the last {share_of(_LAST)} of that time: "
        return [Statement("ending", text + "it seems to leave all bounds there.",
                       {"state": name, "before": before, "size": size})]  # fmt: skip

    def on_steps(self) -> list[Statement]:
        """Say what limited the steps, and when."""
        run, accepted = self.run, self.run.tally.accepted
        if run.options["step"] is not None:
            text = f"The step was fixed, {run.options['step']:.6g}: nothing followed an error estimate."
            return [Statement("steps", text, {"step": run.options["step"]}), *self._fixed_stability()]
        if not accepted:
            return []
        stability = self.region.share if self.region is not None else 0.0
        # A step that failed twice counts once.
        bounded, failed, landings = map(np.unique, (self._bounded(), self._failed(), self._landings()))
        longest, newton, landed = (times.size / accepted for times in (bounded, failed, landings))
        accuracy = max(0.0, 1.0 - stability - longest - landed - newton)
        figures = {"accuracy": accuracy, "stability": stability, "landings": landed, "largest step": longest,
                   "newton": newton}  # fmt: skip
        parts = []
        if self.region is not None and stability >= _SOME:
            parts.append(
                f"stability limited {share_of(stability)} ({intervals_in_words(self.region.intervals(), self.unit)})"
            )
        if longest >= _SOME:
            parts.append(f"the largest step allowed bounded {share_of(longest)} ({self._between(bounded)})")
        if landed >= _SOME:
            parts.append(f"{share_of(landed)} were cut short to land on switches, events and known times "
                         f"({self._between(landings)})")  # fmt: skip
        if newton >= _SOME:
            parts.append(f"Newton's iteration shortened {share_of(newton)} ({self._between(failed)})")
        if accuracy >= _SOME:
            parts.append(f"accuracy chose {share_of(accuracy)}")
        if self.region is None:
            parts.append(f"what stability did could not be told ({self.unknown or 'no run kept its steps'})")
        text = f"Of {counted(accepted, 'step')}, " + "; ".join(parts) + "."
        return [Statement("steps", text, figures)]

    def _between(self, times: Array) -> str:
        """Say between which times something happened."""
        ends = (float(times[0]), float(times[-1]))[:: 1 if self.run.ending.time >= self.run.problem.interval[0] else -1]
        return at_time(ends[0], self.unit) if ends[0] == ends[1] else f"{at_time(ends[0], '')} to {ends[1]:.6g}"

    def _fixed_stability(self) -> list[Statement]:
        if self.region is None or not self.region.z.size:
            return []
        # With a fixed step there is one region, because there is one method of one order.
        outside = decays_that_grow(self.region.regions[0], self.region.z)
        share = float(np.mean(outside))
        if not share:
            return [
                Statement("steps", "Every decaying mode lay within the method's stability region.", {"outside": 0.0})
            ]
        first = float(self.region.times[int(np.argmax(outside))])
        text = (
            f"A decaying mode lay outside the stability region in {share_of(share)} of the steps looked at, first at "
            f"{at_time(first, self.unit)}: what should die out grows there."
        )
        return [Statement("steps", text, {"outside": share, "first": first})]

    def _landings(self) -> Array:
        """When steps ended at a switch, an event that acts or a known time."""
        acting = [k for k, event in enumerate(self.run.data.events) if event.then is not None or event.stop]
        found = self.run.data.event_log
        event_log = found.times[np.isin(found.which, acting)] if acting else np.empty(0)
        times: Array = np.concatenate([self.run.data.switch_log.times, event_log])
        return times

    def _bounded(self) -> Array:
        """When steps were as long as they may be."""
        limit, rows = self.run.options.get("largest_step"), self.rows
        if limit is None or rows is None:
            return np.empty(0)
        times: Array = rows["time"][rows["accepted"] & (np.abs(rows["step"]) >= 0.999 * limit)]
        return times

    def _failed(self) -> Array:
        """When steps were refused because Newton's iteration failed."""
        rows = self.rows
        if rows is None or not self.run.tally.newton_failures:
            return np.empty(0)
        times: Array = rows["time"][~rows["accepted"] & np.isnan(rows["error"])]
        return times

    def on_stiffness(self) -> list[Statement]:
        """Say whether the problem is stiff, where, and by what factor."""
        if self.factors is None and not self.implicit and self.region is not None and self.region.share < _SOME:
            text = "The problem is not stiff for this tolerance: stability held none of its steps back."
            return [Statement("stiffness", text, {"factor": 1.0})]
        if self.factors is None:
            why = "an implicit method did not come to the end within its budget"
            return [Statement("stiffness", f"Whether the problem is stiff could not be told: {why}.", {})]
        looked, factors = self.factors
        factor = float(factors.max(initial=0.0))
        stiff = factors > _STIFF
        if not stiff.any():
            text = "The problem is not stiff: no decay is much faster than the solution itself changes."
            return [Statement("stiffness", text, {"factor": factor})]
        covered = float(np.abs(looked.steps)[stiff] @ looked.counts[stiff])
        share = min(1.0, covered / float(np.abs(looked.steps) @ looked.counts))
        where = intervals_in_words(looked.intervals(stiff), self.unit)
        text = (
            f"The problem is stiff over {share_of(share)} of the time ({where}): an explicit method ({FOR_SMOOTH}) "
            f"must take steps up to {rounded(factor)} times shorter than the solution needs."
        )
        return [Statement("stiffness", text, {"factor": factor, "share": share})]

    def on_refusals(self) -> list[Statement]:
        """Say what refused steps cost."""
        tally = self.run.tally
        tried = tally.accepted + tally.refused
        if not tally.refused or self.run.options["step"] is not None:
            return []
        cost = tally.refused / tried
        text = f"{counted(tally.refused, 'step')} of {tried:,} tried {'was' if tally.refused == 1 else 'were'} refused"
        text += f", {share_of(cost)} of the work" + (": little." if cost < _COSTLY else ": much.")
        if tally.newton_failures:
            text += f" {tally.newton_failures:,} of them because Newton's iteration failed."
        return [Statement("refused", text, {"refused": tally.refused, "share": cost, "newton": tally.newton_failures})]

    def on_methods(self) -> list[Statement]:
        """Say which method does better, and by how much, as it was measured."""
        run = self.run
        if run.options["step"] is not None or (run.ending.as_requested and run.tally.accepted < _FEW_STEPS):
            return []
        unknown = not run.ending.as_requested and not self.implicit and self.region is None
        found = candidates_for(run, stiff=self.stiff or unknown, ready=self.smoothly)
        if not any(each.done for each in found):
            # Methods of the other kind are tried, too.
            found += candidates_for(run, stiff=not (self.stiff or unknown))
        done = [each for each in found if each.done]
        if not done:
            why = "; ".join(f"{each.method}: {each.why.rstrip('.')}" for each in found)
            return [Statement("method", f"None of the other methods tried came to the end, either ({why}).", {})]
        return [best_of([Alternative(run, each, self._errors(each)) for each in done]).statement()]

    def _errors(self, other: Candidate) -> tuple[float, float] | None:
        """Return the errors of the run and of another, in tolerances, where they are known."""
        if other.run is None or not self.run.ending.as_requested:
            return None
        errors = self.truth.error(self.run), self.truth.error(other.run)
        return None if errors[0] is None or errors[1] is None else (errors[0], errors[1])
