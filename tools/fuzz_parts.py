"""Random calls, numbers, names, command lines, events, indices and methods: each a part of `fuzz.py`.

A part makes one example from a source of random numbers. It returns where it is answered, raises an error of the
library where it is refused, and raises AssertionError where an answer is wrong.
"""

from __future__ import annotations

import contextlib
import io
import os
import pickle
import random
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from typer.testing import CliRunner

import unhurried_heron as uh
from unhurried_heron.cli.app import app

ODD: list[Any] = [
    None, True, 0, -1, 3, 2.5, -0.0, 1e308, 1e-320, 10**400, 2**63, float("nan"), float("inf"), 1j, "", "x", "y",
    "w", "1 h",
    "2 furlong", "x = 0.5", "x' = -x", b"x", [], [1, 2], ["x"], ("x", "y"), (0, 1), {}, {"x": 1},
    {"x": "1 m"}, {1: 2}, {"x"},
    np.array([1.0, 2.0]), np.array(["x"]), np.array(3), np.int64(2), np.float32(0.1), object(), range(3), len,
    "a\x1b[31m",
    "\x00", "[/red]", "$x_1^{", "µ", "μ", "π", "x" * 5000, "(" * 300, "1e999", "0x10", "_", "é", "𝒙", "x\ny",
]  # fmt: skip
POND = uh.Problem.from_text(
    "x' = -x + q\ny' = x*y0 - y\nw = x*y", initial={"x": 1, "y": 0.5}, parameters={"y0": 0.3}, interval=(0, 2),
    inputs={"q": uh.Measured([0, 1, 2], [0, 1, 0])}, events=[uh.Event("x = 0.7", name="mark")], conserved=["0*x"],
)  # fmt: skip
RUN, SHORT = uh.integrate(POND), uh.integrate(POND, "heun-2", step=0.5)
METHODS = ["auto", "heun-2", "radau-iia-5", "adams-bashforth-2", "hairer-wanner-43", "runge-kutta-chebyshev-2"]
LETTERS = ["i", "k", "s"]


def odd(given: random.Random) -> Any:
    """Return a value that hardly fits anywhere."""
    value = given.choice(ODD)
    return [value, given.choice(ODD)] if given.random() < 0.1 else value


CALLS: dict[str, Callable[[Any, Any], Any]] = {
    "initial": lambda v, w: POND.with_(initial={"x": v, "y": w} if w is not v else v),
    "parameters": lambda v, w: POND.with_(parameters={"y0": v} if w is None else v),
    "interval": lambda v, w: POND.with_(interval=(v, w)),
    "at": lambda v, w: RUN.at(v, w),
    "item": lambda v, w: RUN[v],
    "table": lambda v, w: RUN.table(v),
    "mean": lambda v, w: RUN.mean(v, w),
    "crossings": lambda v, w: RUN.crossings(v, going=w),
    "extremes": lambda v, w: RUN.extremes(v),
    "settles": lambda v, w: RUN.settles("x", v, w),
    "where": lambda v, w: RUN.where(v),
    "extend": lambda v, w: SHORT.extend(v),
    "recorded": lambda v, w: RUN.recorded(v),
    "tolerances": lambda v, w: uh.integrate(POND, rtol=v, atol=w, budget={"steps": 999}),
    "step": lambda v, w: uh.integrate(POND, "heun-2", step=v, budget={"steps": 999}),
    "count": lambda v, w: uh.integrate(POND, "heun-2", count=v, budget={"steps": 999}),
    "record": lambda v, w: uh.integrate(POND, record=v),
    "budget": lambda v, w: uh.integrate(POND, budget=v),
    "method": lambda v, w: uh.integrate(POND, v),
    "starting_step": lambda v, w: uh.integrate(POND, starting_step=v, largest_step=w, budget={"steps": 999}),
    "events": lambda v, w: uh.integrate(POND, events=v),
    "compare": lambda v, w: uh.compare(POND, v, rtol=w, budget={"steps": 99}),
    "stability": lambda v, w: uh.stability(v, order=w),
    "step_table": lambda v, w: uh.step_table(POND, "heun-2", step=v, steps=w),
    "draw_states": lambda v, w: uh.draw_states(RUN, v),
    "draw_phase": lambda v, w: uh.draw_phase(RUN, v, w),
    "measured": lambda v, w: uh.Measured(v, w),
    "budget object": lambda v, w: uh.Budget(steps=v, seconds=w),
    "write_csv": lambda v, w: uh.write_csv(v, w),
    "rates_at": lambda v, w: POND.rates_at(v, w),
    "exact_at": lambda v, w: RUN.exact_at(v),
    "problem": lambda v, w: uh.Problem.from_text(v, initial=w, interval=(0, 1)),
    "rates": lambda v, w: uh.Problem.from_rates(lambda t, y: v, initial={"a": 1, "b": 1}, interval=(0, 1)),
    "sparsity": lambda v, w: uh.Problem.from_rates(lambda t, y: y, initial={"a": 1}, interval=(0, 1), sparsity=v),
    "units": lambda v, w: uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), units={"x": v, "t": w}),
    "title": lambda v, w: uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), title=v),
}


