"""The spectral radius: every method that asks for it sees the largest eigenvalue, whatever the units of the states."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods

STABILISED = [method.name for method in all_methods() if method.family.startswith("stabilised")]


def linear(matrix: np.ndarray, units: np.ndarray) -> uh.Problem:
    """X' = A x with every state in a unit of its own."""
    scaled = matrix * units[:, None] / units
    names = [f"x{k}" for k in range(len(matrix))]
    lines = [f"{name}' = " + " + ".join(f"({value!r})*{other}" for value, other in zip(row, names, strict=True))
             for name, row in zip(names, scaled.tolist(), strict=True)]  # fmt: skip
    return uh.Problem.from_text(
        "\n".join(lines), initial=dict(zip(names, units.tolist(), strict=True)), interval=(0, 2)
    )


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("method", STABILISED)
def test_stages_follow_from_the_largest_eigenvalue(method: str, seed: int) -> None:
    draw = np.random.default_rng(seed)
    n = int(draw.integers(2, 7))
    turned = np.linalg.qr(draw.normal(size=(n, n)))[0]
    # damped stages reach so many s^2 along the negative axis, with a tenth to spare, and there are numbers of them that
    # lie so far apart
    reach, apart, most = (0.65, 1.0, 4.0) if method.endswith("2") else (0.35, 1.2, 3.5)
    fastest = 10.0 ** draw.uniform(2.0, most)
    rates = -np.append(draw.uniform(0.1, 3.0, n - 1), fastest)
    problem = linear(turned @ np.diag(rates) @ turned.T, 10.0 ** draw.uniform(-1, 1, n))
    run = uh.integrate(problem, method, step=0.5, ledger=True)
    assert run.ending.reason == "end"
    assert np.abs(run.states[-1]).max() < 100.0
    needed = np.sqrt(0.5 * fastest / reach)
    a_step = (run.tally.rate_evaluations - run.tally.for_estimates - run.tally.for_starting) / run.tally.accepted
    assert needed * 0.95 < a_step < needed * 1.2 * apart + 3


@pytest.mark.parametrize("units", [1.0, 1e6])
def test_auto_changes_where_the_largest_eigenvalue_says_so(units: float) -> None:
    """A mode that decays a thousand times faster than the solution swings, from a time that is known."""
    problem = uh.Problem.from_text(
        "x' = -where(t > 20, 4000, 1)*(x - scale*cos(t)) - scale*sin(t)\nn' = x/scale", parameters={"scale": units},
        initial={"x": units, "n": 0}, interval=(0, 60),
    )  # fmt: skip
    for _ in range(2):
        # the second time both methods are laid out, and nothing leaves compiled code
        run = uh.integrate(problem, "auto", rtol=1e-6)
        assert run.tally.changes == 1
        work = run.method_selection
        assert "stiff from t = 20" in work, work
        assert run.final["x"] == pytest.approx(units * np.cos(60.0), rel=1e-4)
        assert run.tally.accepted < 700
