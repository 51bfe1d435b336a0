"""Large systems: `auto` beside the best fixed choice, a million unknowns, and constraints among many equations."""

from __future__ import annotations

import ctypes
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from pairing import compile_c, in_turn, prepared, side_by_side, verdict
from scipy.sparse import coo_array, csr_array, diags_array, kron

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.problem.problem import Problem

RTOL = 1e-4
ROUNDS = 3
_IMPLICIT = "backward-differentiation-variable"
# two reacting species on a square whose walls let nothing through, and on a line with fixed ends
_AROUND = "d*({0}[i-1,j] + {0}[i+1,j] + {0}[i,j-1] + {0}[i,j+1] - 4*{0}[i,j])*(n-1)^2"
_WALLS = "{0}[0,j] = {0}[2,j] for j in 1..n\n{0}[n+1,j] = {0}[n-1,j] for j in 1..n\n" \
         "{0}[i,0] = {0}[i,2] for i in 1..n\n{0}[i,n+1] = {0}[i,n-1] for i in 1..n\n"  # fmt: skip
SQUARE = (
    f"u[i,j]' = 1 + u[i,j]^2*v[i,j] - 4.4*u[i,j] + {_AROUND.format('u')} for i in 1..n, j in 1..n\n"
    f"v[i,j]' = 3.4*u[i,j] - u[i,j]^2*v[i,j] + {_AROUND.format('v')} for i in 1..n, j in 1..n\n"
    + _WALLS.format("u")
    + _WALLS.format("v")
)
LINE = """
u[i]' = 1 + u[i]^2*v[i] - 4*u[i] + d*(u[i-1] - 2*u[i] + u[i+1])*(n+1)^2 for i in 1..n
v[i]' = 3*u[i] - u[i]^2*v[i] + d*(v[i-1] - 2*v[i] + v[i+1])*(n+1)^2 for i in 1..n
u[0] = 1
u[n+1] = 1
v[0] = 3
v[n+1] = 3
"""
# tanks in a row, the flows between them by constraints
TANKS = """
h[1]' = inflow - q[1]
h[i]' = q[i-1] - q[i] for i in 2..n-1
h[n]' = q[n-1]
h[i] - h[i+1] = slow*q[i] + q[i]*abs(q[i]) for i in 1..n-1
"""
# floats on links, held at one end and let go across the stream; what pulls in a link is told by its length
BOOM = """
x[0] = 0
y[0] = 0
x[i]'' = pull[i]*(x[i-1] - x[i]) + pull[i+1]*(x[i+1] - x[i]) + drag*(stream - x[i]') for i in 1..n-1
y[i]'' = pull[i]*(y[i-1] - y[i]) + pull[i+1]*(y[i+1] - y[i]) - drag*y[i]' for i in 1..n-1
x[n]'' = pull[n]*(x[n-1] - x[n]) + drag*(stream - x[n]')
y[n]'' = pull[n]*(y[n-1] - y[n]) - drag*y[n]'
(x[i] - x[i-1])^2 + (y[i] - y[i-1])^2 = link^2 for i in 1..n
"""


def square(n: int) -> Problem:
    """Reaction and diffusion on a square of n by n points."""
    start = {"u[i,j]": "0.5 + (j-1)/(n-1)", "v[i,j]": "1 + 5*(i-1)/(n-1)"}
    return Problem.from_text(SQUARE, parameters={"n": n, "d": 0.002}, initial=start, interval=(0, 2))


def line(n: int) -> Problem:
    """Reaction and diffusion on a line of n points."""
    start = {"u[i]": "1 + sin(2*pi*i/(n+1))", "v": 3.0}
    return Problem.from_text(LINE, parameters={"n": n, "d": 0.02}, initial=start, interval=(0, 10))


def tanks(n: int) -> Problem:
    """A row of n tanks."""
    given = {"parameters": {"n": n, "inflow": 0.1, "slow": 0.3}, "initial": {"h": np.linspace(2, 1, n)}}
    return Problem.from_text(TANKS, interval=(0, 5), **given)


