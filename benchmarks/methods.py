"""The catalogue measured: lowest members against C, work against error on ten problems, step control, large systems."""

from __future__ import annotations

import ctypes
import math
import sys
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
from implicit import HIRES
from pairing import compile_c, in_turn, verdict

import unhurried_heron as uh
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_system
from unhurried_heron.families.controller import CONTROLS
from unhurried_heron.methods.catalogue import DEFAULT, all_methods
from unhurried_heron.methods.method import Method
from unhurried_heron.quiet import quietly

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from data.literature import REFERENCES, literature_problem

SMOOTH = ("pleiades", "brusselator", "kepler_e06", "euler_rigid_body", "hull_b2")
STIFF = ("robertson", "hires", "oregonator", "ehl_d3", "autocatalysis")
# errors at which work is compared, relative to the size of each state
TARGETS = (1e-4, 1e-8)
LORENZ = uh.Problem.from_text(
    "x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", initial={"x": 1, "y": 1, "z": 1}, interval=(0, 40)
)


def truth_of(name: str, problem: uh.Problem) -> np.ndarray:
    """Return the reference at the end of the interval."""
    reference = REFERENCES[name]["reference"]
    key = min(reference, key=lambda text: abs(float(text) - problem.interval[1]))
    return np.array([float(reference[key][state]) for state in problem.states])


def lowest_members() -> None:
    """Print the time per step of the lowest members of three families over that of C."""
    code = compile_c("lowest.c", "-march=native")
    code.backward_euler.restype = ctypes.c_long
    address, number, whole = ctypes.c_void_p, ctypes.c_double, ctypes.c_long
    code.euler.argtypes = code.adams_bashforth_2.argtypes = [
        address,
        address,
        ctypes.c_int,
        address,
        number,
        number,
        whole,
    ]
    code.backward_euler.argtypes = [*[address] * 4, ctypes.c_int, address, number, number, whole, number]
    for method, problem, steps in (("euler", LORENZ, 400_000), ("adams-bashforth-2", LORENZ, 400_000)):
        rates = native_system(problem, ()).rates
        length = problem.interval[1] / steps
        twin = code.euler if method == "euler" else code.adams_bashforth_2

        def c_seconds(
            twin: Any = twin, problem: Any = problem, rates: Any = rates, steps: int = steps, h: float = length
        ) -> float:
            y = np.array([*problem.initial.values()])
            begun = time.perf_counter()
            twin(rates.address, rates.context_address, y.size, y.ctypes.data, 0.0, h, steps)
            return time.perf_counter() - begun

        def ours(method: str = method, problem: Any = problem, steps: int = steps) -> float:
            return uh.integrate(problem, method, count=steps, record=2).tally.seconds

        found = in_turn(11, ours=ours, c=c_seconds)
        print(f"   {method}: {found['ours'] / steps * 1e9:.0f} ns a step, C {found['c'] / steps * 1e9:.0f}")
        verdict("library / C", found["ours"] / found["c"], 1.15)
    native = with_jacobian(native_system(HIRES, ()), HIRES)
    rates, jacobian, steps = native.rates, native.jacobian, 200_000
    assert jacobian is not None
    length = HIRES.interval[1] / steps

    def implicit_c() -> float:
        y = np.array([*HIRES.initial.values()])
        begun = time.perf_counter()
        count = code.backward_euler(
            rates.address, rates.context_address, jacobian.address, jacobian.context_address, y.size, y.ctypes.data,
            0.0, length, steps, 2e-15,
        )  # fmt: skip
        return (time.perf_counter() - begun) / count

    def implicit_ours() -> float:
        tally = uh.integrate(HIRES, "backward-euler", count=steps, record=2).tally
        return tally.seconds / tally.iterations

    found = in_turn(11, ours=implicit_ours, c=implicit_c)
    print(f"   backward-euler, 8 states: {found['ours'] * 1e9:.0f} ns an iteration, C {found['c'] * 1e9:.0f}")
    verdict("library / C", found["ours"] / found["c"], 1.3)


def work_curve(
    problem: uh.Problem, truth: np.ndarray, method: Method | str, **options: Any
) -> list[tuple[float, float, float]]:
    """Return error, evaluations and seconds at falling tolerances."""
    points, size = [], np.abs(truth) + 1e-6 * np.abs(truth).max()
    for exponent in range(2, 13):
        with quietly():
            # what is laid out along the first run stands ready for the second
            run, again = (
                uh.integrate(
                    problem, method, rtol=10.0**-exponent, atol=10.0 ** -(exponent + 4), record=2,
                    budget={"seconds": 2, "steps": 2_000_000}, **options,
                )
                for _ in range(2)
            )  # fmt: skip
        if run.ending.reason == "end":
            error, seconds = float((np.abs(run.states[-1] - truth) / size).max()), again.tally.seconds
            points.append((max(error, 1e-16), float(run.tally.rate_evaluations), seconds))
        if run.tally.seconds > 0.5:
            break
    return points


