"""Whether another method would do better than a run did, by its work, its seconds and its error, and in which words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final

from unhurried_heron.run.run import Run
from unhurried_heron.study.candidates import Candidate, seconds_of, work_of
from unhurried_heron.study.saying import Saying, many, of_seconds, of_tolerances, rounded

# clearly less is less than this share
_CLEARLY: Final = 0.7
_HALF: Final = 0.5
# an error so many times that of the run is no worse, nor is one within the tolerance
_AS_EXACT: Final = 2.0


@dataclass(frozen=True)
class Instead:
    """A candidate that came to its end, beside the run.

    ``own_seconds`` of the run; ``errors`` of both in tolerances, where they are known.
    """

    own: Run
    own_seconds: float
    candidate: Candidate
    errors: tuple[float, float] | None = None

    @cached_property
    def work(self) -> float:
        """Its work as a share of that of the run."""
        return self.candidate.work / max(work_of(self.own), 1)

    @cached_property
    def seconds(self) -> float:
        """The seconds of its kernel."""
        assert self.candidate.run is not None, "it came to the end"
        return seconds_of(self.candidate.run)

    @cached_property
    def time(self) -> float:
        """Its seconds as a share of those of the run."""
        return self.seconds / max(self.own_seconds, 1e-9)

    @property
    def as_exact(self) -> bool:
        """Whether its error is no worse."""
        return self.errors is None or self.errors[1] <= _AS_EXACT * max(self.errors[0], 1.0)

    @property
    def better(self) -> bool:
        """Whether it takes clearly less work or time, no more of the other, for an error no worse.

        Where the run came to no end, whatever does is better.
        """
        if not self.own.ending.as_asked:
            return True
        return self.as_exact and min(self.work, self.time) < _CLEARLY and max(self.work, self.time) <= 1.0

    @property
    def trades(self) -> bool:
        """Whether it takes clearly less work but more time, or clearly less time but more work."""
        return self.as_exact and not self.better and min(self.work, self.time) < _CLEARLY

    def saying(self) -> Saying:
        """Say how it did, and whether it does better."""
        run, best = self.own, self.candidate
        assert best.run is not None, "it came to the end"
        tally, own = best.run.tally, run.tally
        figures: dict[str, Any] = {"method": best.method, "steps": tally.accepted, "seconds": self.seconds,
                                   "rate evaluations": tally.rate_evaluations}  # fmt: skip
        counts = (
            f"{best.method} takes {many(tally.accepted, 'step')}, {many(tally.rate_evaluations, 'rate evaluation')}"
        )
        counts += f" and {of_seconds(self.seconds)}"
        mine = f"this run took {own.accepted:,}, {own.rate_evaluations:,} and {of_seconds(self.own_seconds)}"
        if self.errors is not None:
            figures["error"], figures["own error"] = self.errors[1], self.errors[0]
            counts += f", off by up to {of_tolerances(self.errors[1])}"
            mine += f", off by up to {rounded(self.errors[0], 2)}"
        figures["times"] = 1.0 / max(self.work, 1e-12)
        figures["times in steps"] = own.accepted / max(tally.accepted, 1)
        figures["times in seconds"] = 1.0 / max(self.time, 1e-12)
        if not run.ending.as_asked:
            return Saying(
                "method", f"Take another method: {counts}, to the end; {mine}, up to where it ended.", figures
            )
        text = f"at the same tolerance {counts}; {mine}."
        if self.better:
            return Saying("method", f"Take another method: {text}", figures)
        if not self.trades:
            return Saying("method", f"No method tried does clearly better: {text}", figures)
        evens = (self.seconds - self.own_seconds) / (work_of(run) - best.work)
        figures["evens"] = evens
        less = self.work < 1.0
        told = "fewer rate evaluations, but more time" if less else "less time, but more rate evaluations"
        gains = f"{'once' if less else 'until'} an evaluation costs {of_seconds(abs(evens))} more than here"
        return Saying("method", f"Another method takes {told}, and gains {gains}: {text}", figures)


def the_best(judged: list[Instead]) -> Instead:
    """Return what is clearly better, or else what trades work for time, or else the first of methods by their work.

    Of several that are better, the first, but for one that takes less than half its time.
    """
    good = [each for each in judged if each.better] or [each for each in judged if each.trades] or judged
    fastest = min(good, key=lambda each: each.time)
    return fastest if fastest.time < _HALF * good[0].time and fastest.better else good[0]