def boom(n: int) -> Problem:
    """A boom of n floats."""
    given = {"parameters": {"n": n, "link": 40 / n, "stream": 0.8, "drag": 0.6},
             "initial": {"x[i]": 0, "y[i]": "i*link", "x'[i]": 0, "y'[i]": 0}}  # fmt: skip
    return Problem.from_text(BOOM, interval=(0, 10), **given)


def network(n: int) -> Problem:
    """Tanks joined at random by pipes, of which the widest pass a million times as much as the narrowest."""
    dice = np.random.default_rng(5)
    one, other = dice.integers(0, n, (2, 3 * n))
    wide = 10.0 ** dice.uniform(-2, 4, 3 * n)
    indices = np.concatenate([one, other, one, other]), np.concatenate([other, one, one, other])
    pipes = csr_array(coo_array((np.concatenate([wide, wide, -wide, -wide]), indices), shape=(n, n)))

    def rates(t: float, level: np.ndarray) -> np.ndarray:
        return np.asarray(pipes @ level - 0.1 * level**2 + np.sin(t))

    pattern = abs(pipes) + diags_array(np.ones(n))
    return Problem.from_rates(rates, initial={"level": dice.uniform(0.5, 2, n)}, interval=(0, 10), sparsity=pattern)


def front(n: int) -> Problem:
    """A front that moves over n by n points, by a function, with the pattern of its Jacobian."""

    def rates(t: float, u: np.ndarray) -> np.ndarray:
        wide = np.pad(u, 1, mode="edge")
        around = wide[:-2, 1:-1] + wide[2:, 1:-1] + wide[1:-1, :-2] + wide[1:-1, 2:] - 4 * u
        return np.asarray(400.0 * around + 40 * u * (1 - u))

    line = diags_array([np.ones(n), np.ones(n - 1), np.ones(n - 1)], offsets=[0, 1, -1])
    cells = diags_array(np.ones(n))
    pattern = kron(line, cells) + kron(cells, line)
    start = np.zeros((n, n))
    start[:, : n // 20] = 1.0
    return Problem.from_rates(rates, initial={"u": start}, interval=(0, 1), sparsity=pattern)


def stencil() -> None:
    """Print what the rates of a square take beside a loop in C."""
    code = compile_c("stencil.c", "-march=native").rates
    code.argtypes = (ctypes.c_void_p, ctypes.c_void_p, ctypes.c_ssize_t, ctypes.c_double)
    code.restype = None
    for n in (200, 700):
        march = prepared(square(n), "dormand-prince-54", RTOL, RTOL, 1e-6)
        rates = march.native.rates
        call = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, *[ctypes.c_void_p] * 3)(rates.address)
        state, ours, theirs = march.system.state, np.empty(2 * n * n), np.empty(2 * n * n)

        def own(call=call, state=state, out=ours, context=rates.context_address) -> float:
            begun = time.perf_counter()
            for _ in range(20):
                call(0.0, state.ctypes.data, out.ctypes.data, context)
            return time.perf_counter() - begun

        def in_c(n=n, state=state, out=theirs) -> float:
            begun = time.perf_counter()
            for _ in range(20):
                code(state.ctypes.data, out.ctypes.data, n, 0.002)
            return time.perf_counter() - begun

        ratio, first, second = side_by_side(15, own, in_c)
        if np.abs(ours - theirs).max() > 1e-12 * np.abs(theirs).max():
            raise SystemExit("the rates and those in C are not the same")
        print(f"   rates of {2 * n * n:,} unknowns: {50 * first:.3f} ms, a loop in C {50 * second:.3f} ms")
        verdict("rates / C", ratio, 1.3)


def of_run(problem: Problem, method: str, **options: Any) -> Callable[[], float]:
    """Seconds of a run of which the ends are kept."""

    def measure() -> float:
        begun = time.perf_counter()
        integrate(problem, method, record=2, **options)
        return time.perf_counter() - begun

    return measure


