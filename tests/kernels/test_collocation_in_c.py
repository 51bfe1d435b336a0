"""The collocation march against the same method written apart, in C and in NumPy."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

import numpy as np
import pytest
from data.literature import literature_problem
from scipy.linalg import block_diag

import unhurried_heron as uh

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
import implicit
import pairing


@pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no C compiler")
@pytest.mark.parametrize(("name", "rtol"), [("hires", 1e-4), ("robertson", 1e-7), ("oregonator", 1e-4),
                                            ("ehl_d3", 1e-7), ("brusselator", 1e-4), ("pleiades", 1e-7)])  # fmt: skip
@pytest.mark.long
def test_the_march_does_what_c_does(name: str, rtol: float) -> None:
    problem = literature_problem(name)
    march = pairing.prepared(problem, "radau-iia-5", rtol, 1e-4 * rtol, 1e-4)
    pairing.seconds_of(march, problem, 1e-4)
    counts, state = implicit.by_hand(march, problem, 1e-4)()
    # what is rounding is decided by the last bit, which differs between the two compilers
    assert implicit.counted(march) == pytest.approx(counts, rel=0.02, abs=5)
    assert march.system.state == pytest.approx(state, rel=rtol)
    assert np.isfinite(state).all()


# E. Hairer and G. Wanner, Solving Ordinary Differential Equations II, table IV.5.6
S = 6**0.5
RADAU = np.array([[(88 - 7 * S) / 360, (296 - 169 * S) / 1800, (-2 + 3 * S) / 225],
                  [(296 + 169 * S) / 1800, (88 + 7 * S) / 360, (-2 - 3 * S) / 225],
                  [(16 - S) / 36, (16 + S) / 36, 1 / 9]])  # fmt: skip


def relaxation(x: float, v: float) -> tuple[list[float], list[list[float]]]:
    """Rates and their slopes."""
    return [v, 5 * (1 - x**2) * v - x], [[0, 1], [-10 * x * v - 1, 5 * (1 - x**2)]]


def exact_step(state: np.ndarray, h: float) -> np.ndarray:
    """One step of the method, its equations solved to the last digit by Newton's full method."""
    z, weights = np.zeros(6), h * np.kron(RADAU, np.eye(2))
    for _ in range(40):
        rates, derivatives = zip(*(relaxation(*(state + z[i : i + 2])) for i in (0, 2, 4)), strict=True)
        change = np.linalg.solve(np.eye(6) - weights @ block_diag(*derivatives), weights @ np.concatenate(rates) - z)
        z += change
        if np.abs(change).max() < 1e-14:
            break
    return state + z[4:]


@pytest.mark.parametrize("rtol", [1e-3, 1e-4, 1e-6])
def test_equations_are_solved_to_a_small_share_of_the_tolerance(rtol: float) -> None:
    problem = uh.Problem.from_text("x' = v\nv' = 5*(1 - x^2)*v - x", initial={"x": 2, "v": 0}, interval=(0, 20))
    run = uh.integrate(problem, "radau-iia-5", rtol=rtol)
    for state, h, after in zip(run.states, np.diff(run.times), run.states[1:], strict=False):
        assert np.abs(exact_step(state, h) - after).max() < 0.1 * rtol * np.abs(after).max()
