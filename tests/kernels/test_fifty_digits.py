"""Ten steps of every method at fixed steps against the same in fifty digits, on linear equations with polynomials of t.

So everything a step solves is solved exactly there too; coefficients are those of the methods, in all their digits.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import mpmath
import numpy as np
import pytest
from representatives import general

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.methods.orthogonal_stages import OrthogonalStages
from unhurried_heron.testing.contract import takes_fixed_steps

# marks are for additive methods alone
TEXT = "y' = implicit(-y/2) + z/3 + t^2\nz' = y/5 - implicit(z/4) + 1 - t"
H, START = Fraction(3, 20), (Fraction(1), Fraction(-1, 2))


def digits(values: Any) -> Any:
    """Numbers as matrices of fifty digits."""
    rows = [[mpmath.mpf(Fraction(x).numerator) / Fraction(x).denominator for x in row] for row in values]
    return mpmath.matrix(rows)


def jacobian() -> Any:
    return digits([[Fraction(-1, 2), Fraction(1, 3)], [Fraction(1, 5), Fraction(-1, 4)]])


def forced(t: Any) -> Any:
    return mpmath.matrix([t * t, 1 - t])


def rates(t: Any, y: Any) -> Any:
    return jacobian() * y + forced(t)


def runge_kutta(method: uh.RungeKutta, t: Any, y: Any, h: Any) -> Any:
    """Solve for all stages at once: k = J (y + h A k) + g."""
    s, a, b, c = method.stages, digits(method.a), digits([method.b]), digits([method.c])
    system, right = mpmath.eye(2 * s), mpmath.matrix(2 * s, 1)
    for i in range(s):
        value = rates(t + c[i] * h, y)
        for r in range(2):
            right[2 * i + r] = value[r]
            for j in range(s):
                for q in range(2):
                    system[2 * i + r, 2 * j + q] -= h * a[i, j] * jacobian()[r, q]
    k = mpmath.lu_solve(system, right)
    return y + h * mpmath.matrix([sum(b[i] * k[2 * i + r] for i in range(s)) for r in range(2)])


def rosenbrock(method: uh.Rosenbrock, t: Any, y: Any, h: Any) -> Any:
    """Stage by stage, in the form with products of the Jacobian."""
    alpha, gamma, b, time_derivative, k = (
        digits(method.alpha),
        digits(method.gamma),
        method.b,
        mpmath.matrix([2 * t, -1]),
        [],
    )
    for i in range(method.stages):
        inside = sum((alpha[i, j] * k[j] for j in range(i)), mpmath.zeros(2, 1))
        before = sum((gamma[i, j] * k[j] for j in range(i)), mpmath.zeros(2, 1))
        node, whole = sum(alpha[i, j] for j in range(i)), sum(gamma[i, j] for j in range(i + 1))
        right = rates(t + node * h, y + h * inside) + h * jacobian() * before + whole * h * time_derivative
        k.append(mpmath.lu_solve(mpmath.eye(2) - h * gamma[i, i] * jacobian(), right))
    return y + h * sum((w * each for w, each in zip(digits([b]), k, strict=True)), mpmath.zeros(2, 1))


def additive(method: uh.Additive, t: Any, y: Any, h: Any) -> Any:
    """Stage by stage: the diagonal of the Jacobian is the implicit part."""
    a, other, b = digits(method.a), digits(method.a_explicit), digits([method.b])
    implicit = mpmath.diag([jacobian()[0, 0], jacobian()[1, 1]])
    k: list[tuple[Any, Any]] = []
    for i in range(method.stages):
        base = sum((h * (a[i, j] * k[j][0] + other[i, j] * k[j][1]) for j in range(i)), y)
        stage = mpmath.lu_solve(mpmath.eye(2) - h * a[i, i] * implicit, base)
        node = sum(a[i, j] for j in range(i + 1))
        k.append((implicit * stage, (jacobian() - implicit) * stage + forced(t + node * h)))
    return y + h * sum((b[i] * (k[i][0] + k[i][1]) for i in range(method.stages)), mpmath.zeros(2, 1))


def stabilised(method: Any, t: Any, y: Any, h: Any) -> Any:
    """Stage by stage, from Chebyshev's polynomials themselves and their derivatives."""
    s = method.stages
    w0 = 1 + mpmath.mpf(3) / 20 / s**2

    def cheb(j: int, k: int = 0) -> Any:
        return mpmath.diff(lambda x: mpmath.chebyt(j, x), w0, k)

    w1 = cheb(s, 1) / cheb(s, 2)
    b = [cheb(max(j, 2), 2) / cheb(max(j, 2), 1) ** 2 for j in range(s + 1)]
    node = [0, w1 * cheb(2, 2) / cheb(2, 1) ** 2, *(w1 * cheb(j, 2) / cheb(j, 1) for j in range(2, s + 1))]
    first = rates(t, y)
    before, stage = y, y + b[1] * w1 * h * first
    for j in range(2, s + 1):
        mu, nu, pull = 2 * b[j] * w0 / b[j - 1], -b[j] / b[j - 2], 2 * b[j] * w1 / b[j - 1] * h
        push = rates(t + node[j - 1] * h, stage) - (1 - b[j - 1] * cheb(j - 1)) * first
        before, stage = stage, (1 - mu - nu) * y + mu * stage + nu * before + pull * push
    return stage


