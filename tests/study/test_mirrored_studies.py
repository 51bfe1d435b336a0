"""What studies tell does not depend on when a problem begins, nor on the direction of its time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np
import pandas as pd
import pytest

import unhurried_heron as uh

METHODS = ["auto", "radau-iia-5", "heun-2"]


def pond(begin: float = 0.0, sign: int = 1) -> uh.Problem:
    """A pond that spills over a crest into a basin that empties fast, from a time on, or backwards."""
    time = f"({'' if sign > 0 else '-'}(t - {begin}))"
    return uh.Problem.from_text(
        f"level' = {sign}*(0.6 + 0.5*cos(2*{time}) - spill)\nstore' = {sign}*(spill - 40*store)\n"
        "spill = 3*max(level - 0.5, 0)",
        initial={"level": 0.4, "store": 0}, interval=(begin, begin + 8.0 * sign),
        events=[uh.Event("level = 0.6", name="mark")],
    )  # fmt: skip


def run_of(problem: uh.Problem, method: str = "dormand-prince-54", **options: Any) -> uh.Run:
    return uh.integrate(problem, method, rtol=1e-6, **options)


def of_run(problem: uh.Problem) -> dict[str, Any]:
    run = run_of(problem, ledger=True)
    found = {what: getattr(run, what)("level") for what in ("mean", "integral", "extremes")}
    found |= {"time": run.settles("level", within=0.5), "crossings": run.crossings("level = 0.7")}
    found["period"] = run.period("level = 0.7").mean
    return {"t": run.times, "steps": np.diff(run.times), "events": run.events, "ledger": run.ledger, **found}


def of_statements(problem: uh.Problem) -> dict[str, Any]:
    return {each.about: each.figures for each in uh.explain(run_of(problem)).statements}


def of_limited(problem: uh.Problem) -> dict[str, Any]:
    found = uh.stability_limited_steps(run_of(problem))
    return {"t": found.times, "steps": found.steps, "share": found.share, "stiffness": found.stiffness}


STUDIES: dict[str, Callable[[uh.Problem], Any]] = {
    "run": of_run,
    "explain": of_statements,
    "stability": of_limited,
    "compare": lambda problem: uh.compare(problem, METHODS, rtol=1e-5, count=2000).frame(),
    "certify": lambda problem: uh.certify(problem, 6).frame(),
    "convergence": lambda problem: uh.convergence(problem, ["heun-2", "classical-rk-4"], count=64, halvings=4).frame(),
    "table": lambda problem: uh.step_table(problem, "heun-2", count=100, steps=3),
    "sweep": lambda problem: uh.sweep(problem, {"level": [0.3, 0.45]}, METHODS[1], measures=["mean(spill)"]).frame(),
}
# clocks, what follows from them, and what is as small as rounding
OF_CLOCKS = ("seconds", "growth")


def numbers(found: Any, key: str = "") -> Iterator[tuple[str, np.ndarray]]:
    """Yield all numbers of a result, by where they stand."""
    if isinstance(found, pd.DataFrame):
        found = found.to_dict("list")
    if isinstance(found, Mapping):
        for name, each in found.items():
            yield from numbers(each, str(name))
    elif not any(word in key for word in OF_CLOCKS):
        try:
            yield key, np.asarray(found, dtype=float)
        except (TypeError, ValueError):
            return


@pytest.mark.parametrize("study", STUDIES)
def test_the_beginning_and_the_direction_of_time_change_nothing(study: str) -> None:
    forward = list(numbers(STUDIES[study](pond())))
    assert len(forward) > 3
    # another method's share of a tolerance is not to be foretold
    for begin, sign in ((0.0, -1), (64.0, 1), (-64.0, -1))[: 1 if study == "explain" else 3]:
        other = list(numbers(STUDIES[study](pond(begin, sign))))
        assert [key for key, _ in other] == [key for key, _ in forward]
        for (key, here), (_, there) in zip(forward, other, strict=True):
            when = begin if key in ("t", "time", "ending_time") else 0.0
            # a mirror changes no rounding; elsewhere a step more may be taken
            near = {"rel": 0.05, "abs": 1e-5} if begin else {"rel": 1e-12, "abs": 1e-15}
            assert np.abs(there - when) == pytest.approx(np.abs(here), nan_ok=True, **near), (key, begin)
