"""Linear algebra by size and pattern: diffusion by `radau-iia-5`, and full matrices by loops and by LAPACK."""

from __future__ import annotations

import ctypes
import time

import numpy as np
from pairing import in_turn

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.families import linear
from unhurried_heron.kernels.linear_algebra.context import SHIFT
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.problem.problem import Problem

NATIVE = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_int64)


def line(n: int) -> Problem:
    """Diffusion and growth on a line of n cells."""
    text = f"u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) + u[i]*(1 - u[i]) for i in 1..{n}\nu[0] = 1\nu[{n + 1}] = 0"
    return Problem.from_text(text, initial={"u": 0.0}, parameters={"k": n**2 / 100}, interval=(0, 1))


def square(m: int) -> Problem:
    """Diffusion and growth on a square of m x m cells."""
    text = (
        "u[i,j]' = k*(u[i-1,j] + u[i+1,j] + u[i,j-1] + u[i,j+1] - 4*u[i,j]) + u[i,j]*(1 - u[i,j]) "
        f"for i in 1..{m}, j in 1..{m}\n"
        f"u[0,j] = 1 for j in 1..{m}\nu[{m + 1},j] = 0 for j in 1..{m}\n"
        f"u[i,0] = 0 for i in 1..{m}\nu[i,{m + 1}] = 0 for i in 1..{m}"
    )
    return Problem.from_text(text, initial={"u": 0.0}, parameters={"k": m**2 / 100}, interval=(0, 1))


def factoring(n: int, *, blocks: bool, pair: bool):
    """Return what measures the seconds of one factorisation of a full matrix with a real or a complex shift."""
    before, linear.MIN_BLOCKS = linear.MIN_BLOCKS, 1 if blocks else n + 1
    solver = linear.linear_solver(n, np.zeros(1, CONTROL), "dense", None, None, fixed=False)
    linear.MIN_BLOCKS = before
    solver.jacobian.flat = np.random.default_rng(1).standard_normal(n * n)
    context, *kept = solver.context(pair)
    (ctypes.c_double * 2).from_address(int(context[SHIFT]))[:] = 3.0, 2.0 if pair else 0.0
    result, control = ctypes.c_int64(), ctypes.c_int64()

    def measure() -> float:
        begun = time.perf_counter()
        NATIVE(solver.factor)(ctypes.addressof(result), ctypes.addressof(control), context.ctypes.data)
        assert result.value != 0
        return time.perf_counter() - begun

    measure.keep = (solver, context, kept)
    return measure


def full_matrices() -> None:
    """Print loops / LAPACK for full matrices around the size from which LAPACK is taken."""
    for n in (100, 250, linear.MIN_BLOCKS, 1000):
        parts = []
        for pair in (False, True):
            found = in_turn(
                3 if n > 300 else 21,
                loops=factoring(n, blocks=False, pair=pair),
                lapack=factoring(n, blocks=True, pair=pair),
            )
            parts.append(f"{'complex' if pair else 'real'} {found['loops'] / found['lapack']:.2f}")
        taken = "LAPACK" if n >= linear.MIN_BLOCKS else "loops"
        print(f"   full matrix of order {n:,}, loops / LAPACK: {', '.join(parts)}; taken: {taken}")


def report() -> None:
    """Print the seconds of a run by each kind of linear algebra that is sensible, and which is chosen."""
    cases = [("line", line(n)) for n in (50, 100, 200, 500, 100_000)] + [("square", square(m)) for m in (7, 15, 30, 70)]
    for name, problem in cases:
        n = len(problem.states)
        kinds = ["banded", "sparse"] if n > 1000 else ["dense", "banded", "sparse"]
        parts, chosen = [], integrate(problem, "radau-iia-5", rtol=1e-5, record=2).options["linear"]
        for kind in kinds:
            begun = time.perf_counter()
            run = integrate(problem, "radau-iia-5", rtol=1e-5, record=2, linear=kind)
            parts.append(f"{kind} {time.perf_counter() - begun:.3g} s")
        print(f"   {name} of {n:,} cells, {run.tally.accepted} steps: {', '.join(parts)}; chosen: {chosen}")
    full_matrices()
