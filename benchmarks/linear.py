"""Linear algebra by size and pattern: diffusion on a line and on a square by `radau-iia-5`."""

from __future__ import annotations

import time

from unhurried_heron.march.integrate import integrate
from unhurried_heron.problem.problem import Problem


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


def report() -> None:
    """Print the seconds of a run by each kind of linear algebra that is sensible, and which is chosen."""
    cases = [("line", line(n)) for n in (50, 100, 200, 500, 100_000)] + [("square", square(m)) for m in (7, 15, 30, 70)]
    for name, problem in cases:
        n = len(problem.states)
        kinds = ["banded", "sparse"] if n > 1000 else ["dense", "banded", "sparse"]
        told, chosen = [], integrate(problem, "radau-iia-5", rtol=1e-5, record=2).options["linear"]
        for kind in kinds:
            begun = time.perf_counter()
            run = integrate(problem, "radau-iia-5", rtol=1e-5, record=2, linear=kind)
            told.append(f"{kind} {time.perf_counter() - begun:.3g} s")
        print(f"   {name} of {n:,} cells, {run.tally.accepted} steps: {', '.join(told)}; chosen: {chosen}")