def work_at(points: list[tuple[float, float, float]], target: float, column: int) -> float:
    """Return the work at an error, between the two runs around it; infinite where none was so good."""
    best = math.inf
    for (more, *first), (less, *second) in zip(points, points[1:], strict=False):
        if less <= target <= more and less < more:
            share = math.log(more / target) / math.log(more / less)
            a, b = first[column], second[column]
            best = min(best, math.exp(math.log(a) + share * (math.log(b) - math.log(a))))
    inside = [first[column] for error, *first in points if error <= target]
    return best if best < math.inf else min(inside, default=math.inf)


def compared(names: Iterable[str], methods: Iterable[Method]) -> dict[str, list[list[float]]]:
    """Return for each method the ratios of its work to the least of all: evaluations and seconds, by target."""
    work: dict[str, list[list[float]]] = {}
    methods = list(methods)
    for name in names:
        problem = literature_problem(name)
        truth = truth_of(name, problem)
        curves = {method.name: work_curve(problem, truth, method) for method in methods}
        for target in TARGETS:
            for column in (0, 1):
                found = {key: work_at(curve, target, column) for key, curve in curves.items()}
                least = min(found.values())
                for key, value in found.items():
                    work.setdefault(key, [[] for _ in range(2 * len(TARGETS))])
                    work[key][2 * TARGETS.index(target) + column].append(value / least)
    return work


def mean(ratios: list[float]) -> float:
    """Return the geometric mean, infinite where one is."""
    return math.exp(sum(map(math.log, ratios)) / len(ratios)) if all(map(math.isfinite, ratios)) else math.inf


def work_table(names: tuple[str, ...], methods: list[Method]) -> str:
    """Return the table of work as it stands in the documentation, best first by seconds at the first target."""
    work = {key: [mean(ratios) for ratios in columns] for key, columns in compared(names, methods).items()}
    order = sorted(work, key=lambda key: (sum(min(x, 1e3) for x in (work[key][1], work[key][3])), key))
    lines = ["| rank | method | evaluations, error 1e-4 | seconds, 1e-4 | evaluations, 1e-8 | seconds, 1e-8 |"]
    lines.append("|---|---|---|---|---|---|")
    for index, key in enumerate(order, 1):
        parts = " | ".join(f"{x:.2f}" if x < 1e3 else "–" for x in work[key])
        lines.append(f"| {index} | `{key}` | {parts} |")
    return "\n".join(lines)


def step_controls() -> None:
    """Print the work of each step control over that of a family's own, at equal errors."""
    stiff = (*STIFF, "van_der_pol_1e6", "pollution", "ring_of_reactions")
    for method, names in (("dormand-prince-54", SMOOTH), ("radau-iia-5", stiff), ("esdirk-43", stiff),
                          ("hairer-wanner-43", stiff)):  # fmt: skip
        ratios: dict[str, list[float]] = {control: [] for control in CONTROLS}
        for name in names:
            problem = literature_problem(name)
            truth = truth_of(name, problem)
            usual = work_curve(problem, truth, method)
            for control in CONTROLS:
                curve = work_curve(problem, truth, method, step_control=control)
                ratios[control] += [work_at(curve, error, 0) / work_at(usual, error, 0) for error in (1e-4, 1e-6, 1e-8)]
        parts = ", ".join(f"{control} {mean(found):.2f}" for control, found in ratios.items())
        print(f"   {method}, evaluations over those of its own control at errors 1e-4 to 1e-8: {parts}")


def step_costs() -> None:
    """Print the time of a step of the stiff method over one of the other, which `auto` weighs."""
    parts = []
    for n in (3, 10, 30, 100):
        text = f"u[i]' = -i*u[i] + 0.1*u[i-1]*u[i] for i in 1..{n}\nu[0] = 1"
        problem, each = uh.Problem.from_text(text, initial={"u": 1}, interval=(0, 1)), []
        for method in ("radau-iia-5", "dormand-prince-54"):
            tallies = [uh.integrate(problem, method, rtol=1e-6, record=2).tally for _ in range(9)]
            each.append(min(tally.seconds / (tally.accepted + tally.refused) for tally in tallies))
        parts.append(f"{each[0] / each[1]:.1f} for {n} states")
    print(f"   a step of radau-iia-5 over one of dormand-prince-54: {', '.join(parts)}")


