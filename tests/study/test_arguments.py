"""Whatever a study is given, it answers or refuses in its own words: every argument of every one, with odd values."""

from __future__ import annotations

import math
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import unhurried_heron as uh

ODD = [
    None,
    -1,
    0,
    "a",
    [],
    {},
    1.5,
    True,
    float("nan"),
    object(),
    np.array([1, 2]),
    10**5000,
    10**30,
    "1 h",
    [None],
    b"x",
]
P = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), exact={"x": "exp(-t)"})
RUN, TABLE, REGION = uh.integrate(P), uh.compare(P, "heun-3", rtol=1e-3), uh.stability("adams-bashforth-2")
STUDIES: dict[str, Callable[[Any], Any]] = {
    "stability, method": lambda w: uh.stability(w),
    "stability, order": lambda w: uh.stability("adams-variable", order=w),
    "amplification": lambda w: REGION(w),
    "contains": lambda w: REGION.contains(w),
    "limit": lambda w: REGION.limit(w),
    "order_star": lambda w: REGION.order_star(w),
    "map, window": lambda w: REGION.map(w, points=5),
    "map, points": lambda w: REGION.map(points=w),
    "stability_limited_steps, run": lambda w: uh.stability_limited_steps(w),
    "stability_limited_steps, rows": lambda w: uh.stability_limited_steps(RUN, rows=w),
    "largest_step, problem": lambda w: uh.largest_step(w, "euler"),
    "largest_step, method": lambda w: uh.largest_step(P, w),
    "largest_step, seconds": lambda w: uh.largest_step(P, "euler", seconds=w),
    "convergence, methods": lambda w: uh.convergence(P, w, halvings=1),
    "convergence, steps": lambda w: uh.convergence(P, "euler", steps=w),
    "convergence, step": lambda w: uh.convergence(P, "euler", step=w, halvings=1),
    "convergence, halvings": lambda w: uh.convergence(P, "euler", halvings=w),
    "convergence, budget": lambda w: uh.convergence(P, "euler", halvings=1, budget=w),
    "convergence, reference": lambda w: uh.convergence(P, "euler", halvings=1, reference=w),
    "certify, digits": lambda w: uh.certify(P, w),
    "certify, at": lambda w: uh.certify(P, 4, at=w),
    "certify, seconds": lambda w: uh.certify(P, 4, seconds=w),
    "worked, method": lambda w: uh.step_table(P, w, step=0.1),
    "worked, step": lambda w: uh.step_table(P, "euler", step=w),
    "worked, count": lambda w: uh.step_table(P, "euler", count=w),
    "worked, steps": lambda w: uh.step_table(P, "euler", step=0.1, steps=w),
    "compare, count": lambda w: uh.compare(P, "heun-3", count=w, budget=uh.Budget(steps=99)),
    "compare, reference": lambda w: uh.compare(P, "heun-3", rtol=1e-3, reference=w),
    "best, error": lambda w: TABLE.best(w),
    "best, by": lambda w: TABLE.best(1e-3, by=w),
    "frame, sort": lambda w: TABLE.frame(sort=w),
    "explain": lambda w: uh.explain(w),
    "trace": lambda w: uh.integrate(P, trace=w),
    "rates_at, t": lambda w: P.rates_at(w, [1.0]),
    "jacobian_at, state": lambda w: P.jacobian_at(0, w),
    "frame, exact": lambda w: RUN.frame(exact=w),
    "exact_at": lambda w: RUN.exact_at(w),
    "draw_stability": lambda w: uh.draw_stability(w),
    "draw_stability, window": lambda w: uh.draw_stability("euler", window=w),
    "draw_stability, order_star": lambda w: uh.draw_stability("euler", order_star=w),
    "draw_run_in_region": lambda w: uh.draw_run_in_region(w),
    "draw_convergence": lambda w: uh.draw_convergence(w),
    "draw_errors": lambda w: uh.draw_errors(w),
    "draw_drift": lambda w: uh.draw_drift(w),
    "draw_drift, quantity": lambda w: uh.draw_drift(RUN, w),
    "draw_digits": lambda w: uh.draw_digits(w),
    "draw_steps": lambda w: uh.draw_steps(w),
    "draw_work": lambda w: uh.draw_work(w),
    "draw_work, work": lambda w: uh.draw_work(TABLE, work=w),
    "write_csv, path": lambda w: uh.write_csv(RUN, w) if isinstance(w, bytes) or not isinstance(w, str) else None,
    "draw_states, names": lambda w: uh.draw_states(RUN, w),
    "animate, path": lambda w: uh.animate(RUN, "x", w),
    "mean": lambda w: RUN.mean(w),
    "crossings": lambda w: RUN.crossings(w),
    "event, then": lambda w: uh.integrate(P, events=[uh.Event("x = 0.5", then=w)]),
    "event, stop_after": lambda w: uh.integrate(P, events=[uh.Event("x = 0.5", stop_after=w)]),
    "event, name": lambda w: uh.integrate(P, events=[uh.Event("x = 0.5", name=w)]),
    "event, at": lambda w: uh.Event(at=w),
    "event, every": lambda w: uh.Event(every=w),
    "event, first": lambda w: uh.Event(every=1, first=w),
    "controller": lambda w: uh.Controller(safety=w),
    "animate, seconds": lambda w: uh.animate(RUN, "x", "x.png", seconds=w, frames_per_second=0.5),
    "write_sound, seconds": lambda w: uh.write_sound(RUN, "x", "/nowhere/x.wav", seconds=w),
    "at": lambda w: RUN.at(w, "x"),
    "table": lambda w: RUN.table([w]),
    "extend": lambda w: RUN.extend(w),
    "record": lambda w: uh.integrate(P, record=w),
    "conserved": lambda w: P.with_(conserved=w),
    "conserved, one": lambda w: P.with_(conserved=[w]),
    "never_negative": lambda w: P.with_(never_negative=[w]),
}


