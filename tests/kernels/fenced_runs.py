"""Random problems with known times that lie densely, run in arrays that end at inaccessible pages.

``python fenced_runs.py FIRST LAST`` takes these seeds; the process ends where a kernel leaves an array. Each event of
known times must happen as often as was said, each time within four spacings of where. ``--stray`` writes one byte too
far, to see that this can fail.
"""

import ctypes
import sys
from typing import Any

import numpy as np

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.quiet import quietly
from unhurried_heron.testing.memory import fenced

SIZES = (0.0, 0.0, 1.0, -1.0, 1e-9, 1e6, 1.7e9, -1e12)
SPANS = (1e-9, 1.0, 1e3, 1e6, 1e11)
LINES = (
    "x' = -x/span",
    "x' = (1 + where(x > 1.2, -2, 0))/span",
    "x' = where(t > middle, 1, -1)/span",
    "x' = (rain - x)/span",
    "x' = floor(4*(t - middle)/span)/span",
    "x' = abs(x - 0.5)/span + max(t - middle, 0)/span^2",
)


def spaced(random: np.random.Generator, start: float, end: float, count: int) -> np.ndarray:
    """Times in an interval, evenly, by powers of ten from its start, or within some roundings of each other."""
    kind = random.integers(3)
    if kind == 0:
        times = start + (end - start) * random.random(count)
    elif kind == 1:
        times = start + (end - start) * 10.0 ** random.uniform(-20, 0, count)
    else:
        middle = start + (end - start) * random.random()
        times = middle + np.cumsum(random.integers(1, 12, count)) * np.spacing(abs(middle))
    times = np.unique(times[(times > start) & (times < end)])
    # what is one time with its neighbour is said once
    return times[np.append(True, np.diff(times) > 4 * np.spacing(np.abs(times[1:])))] if times.size else times


def problem_of(random: np.random.Generator) -> tuple[uh.Problem, dict[str, np.ndarray]]:
    """Return a problem, and when each event of known times is to happen."""
    start = float(random.choice(SIZES))
    end = start + max(float(random.choice(SPANS)), 4096 * float(np.spacing(abs(start))))
    lines = random.choice(LINES, size=random.integers(1, 4), replace=False)
    text = "\n".join(line.replace("x", f"x{k}").replace(f"ma{'x'}{k}", "max") for k, line in enumerate(lines))
    known, events = {}, []
    for k in range(random.integers(0, 4)):
        times = spaced(random, start, end, int(random.choice([1, 5, 60, 700])))
        then = random.choice(["x0 = x0 + 0.1", "mode = -mode", "x0 = 1 - x0\nmode = mode + 1"])
        if times.size:
            known[f"known {k}"] = times
            events.append(uh.Event(at=times.tolist(), then=str(then), name=f"known {k}"))
    period = (end - start) / int(random.choice([3, 50, 1000]))
    if period > 8 * np.spacing(max(abs(start), abs(end))) and random.random() < 0.5:
        events.append(uh.Event(every=period, name="every"))
    for k, level in enumerate(random.uniform(-1, 2, random.integers(0, 3))):
        then: Any = {"then": "mode = mode + 1"} if random.random() < 0.5 else {}
        events.append(uh.Event(f"x0 = {level}", name=f"level {k}", **then))
    parameters = {"span": end - start, "middle": 0.5 * (start + end), "mode": 1.0}
    used = {name: value for name, value in parameters.items()
            if name in text or any(name in (event.then or "") for event in events)}  # fmt: skip
    inputs = {}
    if "rain" in text:
        rows = np.unique(np.concatenate([[start], spaced(random, start, end, 300), [end]]))
        inputs = {"rain": uh.Measured(rows, random.random(rows.size), random.choice(["linear", "previous"]))}
    initial = {f"x{k}": 0.3 + k for k in range(len(lines))}
    problem = uh.Problem.from_text(
        text, initial=initial, interval=(start, end), parameters=used, events=events, inputs=inputs
    )
    return problem, known


def run_one(seed: int) -> None:
    random = np.random.default_rng(seed)
    methods = [method for method in all_methods() if method.adaptive]
    method, (problem, known) = methods[int(random.integers(len(methods)))], problem_of(random)
    record = [None, 2, 50, "steps"][int(random.integers(4))]
    options = {} if record is None else {"record": record}
    with quietly(), fenced():
        run = uh.integrate(
            problem, method, rtol=float(random.choice([1e-3, 1e-6])), budget={"steps": 20_000, "seconds": 20}, **options
        )
    for name, times in known.items():
        found = run.events["time"][run.events["name"] == name].to_numpy()
        # where a run ended early, what is one time with its end may have happened or not
        near = 4 * np.spacing(np.abs(times))
        least, most = (int((times + shift * near <= run.ending.time).sum()) for shift in (1, -1))
        least, reached = (times.size, times) if run.ending.reason == "end" else (least, times[:most])
        assert least <= found.size <= reached.size, (
            f"seed {seed}, {method.name}: '{name}' happened {found.size} times of {reached.size}, {run.ending.message}"
        )
        off = np.abs(found - times[: found.size]) / np.spacing(np.abs(times[: found.size]))
        assert (off <= 4).all(), f"seed {seed}: '{name}' {off.max()} spacings off"


if __name__ == "__main__":
    if sys.argv[1] == "--stray":
        with fenced():
            array = np.zeros(5)
        ctypes.memset(array.ctypes.data + array.nbytes, 0, 1)
    for number in range(int(sys.argv[1]), int(sys.argv[2])):
        run_one(number)
    print("all within their arrays")
