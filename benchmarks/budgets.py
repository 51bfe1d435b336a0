"""Long work of every kind within a budget of one second, each in a process of its own: by how much it is overrun."""

from __future__ import annotations

import subprocess
import sys

SECONDS = 1.0
HEAT = """
def heat(n):
    walls = "u[0,j] = 0 for j in 1..n\\nu[n+1,j] = 0 for j in 1..n\\n"
    walls += "u[i,0] = 0 for i in 1..n\\nu[i,n+1] = 1 for i in 1..n"
    inside = "u[i,j]' = n^2*(u[i-1,j] + u[i+1,j] + u[i,j-1] + u[i,j+1] - 4*u[i,j]) for i in 1..n, j in 1..n"
    return uh.Problem.from_text(f"{inside}\\n{walls}", initial={"u": 0.5}, parameters={"n": n}, interval=(0, 10))
"""
RUNS = {
    "heat in 2-D, 10^4 unknowns, auto": "uh.integrate(heat(100), budget=limit)",
    "heat in 2-D, 160,000 unknowns, auto": "uh.integrate(heat(400), budget=limit)",
    "heat in 2-D, 10^4 unknowns, radau-iia-5": 'uh.integrate(heat(100), "radau-iia-5", budget=limit)',
    "heat in 2-D, 20,000, backward differentiation":
        'uh.integrate(heat(141), "backward-differentiation-variable", budget=limit)',
    "a family of 10^7": "uh.integrate(decays(10_000_000), budget=limit)",
    "a sum of 4.9*10^7 terms": "uh.integrate(summed(49_000_000), budget=limit)",
    "8,000 events": 'uh.integrate(swing, events=[uh.Event(f"x = {k/8000}") for k in range(8000)], budget=limit)',
    "then on 10^4 members": "uh.integrate(decays(10_000), events=[each_member(10_000)], budget=limit)",
    "then as a function of 10^6 states":
        'uh.integrate(decays(1_000_000), events=[uh.Event(every=0.1, then=lambda t, y: {"u[1]": 1.0})], budget=limit)',
    "every, 1.9*10^7 times":
        'uh.integrate(swing, events=[uh.Event(every=swing.interval[1]/1.9e7, then="x = x")], budget=limit)',
    "explain, 10^4 unknowns": "uh.integrate(heat(100), budget=limit).explain(seconds=limit.seconds)",
    "compare, one method, 10^4 unknowns": 'uh.compare(heat(100), "radau-iia-5", rtol=1e-4, budget=limit)',
}  # fmt: skip
SET_UP = f"""
import time, warnings
warnings.simplefilter("ignore")
import unhurried_heron as uh
{HEAT}
def decays(n):
    return uh.Problem.from_text("u[i]' = -u[i]*i/n for i in 1..n", initial={{"u": 1}}, parameters={{"n": n}},
                                interval=(0, 10))
def summed(n):
    return uh.Problem.from_text("x' = -x*sum(1/i^2 for i in 1..n)", initial={{"x": 1}}, parameters={{"n": n}},
                                interval=(0, 1))
def each_member(n):
    return uh.Event(every=0.01, then="\\n".join(f"u[{{k}}] = 1" for k in range(1, n + 1)))
swing = uh.Problem.from_text("x' = y\\ny' = -x", initial={{"x": 1, "y": 0}}, interval=(0, 10))
limit = uh.Budget(seconds={SECONDS})
uh.integrate(swing)
begun = time.perf_counter()
"""


def report() -> None:
    """Print how long each took, the words of its problem and its set-up included, and its own budget."""
    for name, call in RUNS.items():
        text = f"{SET_UP}{call}\nprint(time.perf_counter() - begun)"
        done = subprocess.run([sys.executable, "-c", text], capture_output=True, text=True, check=True)
        taken = float(done.stdout)
        # a run before it and two references beside the run itself have a budget each
        budgets = {"explain": 2, "compare": 4}.get(name.partition(",")[0], 1) * SECONDS
        verdict = "within two seconds" if taken <= budgets + 2.0 else "OVERRUN"
        print(f"   {name:<48} {taken:5.1f} s of a budget of {budgets:g}: {verdict}")
