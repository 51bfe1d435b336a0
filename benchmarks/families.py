"""Families of states: time to formulate against their size, and their rates against the same loop in C."""

from __future__ import annotations

import ctypes
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from pairing import compile_c, in_turn, verdict

from unhurried_heron.codegen.compile_formulas import _machine_code
from unhurried_heron.codegen.system import native_system
from unhurried_heron.problem.problem import Problem

COLUMN = """
u[i]' = k*(u[i-1] - 2*u[i] + u[i+1])/dx^2 - demand*u[i]/(half + u[i]) for i in 1..n
u[0] = top
u[n+1] = u[n]
"""
VALUES = {"k": 4.2, "dx": 0.5, "demand": 14.0, "half": 8.0, "top": 270.0}


def column(n: int) -> Problem:
    """Make a column of n layers."""
    return Problem.from_text(COLUMN, initial={"u": 100.0}, parameters={**VALUES, "n": n}, interval=(0, 1))


def report_sizes() -> None:
    """Print the time from text to ready for growing families."""
    before = 0.0
    for n in (1_000, 10_000, 100_000, 1_000_000):
        times, patterns = [], []
        for _ in range(5):
            _machine_code.cache_clear()
            begun = time.perf_counter()
            problem = column(n)
            native_system(problem, ())
            ready = time.perf_counter()
            problem.jacobian_pattern()
            times.append(ready - begun)
            patterns.append(time.perf_counter() - ready)
        best, pattern = 1e3 * min(times), 1e3 * min(patterns)
        grown = f", {best / before:.1f} times the one before" if before else ""
        bound = "" if n != 100_000 else f" (asked: under 1000) {'ok' if best < 1000 else 'MISSED'}"
        print(f"   {n:,} indexed unknowns: text to rates {best:.1f} ms{grown}{bound}; pattern {pattern:.1f} ms")
        before = best


def report_rates() -> None:
    """Print the speed of a family's rates against the same loop in C."""
    pointer, double = ctypes.c_void_p, ctypes.c_double
    for flags in ((), ("-march=native",)):
        in_c = compile_c("families.c", *flags).rates
        in_c.argtypes = [double, pointer, pointer, pointer, ctypes.c_long]
        for n in (1_000, 100_000):
            native = native_system(column(n), ()).rates
            ours = ctypes.CFUNCTYPE(ctypes.c_int, double, pointer, pointer, pointer)(native.address)
            u, out, out_c = np.linspace(1, 270, n), np.empty(n), np.empty(n)
            numbers = np.array([*VALUES.values()])
            turns = 5_000_000 // n
            mine = (0.0, u.ctypes.data, out.ctypes.data, native.context_address)
            theirs = (0.0, u.ctypes.data, out_c.ctypes.data, numbers.ctypes.data, n)
            found = in_turn(ours=timed(ours, mine, turns), c=timed(in_c, theirs, turns))
            assert np.allclose(out, out_c, rtol=1e-12)
            name = " ".join(("gcc -O3", *flags))
            verdict(f"family kernel / {name}, {n:,} members", found["ours"] / found["c"], 1.2)
            each = {key: 1e9 * value / turns / n for key, value in found.items()}
            print(f"      {each['ours']:.2f} and {each['c']:.2f} ns a member")


def timed(function: Any, arguments: tuple[Any, ...], turns: int) -> Callable[[], float]:
    """Return a measure of so many calls."""

    def measure() -> float:
        begun = time.perf_counter()
        for _ in range(turns):
            function(*arguments)
        return time.perf_counter() - begun

    return measure