def chosen_work() -> None:
    """Print the work of auto over that of the better of the best fixed choices, at equal tolerance."""
    fixed = ("dormand-prince-54", "dormand-prince-853", "radau-iia-5", "radau-iia-9")
    for names in (SMOOTH, STIFF):
        for name in names:
            problem, parts = literature_problem(name), []
            for rtol in (1e-4, 1e-8):
                seconds: dict[str, float] = {}
                methods = (DEFAULT, *(each for each in fixed if names is SMOOTH or each.startswith("radau")))
                # in turn, so that a drifting machine hits all alike; a few at once, so that none is always cold
                for method in methods * 9:
                    for _ in range(4):
                        with quietly():
                            run = uh.integrate(problem, method, rtol=rtol, record=2, budget={"seconds": 2})
                        seconds[method] = min(run.tally.seconds, seconds.get(method, math.inf))
                best = min(value for key, value in seconds.items() if key != DEFAULT)
                parts.append(f"{seconds[DEFAULT] / best:.2f}")
            print(f"   {name}: auto / best fixed choice {' and '.join(parts)} at rtol 1e-4 and 1e-8")


def large_systems() -> None:
    """Print seconds for heat in a rod of 100,000 cells by three implicit families."""
    n = 100_000
    text = f"u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) + u[i]*(1 - u[i]) for i in 1..{n}\nu[0] = 0\nu[{n + 1}] = 0"
    start = np.sin(np.pi * np.arange(1, n + 1) / (n + 1))
    rod = uh.Problem.from_text(text, initial={"u": start}, parameters={"k": 1e-3 * (n + 1.0) ** 2}, interval=(0, 10))
    for method in ("esdirk-43", "hairer-wanner-43", "backward-differentiation-variable"):
        run = uh.integrate(rod, method, rtol=1e-4, record=2)
        verdict(f"{method}: seconds, {run.tally.accepted} steps", run.tally.seconds, 3.0)


def square() -> None:
    """Print seconds for what spreads over a square of 100 by 100 cells, stabilised stages beside implicit families."""
    m = 100
    edges = "\n".join(f"u[{index}] = {value} for i in 1..{m}" for index, value in (
        ("0,i", 1), (f"{m + 1},i", 0), ("i,0", 0), (f"i,{m + 1}", 0)))  # fmt: skip
    text = (
        f"u[i,j]' = k*(u[i-1,j] + u[i+1,j] + u[i,j-1] + u[i,j+1] - 4*u[i,j]) + u[i,j]*(1 - u[i,j]) "
        f"for i in 1..{m}, j in 1..{m}\n{edges}"
    )
    pond = uh.Problem.from_text(text, initial={"u[i,j]": 0.1}, parameters={"k": 1e3}, interval=(0, 1))
    truth = uh.integrate(pond, "hairer-wanner-43", rtol=1e-8, record=2).states[-1]
    methods = ("runge-kutta-chebyshev-2", "hairer-wanner-43", "esdirk-43", "backward-differentiation-variable")
    runs = {method: uh.integrate(pond, method, rtol=1e-3, record=2) for method in methods}
    seconds = in_turn(3, **{
        method.replace("-", "_"): lambda method=method: uh.integrate(pond, method, rtol=1e-3, record=2).tally.seconds
        for method in methods
    })  # fmt: skip
    fastest = min(value for name, value in seconds.items() if "chebyshev" not in name)
    for method in methods:
        error = float(np.abs(runs[method].states[-1] - truth).max())
        taken = seconds[method.replace("-", "_")]
        parts = f"{taken:.3f} s, {taken / fastest:.2f} times the fastest implicit one, error {error:.1e}"
        print(f"   square, {method}: {parts}")


def report() -> None:
    """Print all of it."""
    lowest_members()
    large_systems()
    square()
    step_costs()
    chosen_work()
    step_controls()
    adaptive = [method for method in all_methods() if method.adaptive]
    sets: dict[str, tuple[tuple[str, ...], Callable[[Method], bool]]] = {
        "smooth problems": (SMOOTH, lambda method: not method.implicit or method.name == DEFAULT),
        "stiff problems": (STIFF, lambda method: method.stiff),
    }
    for title, (names, fits) in sets.items():
        print(f"   {title} ({', '.join(names)}): work over that of the best method, geometric mean")
        table = work_table(names, [method for method in adaptive if fits(method)])
        print("\n".join(f"   {line}" for line in table.splitlines()))


if __name__ == "__main__":
    report()
