"""Measuring two things in turn, and C code beside the library."""

from __future__ import annotations

import ctypes
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.march import March
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.setup import set_up
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.problem.problem import Problem

ROUNDS = 21


def in_turn(rounds: int = ROUNDS, /, **measures: Callable[[], float]) -> dict[str, float]:
    """Median of each measure over rounds in which they take turns, so that a drifting machine hits all alike."""
    taken: dict[str, list[float]] = {name: [] for name in measures}
    for _ in range(rounds):
        for name, measure in measures.items():
            taken[name].append(measure())
    return {name: statistics.median(values) for name, values in taken.items()}


def side_by_side(rounds: int, one: Callable[[], float], other: Callable[[], float]) -> tuple[float, float, float]:
    """Median of the ratio of two measures taken one right after the other, and the median of each.

    The order alternates. Where other work comes and goes on the machine, the two of a round meet the same of it, and
    the ratio of medians over minutes would compare different minutes.
    """
    pairs = []
    for number in range(rounds):
        if number % 2:
            second, first = other(), one()
        else:
            first, second = one(), other()
        pairs.append((first / second, first, second))
    ratio, first, second = (statistics.median(values) for values in zip(*pairs, strict=True))
    return ratio, first, second


def compile_c(source: str, *flags: str) -> ctypes.CDLL:
    """Compile a C file of this folder with gcc -O3 and load it."""
    target = Path(tempfile.mkdtemp()) / "twin.so"
    here = Path(__file__).parent / source
    subprocess.run(["gcc", "-O3", *flags, "-shared", "-fPIC", "-o", str(target), str(here), "-lm"], check=True)
    return ctypes.CDLL(str(target))


def prepared(problem: Problem, method: str, rtol: float, atol: float, first: float) -> March:
    """A march laid out as `integrate` does where every step and attempt is kept, with every tolerance given."""
    n = len(problem.states)
    request = RunRequest(
        problem=problem,
        method=find_method(method),
        events=(),
        relative=np.full(n, rtol),
        absolute=np.full(n, atol),
        fixed=None,
        first=first,
        longest=np.inf,
        record="steps",
        times=None,
        ledger=True,
        held=True,
        budget=Budget(),
    )
    march = set_up(request, "dense").march
    rewind(march, problem, first)
    return march


def rewind(march: March, problem: Problem, first: float) -> None:
    """Set a march back to its start."""
    control, before = march.control, march.control.copy()
    control[:] = 0
    for kept in ("table", "order", "estimate_order", "adaptive", "every_step", "largest_step"):
        control[kept] = before[kept]
    control["time"], control["end"] = problem.interval
    control["step"] = first
    control["bad_component"] = control["guard"] = -1
    control["attempts_left"] = control["evaluation_limit"] = 2**60
    march.system.state[:] = [*problem.initial.values()]


def seconds_of(march: March, problem: Problem, first: float) -> float:
    """Seconds of a march from its start to its end, in chunks that are not kept."""
    rewind(march, problem, first)
    begun = time.perf_counter()
    while march.chunk() == 1:
        pass
    return time.perf_counter() - begun


def attempts_of(march: March) -> int:
    """Attempted steps of the last march."""
    return int(march.control["accepted"][0] + march.control["refused"][0])


def verdict(name: str, ratio: float, limit: float) -> None:
    """Print a ratio beside what was asked for."""
    print(f"   {name}: {ratio:.2f} (asked: at most {limit:g}) {'ok' if ratio <= limit else 'MISSED'}")
