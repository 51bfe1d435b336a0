"""Compute reference values of stiff problems, twice, in 34 digits: `python tools/confirm_references.py NAME…`.

Collocation at eight Gauss nodes and at seven Radau nodes, code of its own in multiprecision arithmetic, on parts of
the steps of a run, finer until they agree to 17 digits, which go into ``tests/data/reference_problems.json``.
"""

from __future__ import annotations

import itertools
import json
import re
import sys
from pathlib import Path

import mpmath as mp
import numpy as np
from scipy.linalg import lu_factor, lu_solve

import unhurried_heron as uh

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from data.literature import COLLECTION, literature_problem

_DIGITS, _AGREED = 34, 1e-17


def collocation(nodes: list[mp.mpf]) -> list[list[mp.mpf]]:
    """Return a, the integrals of the Lagrange polynomials up to each node; the last row ends at 1."""
    powers = mp.matrix(len(nodes), len(nodes))
    for i, k in itertools.product(range(len(nodes)), repeat=2):
        powers[i, k] = nodes[i] ** k
    inverse = powers**-1
    ends = [*nodes, mp.mpf(1)]
    return [
        [mp.fsum(inverse[k, j] * c ** (k + 1) / (k + 1) for k in range(len(nodes))) for j in range(len(nodes))]
        for c in ends
    ]


def gauss(stages: int) -> list[mp.mpf]:
    """Roots of the shifted Legendre polynomial."""
    roots = mp.polyroots(
        mp.taylor(lambda x: mp.legendre(stages, 2 * x - 1), 0, stages)[::-1], maxsteps=500, extraprec=400
    )
    return sorted(mp.re(root) for root in roots)


def radau(stages: int) -> list[mp.mpf]:
    """Roots of P_s - P_(s-1), the last of which is 1."""
    both = mp.taylor(lambda x: mp.legendre(stages, 2 * x - 1) - mp.legendre(stages - 1, 2 * x - 1), 0, stages)
    return sorted(mp.re(root) for root in mp.polyroots(both[::-1], maxsteps=500, extraprec=400))


def rates_of(given: dict) -> object:
    """Compile the equations, which are Python's as well, to a function of a list of states."""
    states, lines = given["states"], []
    for equation in given["equations"]:
        left, right = equation.split(" = ")
        right = re.sub(r"(?<![\w.])(\d+\.?\d*(?:e[-+]?\d+)?)", r"number('\1')", right)
        lines.append(f"    {left.replace(chr(39), '_rate')} = {right}")
    head = f"def rates(y):\n    {', '.join(states)}, = y\n"
    space = {"number": mp.mpf, **{name: mp.mpf(value) for name, value in given["parameters"].items()}}
    exec(head + "\n".join(lines) + f"\n    return [{', '.join(f'{s}_rate' for s in states)}]", space)  # of our own file
    return space["rates"]


def jacobian(rates: object, y: list[mp.mpf]) -> np.ndarray:
    """Differences with twice the digits of the doubles they become."""
    base, columns = rates(y), []
    for k, value in enumerate(y):
        step = mp.mpf(10) ** -17 * max(abs(value), mp.mpf(10) ** -8)
        moved = rates([*y[:k], value + step, *y[k + 1 :]])
        columns.append([float((a - b) / step) for a, b in zip(moved, base, strict=True)])
    return np.array(columns).T


def march(rates: object, start: list[mp.mpf], times: list[mp.mpf], a: list[list[mp.mpf]]) -> list[mp.mpf]:
    """Solve each step's equations by iterations whose matrix is in doubles and whose residual is not."""
    y, n, s = start, len(start), len(a) - 1
    doubles = np.array([[float(x) for x in row] for row in a[:s]])
    for t, end in itertools.pairwise(times):
        h = end - t
        factors = lu_factor(np.eye(n * s) - float(h) * np.kron(doubles, jacobian(rates, y)))
        z = [[mp.mpf(0)] * n for _ in range(s)]
        for _ in range(200):
            f = [rates([b + c for b, c in zip(y, stage, strict=True)]) for stage in z]
            residual = [[h * mp.fdot(a[i], (f[j][k] for j in range(s))) - z[i][k] for k in range(n)] for i in range(s)]
            scale = max(abs(x) for row in residual for x in row)
            if scale == 0:
                break
            change = lu_solve(factors, np.array([[float(x / scale) for x in row] for row in residual]).ravel())
            z = [[z[i][k] + scale * mp.mpf(change[i * n + k]) for k in range(n)] for i in range(s)]
            if scale * abs(change).max() < mp.mpf(10) ** (3 - _DIGITS) * max(abs(x) for x in y):
                break
        else:
            raise RuntimeError(f"a step from t = {mp.nstr(t, 6)} was not solved")
        f = [rates([b + c for b, c in zip(y, stage, strict=True)]) for stage in z]
        y = [b + h * mp.fdot(a[s], (f[j][k] for j in range(s))) for k, b in enumerate(y)]
    return y


def confirm(given: dict) -> None:
    """Fill ``given["reference"]`` at the end of its interval."""
    rates = rates_of(given)
    problem = literature_problem(given["name"])
    steps = [mp.mpf(float(t)) for t in uh.integrate(problem, "radau-iia-13", rtol=1e-12, atol=1e-24).times]
    start = [mp.mpf(given["initial"][name]) for name in given["states"]]
    for parts in (2, 4, 8, 16):
        finer = [a + (b - a) * k / parts for a, b in itertools.pairwise(steps) for k in range(parts)] + steps[-1:]
        one, other = (march(rates, start, finer, collocation(nodes)) for nodes in (gauss(8), radau(7)))
        worst = max(abs(a - b) / abs(a) for a, b in zip(one, other, strict=True) if a != 0)
        print(f"{given['name']}: {len(finer)} steps, differ by {float(worst):.1e}", flush=True)
        if worst < _AGREED:
            break
    else:
        raise RuntimeError("not confirmed")
    values = {name: mp.nstr(value, 17) for name, value in zip(given["states"], one, strict=True)}
    given["reference"] = {given["interval"][1]: values}


def main() -> None:
    """Confirm the problems that are named."""
    mp.mp.dps = _DIGITS
    content = json.loads(COLLECTION.read_text(encoding="utf-8"))
    for problem in content["problems"]:
        if problem["name"] in sys.argv[1:]:
            confirm(problem)
            COLLECTION.write_text(json.dumps(content, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
