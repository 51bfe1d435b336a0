"""From text to native rates and Jacobian, in a warm process."""

from __future__ import annotations

import statistics
import time

from unhurried_heron.native.expressions import _machine_code
from unhurried_heron.native.system import native_system
from unhurried_heron.problem.problem import Problem


def chain(n: int, variant: int) -> str:
    """Reactions of n species with their neighbours, saturating and periodic terms; never the same text twice."""
    lines = []
    for i in range(n):
        before, after = (i - 1) % n, (i + 1) % n
        lines.append(
            f"x{i}' = k{i}*x{before}*x{i}/(1 + x{after}) - d*x{i}^2 + sin(x{after})*exp(-x{i}) + {variant + i}.5*t"
        )
    return "\n".join(lines)


def report() -> None:
    """Print the time to formulate and compile, told apart."""
    for n in (3, 20, 100, 500):
        text, native = [], []
        for variant in range(12 if n < 100 else 5):
            said = {
                "initial": {f"x{i}": 1.0 for i in range(n)},
                "parameters": {**{f"k{i}": 1.0 for i in range(n)}, "d": 0.1},
            }
            begun = time.perf_counter()
            problem = Problem.from_text(chain(n, 100 * variant), interval=(0, 1), **said)
            read = time.perf_counter()
            native_system(problem, (), with_jacobian=True)
            done = time.perf_counter()
            if variant > 1:
                text.append(1e3 * (read - begun))
                native.append(1e3 * (done - read))
        total = statistics.median(a + b for a, b in zip(text, native, strict=True))
        print(f"   {n} states: text to problem {statistics.median(text):.1f} ms, derivatives and machine code "
              f"{statistics.median(native):.1f} ms, in all {total:.1f} ms")  # fmt: skip
        if n == 20:
            print(f"   20 states with Jacobian: {total:.1f} ms (asked: under 50) {'ok' if total < 50 else 'MISSED'}")
    begun = time.perf_counter()
    native_system(problem.with_(parameters={"d": 0.2}), (), with_jacobian=True)
    print(f"   the same equations with another parameter value: {1e3 * (time.perf_counter() - begun):.2f} ms, "
          f"{_machine_code.cache_info().misses} structures compiled in all")  # fmt: skip
