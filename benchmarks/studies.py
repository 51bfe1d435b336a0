"""What is learnt of methods and runs: how long it takes beside what it is learnt of."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from typing import Any
from unittest.mock import patch

from pairing import in_turn

import unhurried_heron as uh
from unhurried_heron.demo import demo_file
from unhurried_heron.diagnosis import candidates, explain, tolerance_diagnosis

REGIONS = ("classical-rk-4", "radau-iia-9", "adams-bashforth-4", "adams-bashforth-8", "backward-differentiation-5")
SIDE = 1000
CALLS = 20


def report() -> None:
    """Print seconds of region maps, and ratios of explanations and certificates to the runs they are of."""
    _maps()
    _explanations()
    _certificates()
    _limits()


def _timed(call: Callable[[], Any]) -> float:
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def _maps() -> None:
    regions = {name: uh.stability(name) for name in REGIONS}
    for name, region in regions.items():
        region.map(points=10)
        seconds = in_turn(3, map=lambda region=region: _timed(lambda: region.map(points=SIDE)))["map"]
        print(f"region of {name} on {SIDE**2:,} points: {seconds:.2f} s (asked: below 1)")


def _explanations() -> None:
    chemistry = uh.Problem.from_file(demo_file("carbonate"))
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 2e4))
    for problem, method, rtol in ((chemistry, "dormand-prince-54", 1e-6), (swing, "verner-76", 1e-9)):
        run = uh.integrate(problem, method, rtol=rtol)
        uh.explain(run)
        with _counting_others() as others:
            seconds = _timed(lambda run=run: uh.explain(run))
        spent = sum(others)
        again = _timed(lambda p=problem, m=method, r=rtol: uh.integrate(p, m, rtol=r))
        print(
            f"explain a run of {run.tally.accepted:,} steps ({again:.2f} s): {seconds:.2f} s, {spent:.2f} s of it "
            f"other runs; without them {(seconds - spent) / again:.2f} times the run (asked: below 2)"
        )


@contextmanager
def _counting_others() -> Iterator[list[float]]:
    """Count the seconds of the candidate runs, wherever they are asked for."""
    plain, spent = candidates.again, list[float]()

    def counted(*arguments: Any, **options: Any) -> Any:
        begun = time.perf_counter()
        found = plain(*arguments, **options)
        spent.append(time.perf_counter() - begun)
        return found

    with ExitStack() as stack:
        for room in (candidates, explain, tolerance_diagnosis):
            stack.enter_context(patch.object(room, "again", counted))
        yield spent


def _certificates() -> None:
    problems = {
        "a swing": uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 20)),
        "two species": uh.Problem.from_text(
            "a' = 1 + a^2*b - 4*a\nb' = 3*a - a^2*b", initial={"a": 1.5, "b": 3}, interval=(0, 20)
        ),
        "the sluice pond": uh.Problem.from_file(demo_file("sluice-pond")),
    }
    for name, problem in problems.items():
        found = uh.certify(problem, 10)
        uh.integrate(problem, rtol=1e-10)

        def run(problem: uh.Problem = problem) -> float:
            return _timed(lambda: [uh.integrate(problem, rtol=1e-10) for _ in range(CALLS)]) / CALLS

        def certify(problem: uh.Problem = problem) -> float:
            return _timed(lambda: uh.certify(problem, 10))

        seconds = in_turn(5, run=run, certify=certify)
        ratio, done = seconds["certify"] / seconds["run"], "done" if found.certified else "refused"
        print(f"certify {name} to 10 digits ({done}): {1e3 * seconds['certify']:.0f} ms, {ratio:.0f} times a plain run "
              "at rtol 1e-10 (asked: below 100)")  # fmt: skip


def _limits() -> None:
    relaxing = uh.Problem.from_text("y'' = 8*(1 - y^2)*y' - y", initial={"y": 2, "y'": 0}, interval=(0, 80))
    uh.largest_step(relaxing, "adams-bashforth-4")
    seconds = _timed(lambda: uh.largest_step(relaxing, "adams-bashforth-4"))
    print(f"largest step of adams-bashforth-4 on a relaxation oscillator: {seconds:.2f} s")
