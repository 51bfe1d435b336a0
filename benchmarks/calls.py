"""What a call costs besides its steps: a ready problem, a changed copy, a switch that is crossed."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable

from explicit import LORENZ
from pairing import in_turn

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.input.event import Event
from unhurried_heron.problem.problem import Problem

# a few steps only
READY = LORENZ.with_(interval=(0, 0.01))
LOCATED = Problem.from_text(
    "x' = v\nv' = where(x > 0, -1, 1)*k", initial={"x": 1, "v": 0}, parameters={"k": 100}, interval=(0, 50)
)
TIMED = Problem.from_text("x' = where(sin(50*t) > 0, 1, -1)", initial={"x": 1}, interval=(0, 6))
EVENT = Event("x = 50")
PULSE = Problem.from_text("x' = exp(-((t - at)/0.01)^2) - x", initial={"x": 0}, parameters={"at": 5}, interval=(0, 20))
STEADY = Problem.from_text(
    "x' = exp(-((t - 5)/0.01)^2) - at*x", initial={"x": 0}, parameters={"at": 5}, interval=(0, 20)
)
TANKS = Problem.from_text(
    "u[k]' = u[k-1] - u[k] + sin(t) for k in 1..40\nu[0] = 0", initial={"u[k]": "k"}, interval=(0, 0.01)
)
REPEATS = 20


def each(what: Callable[[], object], count: int = 1) -> Callable[[], float]:
    """Microseconds of a call, divided by ``count``."""

    def measure() -> float:
        begun = time.perf_counter()
        for _ in range(REPEATS):
            what()
        return (time.perf_counter() - begun) / (REPEATS * count) * 1e6

    what()
    return measure


def with_others(problem: Problem) -> Callable[[], object]:
    """Return a call that gives a parameter another value at every turn."""
    values = itertools.count(1)

    def call() -> object:
        return integrate(problem.with_(parameters={"at": 3 + 1e-4 * next(values)}), record=2)

    return call


def report() -> None:
    """Print microseconds, and what was asked for."""
    located, timed = (len(integrate(problem, record=2).switches) for problem in (LOCATED, TIMED))
    found = in_turn(
        call=each(lambda: integrate(READY, record=2)),
        event=each(lambda: integrate(READY, record=2, events=[EVENT])),
        copy=each(lambda: READY.with_(parameters={"r": 29})),
        located=each(lambda: integrate(LOCATED, record=2), located),
        timed=each(lambda: integrate(TIMED, record=2), timed),
        pulse=each(with_others(PULSE)),
        steady=each(with_others(STEADY)),
        tanks=each(lambda: integrate(TANKS)),
    )
    print(
        f"   integrate on a ready problem: {found['call']:.0f} us (asked: 150), with an event {found['event']:.0f} us"
    )
    print(f"   all steps kept, on 40 states: {found['tanks']:.0f} us")
    print(f"   with_(parameters=...): {found['copy']:.0f} us (asked: 50)")
    print(f"   a located switch, with the steps between: {found['located']:.0f} us; one of known time: "
          f"{found['timed']:.0f} us (asked: 20 without the steps)")  # fmt: skip
    print(f"   20 units of time with another value at each call: of a narrow pulse {found['pulse']:.0f} us, beside one "
          f"{found['steady']:.0f} us")  # fmt: skip
