"""Sweeps against the same loops in C, on one thread and on two, and what members cost besides their steps."""

from __future__ import annotations

import ctypes
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from explicit import LORENZ
from implicit import ABSOLUTE, HIRES, RELATIVE, by_hand
from implicit import FIRST as FIRST_STIFF
from pairing import compile_c, in_turn, prepared, side_by_side, verdict

from unhurried_heron.driver import lockstep
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.members import march_members
from unhurried_heron.input.event import Event
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.sweeps.sweep import sweep

COUNT, RTOL, ATOL, FIRST = 40_000, 1e-6, 1e-6, 1e-3
STIFF_COUNT = 2000
ROUNDS = 15
LOCKSTEPS = 400
MANY = 1000
SAME = 2e-4
GATES = np.linspace(1.0, 20.0, COUNT)
SHORT = LORENZ.with_(interval=(0, 1.4))
GATE = Problem.from_text(
    "level' = where(t > opens, 0.2, 0) - leak*level\nstock' = level - stock\npeak' = stock - peak",
    parameters={"opens": 6.0, "leak": 0.5},
    initial={"level": 1, "stock": 0, "peak": 0},
    interval=(0, 24),
    events=[Event("level = 0.3", then="stock = stock + 1", going="down")],
)
STIFF = Problem.from_text(
    "a' = -k*a + 1e4*b*c\nb' = k*a - 1e4*b*c - 3e7*b^2\nc' = 3e7*b^2",
    parameters={"k": 0.04}, initial={"a": 1, "b": 0, "c": 0}, interval=(0, 1e4),
)  # fmt: skip