def calls(given: random.Random) -> None:
    """Call something with values that hardly fit."""
    name = given.choice(list(CALLS))
    with tempfile.TemporaryDirectory() as folder:
        before = os.getcwd()
        os.chdir(folder)
        try:
            CALLS[name](odd(given), odd(given))
        finally:
            os.chdir(before)
    # figures that nobody shows would stay
    import matplotlib.pyplot as plt

    plt.close("all")


def numbers(given: random.Random) -> None:
    """Integrate at odd scales of times, states, tolerances; whatever is answered can be read."""

    def size() -> float:
        return given.choice([-1, 1]) * 10.0 ** given.uniform(-30, 30) * given.choice([0, 1, 1, 1])

    start, length = given.choice([0.0, size()]), size()
    values = {"a": given.choice([1, 1 / length if length else 1, size()]), "b": size()}
    interval = (start, start + length)
    problem = uh.Problem.from_text("x' = a*(b - x)", initial={"x": size()}, parameters=values, interval=interval)
    run = uh.integrate(problem, given.choice(METHODS[:3]), rtol=10.0 ** given.uniform(-15, 0), budget={"steps": 2000})
    run.frame()
    run.at(run.ending.time)
    str(run)
    assert run.ending.reason != "end" or np.isfinite(run.states).all()


def names(given: random.Random) -> None:
    """Call states, parameters, events and titles anything; what is not refused is written, drawn, read and pickled."""
    name, other, title = (given.choice(["x", "level", "µ", "a1", "é_2", *map(str, ODD)])[:40] for _ in range(3))
    problem = uh.Problem.from_text(
        f"{name}' = -{other}*{name}", initial={name: 1}, parameters={other: 1}, interval=(0, 1), title=title,
        events=[uh.Event(f"{name} = 0.5", name=given.choice([title, other, name]))],
    )  # fmt: skip
    run = uh.integrate(problem)
    again = pickle.loads(pickle.dumps(run))
    assert again.final == run.final
    with tempfile.TemporaryDirectory() as folder:
        uh.draw_states(run).savefig(Path(folder) / "states.png")
        problem.to_file(Path(folder) / "pond.toml")
        assert uh.Problem.from_file(Path(folder) / "pond.toml") == problem
        uh.write_csv(run, Path(folder) / "pond.csv")
    assert title.replace("\n", " ") in str(problem)
    import matplotlib.pyplot as plt

    plt.close("all")


FILE = """title = "Pond"
equations = "x' = -k*x + 0*t\\nw = 2*x"
interval = {from = 0, to = 2}
initial = {x = 1}
parameters = {k = 1}
"""
WORDS = [
    "run", "compare", "check", "explain", "certify", "convergence", "stability", "step-table", "methods", "pond.toml",
    "none.toml", "--method",
    "heun-2", "auto,heun-2", "--methods", "--rtol", "1e-4", "1e-4,x", "--atol", "--step", "0.5", "30 min",
    "--count", "4", "--set",
    "k=2", "x=3 m", "k", "q=1", "--from", "--to", "1", "-1", "nan", "inf", "--budget", "50steps", "1s", "--record",
    "--csv", "o.csv",
    "--json", "o.json", "--plot", "o.png", "o.xyz", ".", "--exact", "--draw", "x,w", "--phase", "x,w", "--overlay",
    "k=1,2",
    "--crossings", "x = 0.5", "--mean", "x", "--where", "x > 0.5", "--period", "--extremes", "w", "--digits", "3",
    "--at",
    "--halvings", "2", "--steps", "--best", "1e-3", "--by", "--sort", "seconds", "--for", "--window", "-4,1,-3,3",
    "--order", "2",
    "--seconds", "0.3", "", "\x1b[31m", "[/red]",
]  # fmt: skip


def command_lines(given: random.Random) -> None:
    """Type anything; the tool ends with a code and its own words."""
    words = [given.choice(WORDS[:9]), given.choice(WORDS[9:11]), *given.choices(WORDS[9:], k=given.randint(0, 7))]
    with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stderr(io.StringIO()):
        before = os.getcwd()
        os.chdir(folder)
        try:
            Path("pond.toml").write_text(FILE)
            found = CliRunner().invoke(app, words)
        finally:
            os.chdir(before)
    if found.exception is not None and not isinstance(found.exception, SystemExit):
        raise found.exception


CONDITIONS = [
    "x = {}",
    "x > {}",
    "y < {}",
    "x - y = {}",
    "sin(9*t) = {}",
    "x*y = {}",
    "w = {}",
    "t = {}",
    "abs(x) = {}",
]
ACTIONS = ["x = {}", "x = -{}*x", "y = y + {}", "k = {}", "x = y\ny = x", "x = 1/(x - {})", None]


