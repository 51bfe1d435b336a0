"""Queries of random runs whose every answer follows from their closed form: sums of waves on a slope."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.arrays import Array

END = 12.0
SEEDS = range(12)
METHODS = ["auto", "dormand-prince-853", "radau-iia-9", "adams-variable", "gauss-6"]


class Waves:
    """A random sum of waves on a slope, its derivative and its integral."""

    def __init__(self, seed: int) -> None:
        given = np.random.default_rng(seed)
        self.heights = given.uniform(0.2, 1.0, 3)
        self.speeds = given.uniform(0.4, 4.0, 3)
        self.phases = given.uniform(0.0, 2.0 * np.pi, 3)
        self.climb = given.uniform(-0.1, 0.1)

    def __call__(self, t: Array) -> Array:
        t = np.asarray(t)
        return self.climb * t + np.sin(t[..., None] * self.speeds + self.phases) @ self.heights

    def derivative(self, t: Array) -> Array:
        t = np.asarray(t)
        return self.climb + np.cos(t[..., None] * self.speeds + self.phases) @ (self.heights * self.speeds)

    def integral(self, start: float, end: float) -> float:
        ends = np.array([start, end])[:, None] * self.speeds + self.phases
        waves = -np.cos(ends) @ (self.heights / self.speeds)
        return float(self.climb * (end**2 - start**2) / 2 + waves[1] - waves[0])

    def text(self) -> str:
        parts = [
            f"{h * s!r}*cos({s!r}*t + {p!r})" for h, s, p in zip(self.heights, self.speeds, self.phases, strict=True)
        ]
        return f"x' = {self.climb!r} + " + " + ".join(map(str, parts)).replace("np.float64", "")

    def zeros(self, function: object, level: float = 0.0) -> Array:
        """Return where a function of time passes a level, found on a fine grid and halved to rounding."""
        t = np.linspace(0.0, END, 40_001)
        values = function(t) - level
        low = t[:-1][values[:-1] * values[1:] < 0]
        high = low + t[1]
        rising = function(high) > level
        for _ in range(60):
            middle = 0.5 * (low + high)
            above = (function(middle) > level) == rising
            low, high = np.where(above, low, middle), np.where(above, middle, high)
        return 0.5 * (low + high)


def run_of(waves: Waves, method: str, *, back: bool = False) -> uh.Run:
    interval = (END, 0.0) if back else (0.0, END)
    problem = uh.Problem.from_text(waves.text(), initial={"x": float(waves(interval[0]))}, interval=interval)
    return uh.integrate(
        problem, method, **({"step": 1 / 64} if method == "gauss-6" else {"rtol": 1e-11, "atol": 1e-12})
    )


@pytest.mark.parametrize(("method", "back"), [(method, k % 2 == 1) for k, method in enumerate(METHODS)])
@pytest.mark.parametrize("seed", SEEDS)
def test_answers_follow_from_the_closed_form(seed: int, method: str, back: bool) -> None:
    waves = Waves(seed)
    run = run_of(waves, method, back=back)
    given = np.random.default_rng(1000 + seed)
    times = given.uniform(0.0, END, 200)
    assert run.at(times, "x") == pytest.approx(waves(times), abs=2e-8)

    order = slice(None, None, -1 if back else 1)
    level = float(waves(given.uniform(0.0, END)))
    crossed = waves.zeros(waves, level)[order]
    found = run.crossings(f"x = {level!r}")
    assert found["time"].to_numpy() == pytest.approx(crossed, abs=1e-6)
    assert found["x"].to_numpy() == pytest.approx(np.full(crossed.size, level), abs=1e-8)
    up = (waves.derivative(crossed) > 0) != back
    assert (found["going"] == "up").tolist() == up.tolist()
    above = run.where(f"x > {level!r}")
    held = float((above["to"] - above["from"]).abs().sum())
    fine = np.linspace(0.0, END, 400_001)
    assert held == pytest.approx(END * np.mean(waves(fine) > level), abs=1e-3)

    turned = waves.zeros(waves.derivative)[order]
    turns = run.extremes("x")
    assert turns["time"].to_numpy() == pytest.approx(turned, abs=1e-5)
    assert turns["value"].to_numpy() == pytest.approx(waves(turned), abs=2e-8)

    start, end = np.sort(given.uniform(0.0, END, 2))
    assert run.integral("x", (start, end)) == pytest.approx(waves.integral(start, end), abs=1e-7)
    assert run.mean("x", (start, end)) == pytest.approx(waves.integral(start, end) / (end - start), abs=1e-6)
    sign = -1 if back else 1
    assert run.integral("x") == pytest.approx(sign * waves.integral(0.0, END), abs=1e-7)


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("seed", SEEDS)
def test_runs_in_parts_are_runs_in_one(seed: int, method: str) -> None:
    """Events that stop, and runs that go on, change nothing beyond the tolerance; each time is there once."""
    waves = Waves(seed)
    whole = run_of(waves, method)
    problem = whole.problem
    level = float(waves(np.array(END / np.e)))
    event = uh.Event(f"x = {level!r}", name="level")
    options = {"step": 1 / 64} if method == "gauss-6" else {"rtol": 1e-11, "atol": 1e-12}
    crossed = waves.zeros(waves, level)
    parts = uh.integrate(problem, method, events=[event], interval=(0.0, END / 3), **options)
    for until in (END / 2, END):
        parts = parts.extend(until)
    assert parts.events["time"].to_numpy() == pytest.approx(crossed, abs=1e-6)
    assert (np.diff(parts.times) > 0).all()
    assert parts.times[-1] == END
    times = np.linspace(0.0, END, 501)
    assert parts.at(times, "x") == pytest.approx(whole.at(times, "x"), abs=2e-8)
    stopped = uh.integrate(problem, method, events=[uh.Event(f"x = {level!r}", stop=True)], **options)
    assert stopped.times[-1] == pytest.approx(crossed[0], abs=1e-6)
    assert stopped.final["x"] == pytest.approx(level, abs=1e-8)