def rows_of(problem: Problem, name: str, values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return parameters and starting states of members that differ in one parameter."""
    parameters = np.tile([problem.parameters[each] for each in problem.model.parameters], (values.size, 1))
    parameters[:, problem.model.parameters.index(name)] = values
    return parameters, np.tile(problem.start, (values.size, 1))


def of_library(problem: Problem, method: str, name: str, values: np.ndarray, threads: int = 1) -> Callable[[], float]:
    """Microseconds an attempt of all members, in compiled code."""
    integrate(problem, method, rtol=RTOL, atol=ATOL, record=2)
    request = next(reversed(problem.model.requests.values()))
    rows = rows_of(problem, name, values)

    def measure() -> float:
        begun = time.perf_counter()
        found = march_members(request, *rows, {name}, threads)
        return (time.perf_counter() - begun) / int(found.counts[:, :2].sum()) * 1e6

    measure()
    return measure


def of_sweeps(
    problem: Problem, method: str, over: dict[str, np.ndarray], threads: int, **options: Any
) -> Callable[[], float]:
    """Microseconds an attempt of a whole call of `sweep`, its dataset included."""

    def measure() -> float:
        begun = time.perf_counter()
        found = sweep(problem, over, method, threads=threads, **options)
        taken = time.perf_counter() - begun
        counts = sum(int(found.dataset[f"tally_{name}"].sum()) for name in ("accepted", "refused"))
        return taken / counts * 1e6

    measure()
    return measure


def gate_in_c(opens: np.ndarray) -> Callable[[], float]:
    """Microseconds an attempt of a loop in C over members with a known time and an event that acts."""
    function, room = compile_c("gate_members.c").gate_members, 1024
    address, number, whole = ctypes.c_void_p, ctypes.c_double, ctypes.c_long
    function.restype = None
    function.argtypes = [address, number, whole, address, *[number] * 3, *[address] * 5, whole]
    interpolant = np.ascontiguousarray(find_method("dormand-prince-54").interpolant.T)
    finals, attempts = np.empty((opens.size, 3)), np.empty(opens.size, dtype=np.int64)
    when, before, start = np.empty(room), np.empty((room, 3)), GATE.start

    def measure() -> float:
        begun = time.perf_counter()
        function(opens.ctypes.data, GATE.parameters["leak"], opens.size, start.ctypes.data, GATE.interval[1], RTOL,
                 ATOL, interpolant.ctypes.data, finals.ctypes.data, attempts.ctypes.data, when.ctypes.data,
                 before.ctypes.data, room)  # fmt: skip
        return (time.perf_counter() - begun) / int(attempts.sum()) * 1e6

    measure()
    (ours,) = np.nonzero(np.abs(finals - _gate_finals(opens)).max(axis=1) > SAME)
    if ours.size:
        raise AssertionError(f"C and the library differ at {opens[ours[:3]]}")
    return measure


def _gate_finals(opens: np.ndarray) -> np.ndarray:
    data = sweep(GATE, {"opens": opens}, "dormand-prince-54", rtol=RTOL, atol=ATOL).dataset
    return np.stack([data[f"final_{name}"].to_numpy() for name in GATE.states], axis=1)


def million_report() -> None:
    """Print what a million members take that go to a folder: time, and the memory of a process of its own."""
    done = subprocess.run([sys.executable, __file__], capture_output=True, text=True, check=True)
    seconds, memory = map(float, done.stdout.split())
    print(f"   {MANY * MANY:,} members into a folder, on one thread: {seconds:.1f} s")
    verdict("memory of that, in 600 MB", memory / 600e6, 1.0)


def million() -> None:
    """March a million members into a folder, and print seconds and the largest memory in bytes."""
    with tempfile.TemporaryDirectory() as folder:
        over = {"r": np.linspace(20, 30, MANY), "s": np.linspace(8, 12, MANY)}
        begun = time.perf_counter()
        sweep(SHORT, over, "dormand-prince-54", rtol=RTOL, threads=1, folder=Path(folder) / "many")
        taken = time.perf_counter() - begun
    print(taken, 1024.0 * resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)


def measures_report() -> None:
    """Print what measures of all steps cost in the loop."""
    over = {"r": np.linspace(20.0, 30.0, COUNT // 10)}
    options = {"rtol": RTOL, "atol": ATOL}
    found = in_turn(
        7,
        plain=of_sweeps(SHORT, "dormand-prince-54", over, 1, **options),
        one=of_sweeps(SHORT, "dormand-prince-54", over, 1, measures="largest(x)", **options),
        three=of_sweeps(SHORT, "dormand-prince-54", over, 1, measures=["largest(x)", "mean(y*z)", "smallest(abs(x))"],
                        **options),
    )  # fmt: skip
    print(f"   measures over all steps, microseconds an attempt: none {found['plain']:.3f}, largest(x) "
          f"{found['one']:.3f}, three of which one has kinks {found['three']:.3f}")  # fmt: skip


def lockstep_report() -> None:
    """Print what fixed steps of one explicit method take, of many members at once and one after another."""
    over = {"r": np.linspace(20.0, 30.0, COUNT // 4)}
    for method in ("classical-rk-4", "heun-2"):
        together = of_sweeps(SHORT, method, over, 1, count=LOCKSTEPS)
        worth, lockstep.WORTH_STEPS = lockstep.WORTH_STEPS, np.inf
        alone = of_sweeps(SHORT, method, over, 1, count=LOCKSTEPS)

        def one_by_one(alone: Callable[[], float] = alone) -> float:
            kept, lockstep.WORTH_STEPS = lockstep.WORTH_STEPS, np.inf
            taken = alone()
            lockstep.WORTH_STEPS = kept
            return taken

        lockstep.WORTH_STEPS = worth
        found = in_turn(7, together=together, alone=one_by_one)
        print(f"   {method}, fixed steps, nanoseconds each: in lockstep over vector lanes "
              f"{1e3 * found['together']:.1f}, one member after another {1e3 * found['alone']:.1f}: "
              f"{found['alone'] / found['together']:.2f} times as fast")  # fmt: skip


def stiff_report() -> None:
    """Print the same of a stiff problem of eight states, against collocation by hand."""
    starts = np.linspace(0.004, 0.007, STIFF_COUNT)
    march = prepared(HIRES, "radau-iia-5", RELATIVE, ABSOLUTE, FIRST_STIFF)
    run = by_hand(march, HIRES, FIRST_STIFF)
    rows = np.tile(HIRES.start, (STIFF_COUNT, 1))
    rows[:, 7] = starts

    def in_c() -> float:
        begun = time.perf_counter()
        attempts = sum(sum(run(row)[0][:2]) for row in rows)
        return (time.perf_counter() - begun) / attempts * 1e6

    options = {"rtol": RELATIVE, "atol": ABSOLUTE, "starting_step": FIRST_STIFF}
    ours = of_sweeps(HIRES, "radau-iia-5", {"y8": starts}, 1, **options)
    ratio, taken, taken_c = side_by_side(ROUNDS, ours, in_c)
    two, taken_two, _ = side_by_side(ROUNDS, of_sweeps(HIRES, "radau-iia-5", {"y8": starts}, 2, **options), ours)
    print(f"   {STIFF_COUNT:,} members of 8 stiff states, microseconds an attempt: sweep {taken:.3f}, C {taken_c:.3f}, "
          f"on two threads {taken_two:.3f}")  # fmt: skip
    verdict("sweep / C, stiff", ratio, 1 / 0.85)
    verdict("on two threads / on one, stiff", two, 1 / 1.8)


def report() -> None:
    """Print the time per step of both, and what a member costs besides."""
    values = np.linspace(20.0, 30.0, COUNT)
    function = compile_c("explicit_pair.c").march_members
    address, number, whole = ctypes.c_void_p, ctypes.c_double, ctypes.c_long
    function.restype = None
    function.argtypes = [address, address, ctypes.c_int, address, whole, ctypes.c_int, address, *[number] * 5, address,
                         address]  # fmt: skip
    integrate(SHORT, "dormand-prince-54", rtol=RTOL, atol=ATOL, record=2)
    kept = next(iter(SHORT.model.kept.values()))[0][0]
    rates, start = kept.native.rates, SHORT.start
    finals, attempts = np.empty((COUNT, 3)), np.empty(COUNT, dtype=np.int64)
    context = rates.context.copy()

    def in_c() -> float:
        begun = time.perf_counter()
        function(rates.address, context.ctypes.data, SHORT.model.parameters.index("r"), values.ctypes.data, COUNT, 3,
                 start.ctypes.data, *SHORT.interval, FIRST, RTOL, ATOL, finals.ctypes.data,
                 attempts.ctypes.data)  # fmt: skip
        return (time.perf_counter() - begun) / int(attempts.sum()) * 1e6

    def one_by_one() -> float:
        steps, begun = 0, time.perf_counter()
        for value in values[:200].tolist():
            tally = integrate(SHORT, "dormand-prince-54", rtol=RTOL, atol=ATOL, record=2, parameters={"r": value}).tally
            steps += tally.accepted + tally.refused
        return (time.perf_counter() - begun) / steps * 1e6

    ours = of_library(SHORT, "dormand-prince-54", "r", values)
    two = of_library(SHORT, "dormand-prince-54", "r", values, threads=2)
    whole = of_sweeps(SHORT, "dormand-prince-54", {"r": values}, 1, rtol=RTOL, atol=ATOL)
    gate = of_sweeps(GATE, "dormand-prince-54", {"opens": GATES}, 1, rtol=RTOL, atol=ATOL)
    loop_ratio, taken, taken_c = side_by_side(ROUNDS, ours, in_c)
    whole_ratio, _, _ = side_by_side(ROUNDS, whole, in_c)
    two_ratio, _, _ = side_by_side(ROUNDS, two, ours)
    gate_ratio, gate_taken, gate_taken_c = side_by_side(ROUNDS, gate, gate_in_c(GATES))
    found = in_turn(
        5,
        python=one_by_one,
        stiff=of_library(STIFF, "radau-iia-5", "k", np.linspace(0.02, 0.06, COUNT // 100)),
        auto=of_library(STIFF, "auto", "k", np.linspace(0.02, 0.06, COUNT // 100)),
    )
    print(f"   {COUNT:,} members of 3 states and {attempts.mean():.0f} attempted steps, microseconds an attempt:")
    print(f"   compiled loop {taken:.3f}, C {taken_c:.3f}, integrate for each {found['python']:.3f}")
    verdict("compiled loop / C", loop_ratio, 1 / 0.85)
    verdict("sweep with its dataset / C", whole_ratio, 1 / 0.85)
    verdict("on two threads / on one", two_ratio, 1 / 1.8)
    print(f"   with a known time and an event that acts {gate_taken:.3f}, C {gate_taken_c:.3f}")
    verdict("sweep / C with a known time and an event that acts", gate_ratio, 1 / 0.7)
    print(f"   stiff {found['stiff']:.3f}, by auto {found['auto']:.3f}")
    stiff_report()
    lockstep_report()
    measures_report()
    million_report()


if __name__ == "__main__":
    million()