def events(given: random.Random) -> None:
    """Watch and act; a run and its events agree with each other."""

    def one() -> uh.Event:
        value, kind = round(given.uniform(-1, 2), given.randint(0, 3)), given.random()
        then = given.choice(ACTIONS)
        user_input: dict[str, Any] = {"then": then and then.format(value), "stop": given.random() < 0.1}
        if given.random() < 0.3:
            user_input |= {"at_most": given.randint(1, 4)}
        if given.random() < 0.2:
            user_input |= {"only_if": "x > 0"}
        if kind < 0.2:
            return uh.Event(every=given.choice([0.3, "0.5", 1e-3, abs(value)]), **user_input)
        if kind < 0.3:
            return uh.Event(at=[given.uniform(-1, 3) for _ in range(3)], **user_input)
        return uh.Event(
            given.choice(CONDITIONS).format(value), going=given.choice(["up", "down", "either"]), **user_input
        )

    watched = [one() for _ in range(given.randint(1, 4))]
    watched = list({event.name: event for event in watched}.values())
    problem = uh.Problem.from_text(
        "x' = y\ny' = -k*x\nw = x^2 + y", initial={"x": 1, "y": 0}, parameters={"k": 2}, interval=(0, 2), events=watched
    )
    run = uh.integrate(problem, given.choice(METHODS), rtol=1e-6, budget={"seconds": 2})
    times = run.events["time"].to_numpy()
    assert (np.diff(times) >= 0).all()
    assert len(run.events) == times.size
    assert run.times[-1] == run.ending.time
    run.watched  # noqa: B018  # that it can be asked
    run.frame()
    for event in watched:
        count = int((run.events["name"] == event.name).sum())
        assert event.at_most is None or count <= event.at_most


def indices(given: random.Random) -> None:
    """Write sums within sums with few letters; rename them, write derived quantities out, and permute the lines."""

    def term(free: list[str], depth: int) -> str:
        kind = given.random()
        if depth == 0 or kind < 0.3:
            return given.choice([*(f"u[{letter}]" for letter in free), *free, "u[1]", "u[4]", "0.5", "w"])
        if kind < 0.6:
            letter = given.choice(LETTERS)
            low = given.randint(1, 3)
            return f"sum({term([*free, letter], depth - 1)} for {letter} in {low}..{given.randint(low, 4)})"
        return f"({term(free, depth - 1)} {given.choice('+-*')} {term(free, depth - 1)})"

    derived = term([], 2).replace("w", "0.25")
    rate = term(["i"], 2)
    lines = [f"w = {derived}", f"u[i]' = {rate} - u[i] for i in 1..4", "v' = w - v + u[2]"]
    fresh = {"i": "a1", "k": "b1", "s": "c1"}

    def renamed(text: str) -> str:
        for old, new in fresh.items():
            text = text.replace(f"[{old}]", f"[{new}]").replace(f" {old} in", f" {new} in")
            for before in "( ":
                for after in ") ":
                    text = text.replace(f"{before}{old}{after}", f"{before}{new}{after}")
        return text

    out = [line.replace("w", f"({derived})") for line in lines[1:]]
    shuffled = given.sample(lines, 3)
    state = np.array([given.uniform(-1, 1) for _ in range(5)])
    values = {"u": state[:4], "v": float(state[4])}
    found = []
    for text in (lines, list(map(renamed, lines)), out, shuffled):
        problem = uh.Problem.from_text("\n".join(text), initial=values, interval=(0, 1))
        order = [problem.states.index(name) for name in ("u[1]", "u[2]", "u[3]", "u[4]", "v")]
        start = problem.start
        rates = np.array(problem.rates_at(0.0, start))[order]
        jacobian = np.asarray(problem.jacobian_at(0.0, start))[np.ix_(order, order)]
        found.append(np.concatenate([rates, jacobian.ravel()]))
    for other in found[1:]:
        assert np.allclose(found[0], other, rtol=1e-12, atol=1e-12), "\n".join(lines)


def methods(given: random.Random) -> None:
    """Make methods of random coefficients; what is accepted runs and tells its stability."""
    stages = given.randint(1, 4)
    numbers = [round(given.uniform(-1, 1), given.randint(0, 2)) for _ in range(stages**2)]
    a = [
        [numbers[stages * i + j] if j < i or given.random() < 0.1 else 0.0 for j in range(stages)]
        for i in range(stages)
    ]
    b = [given.choice([0.0, 1.0, 0.5, round(given.uniform(-1, 2), 2)]) for _ in range(stages)]
    if given.random() < 0.7 and sum(b):
        b = [each / sum(b) for each in b]
    extra: dict[str, Any] = {"b_embedded": given.sample(b, stages)} if given.random() < 0.3 else {}
    if given.random() < 0.1:
        a, b = odd(given), odd(given)
    method = uh.RungeKutta("mine", a=a, b=b, **extra)
    run = uh.integrate(uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1)), method, count=64)
    assert run.ending.reason != "end" or np.isfinite(run.final["x"])
    uh.stability(method)


PARTS: dict[str, Callable[[random.Random], None]] = {
    "calls": calls,
    "numbers": numbers,
    "names": names,
    "command-lines": command_lines,
    "events": events,
    "indices": indices,
    "methods": methods,
}
