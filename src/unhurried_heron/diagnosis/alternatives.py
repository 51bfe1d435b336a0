"""Whether another method would do better than a run did, by its work and its error, and in which words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final

from unhurried_heron.diagnosis.candidates import Candidate, seconds_in_turn, work_of
from unhurried_heron.errors import unforeseen
from unhurried_heron.run.run import Run
from unhurried_heron.text.document import Statement
from unhurried_heron.text.numbers import counted, in_seconds, in_tolerances, rounded

# Work is clearly less if it is below this share.
_CLEARLY: Final = 0.7


@dataclass(frozen=True)
class Alternative:
    """A candidate that came to its end, beside the run; ``errors`` of both in tolerances, where they are known.

    What is said follows from counts and errors. Seconds are told, and decide nothing.
    """

    own: Run
    candidate: Candidate
    errors: tuple[float, float] | None = None

    @cached_property
    def work(self) -> float:
        """Its work as a share of that of the run."""
        return self.candidate.work / max(work_of(self.own), 1)

    @property
    def as_exact(self) -> bool:
        """Whether its error is no larger, or within the tolerance."""
        return self.errors is None or self.errors[1] <= max(self.errors[0], 1.0)

    @property
    def better(self) -> bool:
        """Whether it takes clearly less work, for an error no worse; where the run came to no end, whatever does."""
        return not self.own.ending.as_requested or (self.as_exact and self.work < _CLEARLY)

    def statement(self) -> Statement:
        """Say how it did, and whether it does better."""
        run, best = self.own, self.candidate
        if best.run is None:
            raise unforeseen("a run that did not come to its end")
        tally, own = best.run.tally, run.tally
        own_seconds, seconds = seconds_in_turn(run, best.run)
        figures: dict[str, Any] = {"method": best.method, "steps": tally.accepted, "seconds": seconds,
                                   "rate evaluations": tally.rate_evaluations}  # fmt: skip
        evaluations = counted(tally.rate_evaluations, "rate evaluation")
        counts = f"{best.method} takes {counted(tally.accepted, 'step')}, {evaluations} and {in_seconds(seconds)}"
        mine = f"this run took {own.accepted:,}, {own.rate_evaluations:,} and {in_seconds(own_seconds)}"
        if self.errors is not None:
            figures["error"], figures["own error"] = self.errors[1], self.errors[0]
            counts += f", off by up to {in_tolerances(self.errors[1])}"
            mine += f", off by up to {rounded(self.errors[0], 2)}"
        figures["times"] = 1.0 / max(self.work, 1e-12)
        figures["times in steps"] = own.accepted / max(tally.accepted, 1)
        figures["times in seconds"] = own_seconds / max(seconds, 1e-12)
        if not run.ending.as_requested:
            return Statement(
                "method", f"Take another method: {counts}, to the end; {mine}, up to where it ended.", figures
            )
        text = f"at the same tolerance {counts}; {mine}."
        if self.better:
            return Statement("method", f"Take another method: {text}", figures)
        return Statement("method", f"No method tried does clearly better: {text}", figures)


def best_of(judged: list[Alternative]) -> Alternative:
    """Return the first that is clearly better, of methods by their work; or else the first."""
    return next((each for each in judged if each.better), judged[0])