@pytest.mark.parametrize("name", STUDIES)
def test_odd_values_are_answered_or_refused_in_words(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # some of them write files
    monkeypatch.chdir(tmp_path)
    refused: list[uh.HeronError] = []
    for value in ODD:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", uh.ProblemWarning)
            try:
                STUDIES[name](value)
            except uh.HeronError as error:
                refused.append(error)
    assert all(error.location for error in refused)
    # each refuses most of them
    assert len(refused) >= 6 or name in (
        "amplification",
        "contains",
        "limit",
        "order_star",
        "rates_at, t",
        "exact_at",
        "event, at",
    )


RUNNING: dict[str, Callable[[uh.Problem], Any]] = {
    "compare": lambda p: uh.compare(p, ["dormand-prince-54", "radau-iia-5"], rtol=1e-4),
    "convergence": lambda p: uh.convergence(p, ["heun-2", "radau-iia-5"], halvings=2),
    "certify": uh.certify,
    "largest_step": lambda p: uh.largest_step(p, "euler"),
    "explain": lambda p: uh.integrate(p, "dormand-prince-54").explain(),
    "stability_limited_steps": lambda p: uh.stability_limited_steps(uh.integrate(p, "dormand-prince-54")),
}


@pytest.mark.parametrize("name", RUNNING)
def test_what_a_function_raises_is_told_or_raised(name: str) -> None:
    # a root that is refused just beyond the solution, where slopes by differences ask
    beside = uh.Problem.from_rates(lambda t, x: [0 * math.sqrt(1 - x)], initial={"x": 1}, interval=(0, 1))
    report = RUNNING[name](beside)
    if name in ("compare", "convergence", "certify"):
        assert "ValueError: math domain error" in " ".join(str(report).split())
    # who refuses every method is heard

    def never(t: float, x: float) -> list[float]:
        return [-x / (t < 0.5)]

    with pytest.raises(ZeroDivisionError):
        RUNNING[name](uh.Problem.from_rates(never, initial={"x": 1}, interval=(0, 1)))


@pytest.mark.long
def test_a_function_that_overflows_has_a_largest_step() -> None:
    user_input = {"initial": {"x": 1}, "interval": (0, 30)}
    # plain numbers raise OverflowError where formulas give infinity
    called = uh.Problem.from_rates(lambda t, x: [-40 * x**3 + 10 * math.cos(t)], **user_input)
    written = uh.Problem.from_text("x' = -40*x^3 + 10*cos(t)", **user_input)
    counts = [uh.largest_step(problem, "adams-bashforth-4").count for problem in (called, written)]
    assert counts[0] == pytest.approx(counts[1], rel=0.05)