def alone(name: str, seconds: float, memory: float) -> None:
    """Print what a million unknowns take in a process of their own, in which all is compiled.

    Parameters
    ----------
    name : str
        "square" or "line".
    seconds, memory : float
        What was asked for; memory in bytes.
    """
    done = subprocess.run([sys.executable, __file__, name], capture_output=True, text=True, check=True)
    taken, room, states = map(float, done.stdout.split())
    print(f"   {name}, {states:,.0f} unknowns by auto: {taken:.1f} s, {room / 1e6:,.0f} MB")
    verdict(f"{name}, seconds in {seconds:g}", taken / seconds, 1.0)
    verdict(f"{name}, memory in {memory / 1e9:g} GB", room / memory, 1.0)


def million(name: str) -> None:
    """March a million unknowns; print seconds, the largest memory in bytes, and how many they are."""
    problem = square(707) if name == "square" else line(500_000)
    taken = of_run(problem, "auto", rtol=RTOL)()
    print(taken, 1024.0 * resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, len(problem.states))


def report() -> None:
    """Print seconds of large runs beside what was asked for."""
    stencil()
    problem = square(200)
    found = in_turn(
        ROUNDS,
        auto=of_run(problem, "auto", rtol=RTOL),
        stabilised=of_run(problem, "runge-kutta-chebyshev-4", rtol=RTOL),
        krylov=of_run(problem, "backward-differentiation-variable", rtol=RTOL, linear="krylov"),
    )
    print(f"   square, {len(problem.states):,} unknowns, seconds: auto {found['auto']:.2f}, runge-kutta-chebyshev-4 "
          f"{found['stabilised']:.2f}, implicit with Krylov {found['krylov']:.2f}")  # fmt: skip
    best = "stabilised" if found["stabilised"] < found["krylov"] else "krylov"
    named = {"stabilised": {"method": "runge-kutta-chebyshev-4"}, "krylov": {"method": _IMPLICIT, "linear": "krylov"}}
    ratio, _, _ = side_by_side(9, of_run(problem, "auto", rtol=RTOL), of_run(problem, rtol=RTOL, **named[best]))
    verdict("auto / the best of them", ratio, 1.3)
    verdict("auto, seconds in 10", found["auto"] / 10.0, 1.0)
    verdict("implicit with Krylov, seconds in 20", found["krylov"] / 20.0, 1.0)
    row = tanks(20_000)
    taken = of_run(row, "auto")()
    print(f"   {len(row.states):,} states of which {len(row.states) // 2:,} are algebraic: {taken:.2f} s")
    verdict("seconds in 20", taken / 20.0, 1.0)
    floats = boom(400)
    methods = {"auto": "auto", "explicit": "verner-98", "implicit": _IMPLICIT}
    found = in_turn(1, **{key: of_run(floats, name, rtol=1e-6) for key, name in methods.items()})
    print(f"   a boom of 400 floats, {len(floats.states):,} states, lengths of links kept, seconds: auto "
          f"{found['auto']:.2f}, verner-98 {found['explicit']:.2f}, {_IMPLICIT} {found['implicit']:.2f}")  # fmt: skip
    joined = network(20_000)
    taken = of_run(joined, "auto", rtol=RTOL)()
    print(f"   a network of {len(joined.states):,} tanks, by a function: {taken:.2f} s")
    verdict("seconds in 30", taken / 30.0, 1.0)
    moving = front(317)
    found = in_turn(ROUNDS, auto=of_run(moving, "auto", rtol=RTOL), implicit=of_run(moving, _IMPLICIT, rtol=RTOL))
    print(f"   a function of {len(moving.states):,} states with a pattern, seconds: auto {found['auto']:.2f}, "
          f"{_IMPLICIT} {found['implicit']:.2f}")  # fmt: skip
    alone("square", 90.0, 1.5e9)
    alone("line", 30.0, 1.5e9)


if __name__ == "__main__":
    million(sys.argv[1])
