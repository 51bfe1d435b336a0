"""From text to native rates and Jacobian in a warm process: plain, coupled, and in families."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time

import families

from unhurried_heron.codegen.compile_formulas import _machine_code
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_system
from unhurried_heron.formulas import algebra
from unhurried_heron.problem.problem import Problem

ASKED = {3: 20, 20: 50, 100: 500}


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
            user_input = {
                "initial": {f"x{i}": 1.0 for i in range(n)},
                "parameters": {**{f"k{i}": 1.0 for i in range(n)}, "d": 0.1},
            }
            begun = time.perf_counter()
            problem = Problem.from_text(chain(n, 100 * variant), interval=(0, 1), **user_input)
            read = time.perf_counter()
            with_jacobian(native_system(problem, ()), problem)
            done = time.perf_counter()
            if variant > 1:
                text.append(1e3 * (read - begun))
                native.append(1e3 * (done - read))
        total = statistics.median(a + b for a, b in zip(text, native, strict=True))
        bound = f" (asked: under {ASKED[n]}) {'ok' if total < ASKED[n] else 'MISSED'}" if n in ASKED else ""
        print(f"   {n} states: text to problem {statistics.median(text):.1f} ms, derivatives and machine code "
              f"{statistics.median(native):.1f} ms, in all {total:.1f} ms{bound}")  # fmt: skip
    begun = time.perf_counter()
    with_jacobian(native_system(problem.with_(parameters={"d": 0.2}), ()), problem)
    print(f"   the same equations with another parameter value: {1e3 * (time.perf_counter() - begun):.2f} ms, "
          f"{_machine_code.cache_info().misses} structures compiled in all")  # fmt: skip
    coupled()
    families.report_sizes()
    families.report_rates()


def joined(n: int, variant: int) -> str:
    """Oscillators of second order in pairs, each pair coupled in its highest derivatives."""
    lines = []
    for i in range(0, n, 2):
        a, b = f"x{i}", f"x{i + 1}"
        lines.append(f"(m + k*{a})*{a}'' + c*cos({b})*{b}'' = -{a} + {variant + i}.5*sin(t)")
        lines.append(f"{a}''/2 + {b}'' + k*{b} - c*{a}' = 0")
    return "\n".join(lines)


def coupled() -> None:
    """Print the time of equations that have to be solved for their highest derivatives, SymPy's share apart."""
    spent = [0.0]
    plain = algebra.solve_linear

    def told_apart(*arguments: object) -> object:
        begun = time.perf_counter()
        found = plain(*arguments)
        spent[0] += time.perf_counter() - begun
        return found

    algebra.solve_linear = told_apart
    for n in (2, 10, 50):
        whole, share, first = [], [], 0.0
        algebra._solve.cache_clear()
        for variant in range(8):
            initial = {f"x{i}" + "'" * k: 0.1 for i in range(n) for k in (0, 1)}
            spent[0] = 0.0
            begun = time.perf_counter()
            problem = Problem.from_text(
                joined(n, 100 * variant), initial=initial, parameters={"m": 2, "k": 0.1, "c": 0.3}, interval=(0, 1)
            )
            with_jacobian(native_system(problem, ()), problem)
            if variant == 0:
                first = 1e3 * spent[0]
            if variant > 1:
                whole.append(1e3 * (time.perf_counter() - begun))
                share.append(1e3 * spent[0])
        total = statistics.median(whole)
        bound = f" (asked: under {ASKED[2 * n]}) {'ok' if total < ASKED[2 * n] else 'MISSED'}" if 2 * n in ASKED else ""
        print(f"   {n} coupled equations of second order, {2 * n} states: {total:.1f} ms{bound}, of which SymPy "
              f"{statistics.median(share):.1f} ms; {first:.0f} ms when their form is first met")  # fmt: skip
    algebra.solve_linear = plain
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-c", "import sympy"], check=True)
    print(f"   importing SymPy, where equations are coupled: {time.perf_counter() - begun:.2f} s of a cold process")