def orthogonal(method: OrthogonalStages, t: Any, y: Any, h: Any) -> Any:
    """The recurrence, run on the time as well, and the stages that finish it."""
    found = method.stages_of(method.stages)
    before, stage = None, (y, mpmath.mpf(0))
    for mu, kappa in digits(found.rows).tolist():
        moved = stage[0] + mu * h * rates(t + stage[1] * h, stage[0]), stage[1] + mu
        if before is not None:
            moved = tuple(new + kappa * (old - now) for new, old, now in zip(moved, before, stage, strict=True))
        before, stage = stage, moved
    a, b, k = digits(found.a), digits([found.b]), []
    for i in range(4):
        inner = sum((a[i, j] * k[j] for j in range(i)), mpmath.zeros(2, 1))
        node = stage[1] + sum(a[i, j] for j in range(i))
        k.append(rates(t + node * h, stage[0] + h * inner))
    return stage[0] + h * sum((b[i] * k[i] for i in range(4)), mpmath.zeros(2, 1))


def multistep(method: uh.Multistep, t: Any, past: list, h: Any) -> Any:
    """One step from the values so far, the newest last."""

    def combined(a: Any, b: Any) -> Any:
        found = mpmath.zeros(2, 1)
        for j, weight in enumerate(digits([a])):
            found += weight * past[-1 - j] if weight else mpmath.zeros(2, 1)
        for j, weight in enumerate(digits([b[1:]])):
            found += h * weight * rates(t - j * h, past[-1 - j]) if weight else mpmath.zeros(2, 1)
        return found

    known, first = combined(method.a, method.b), digits([method.b[:1]])[0]
    if method.predictor is not None:
        return known + h * first * rates(t + h, combined(*method.predictor))
    return mpmath.lu_solve(mpmath.eye(2) - h * first * jacobian(), known + h * first * forced(t + h))


def one_step(method: Any, t: Any, y: Any, h: Any) -> Any:
    if isinstance(method, OrthogonalStages):
        return orthogonal(method, t, y, h)
    if hasattr(method, "of_stages"):
        return stabilised(method, t, y, h)
    if isinstance(method, uh.Additive):
        return additive(method, t, y, h)
    return (rosenbrock if isinstance(method, uh.Rosenbrock) else runge_kutta)(method, t, y, h)


METHODS = {method.name: method for method in general() if takes_fixed_steps(method)}
METHODS |= {method.name: method for method in map(CATALOGUE["runge-kutta-chebyshev-2"].of_stages, (3, 12))}
METHODS |= {method.name: method for method in map(CATALOGUE["runge-kutta-chebyshev-4"].of_stages, (5, 12))}


@pytest.mark.parametrize("name", METHODS)
def test_ten_steps_in_fifty_digits(name: str) -> None:
    mpmath.mp.dps, method = 50, METHODS[name]
    problem = uh.Problem.from_text(TEXT, initial=dict(zip("yz", map(float, START), strict=True)), interval=(0, 1.5))
    run = uh.integrate(problem, method, count=10)
    starter = CATALOGUE[run.options["starter"]] if "starter" in run.options else None
    h, past = digits([[H]])[0], [digits([[x] for x in START])]
    for n in range(10):
        t, steps = n * h, getattr(method, "steps", 0)
        if starter is None:
            past.append(one_step(method, t, past[-1], h))
        else:
            known = n + 1 >= steps
            past.append(multistep(method, t, past, h) if known else one_step(starter, t, past[-1], h))
    wanted = np.array([[float(x) for x in each] for each in past])
    assert np.abs(run.states / wanted - 1.0).max() < 2e-12
