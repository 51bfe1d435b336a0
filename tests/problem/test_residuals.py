"""Problems that are told by residuals: what is zero all along, of states and their rates."""

from __future__ import annotations

import pickle
from typing import Any

import numpy as np
import pytest
from scipy.optimize import brentq
from scipy.special import expi

import unhurried_heron as uh
from unhurried_heron import errors

METHODS = ["auto", "radau-iia-5", "esdirk-43", "backward-differentiation-variable"]


def curved(t: float, x: float, x_rate: float) -> list[float]:
    return [x_rate + np.exp(x_rate) + x]


def moving_mass(t: float, y: np.ndarray, y_rate: np.ndarray) -> list[float]:
    return [(2 + np.sin(t)) * y_rate[0] + y[0] * y_rate[1] + y[1], y_rate[1] - y[0]]


def robertson(t: float, x: float, y: float, z: float, x_rate: float, y_rate: float) -> dict[str, float]:
    fast = 3e7 * y**2
    return {"x": x_rate + 0.04 * x - 1e4 * y * z, "y": y_rate - 0.04 * x + 1e4 * y * z + fast, "z": x + y + z - 1}


def ring(t: float, u: np.ndarray, u_rate: np.ndarray, k: float) -> np.ndarray:
    return u_rate - k * (np.roll(u, 1) - 2 * u + np.roll(u, -1))


@pytest.mark.parametrize("method", METHODS)
def test_rates_that_nobody_solved_for(method: str) -> None:
    # along the rates r, dt = dx/r = -(1 + exp(r))/r dr, whose integral is -(log|r| + Ei(r))
    bent = uh.integrate(uh.Problem.from_residuals(curved, initial={"x": 2.0}, interval=(0, 3)), method, rtol=1e-8)
    assert np.abs(bent["x_rate"] + np.exp(bent["x_rate"]) + bent["x"]).max() < 1e-6
    begins = brentq(lambda r: r + np.exp(r) + 2, -3, 0, xtol=1e-15)
    along = np.log(-begins) + expi(begins)
    ends = brentq(lambda r: along - np.log(-r) - expi(r) - 3, begins, -1e-3, xtol=1e-15)
    assert bent["x_rate"][[0, -1]] == pytest.approx([begins, ends], rel=1e-6)

    mass = uh.integrate(
        uh.Problem.from_residuals(moving_mass, initial={"a": 1.0, "b": 0.5}, interval=(0, 3)), method, rtol=1e-8
    )
    solved = uh.Problem.from_rates(lambda t, a, b: [-(b + a * a) / (2 + np.sin(t)), a], initial={"a": 1.0, "b": 0.5},
                                   interval=(0, 3))  # fmt: skip
    assert mass.states[-1, :2] == pytest.approx(uh.integrate(solved, "verner-98", rtol=1e-11).states[-1], rel=1e-6)

    # Hairer and Wanner, Solving Ordinary Differential Equations II, IV.10; a state may have the name of the whole
    stiff = uh.Problem.from_residuals(robertson, initial={"x": 1.0, "y": 0.0}, guess={"z": 0.0}, interval=(0, 40))
    run = uh.integrate(stiff, method, rtol=1e-7)
    assert [run.final[name] for name in "xyz"] == pytest.approx(
        [0.7158270687193941, 9.185534764557763e-06, 0.2841637457458413], rel=1e-5
    )

    start = np.sin(2 * np.pi * np.arange(8) / 8)
    array = uh.Problem.from_residuals(ring, initial={"u": start}, parameters={"k": 3.0}, interval=(0, 1))
    decay = np.exp(-4 * 3.0 * np.sin(np.pi / 8) ** 2)
    assert uh.integrate(array, method, rtol=1e-8)["u"][-1] == pytest.approx(decay * start, abs=1e-7)


@pytest.mark.parametrize("method", METHODS)
def test_a_pattern_of_residuals_saves_calls(method: str) -> None:
    n, calls = 300, []

    def counted(t: float, u: np.ndarray, flow: np.ndarray, u_rate: np.ndarray, k: float) -> dict[str, np.ndarray]:
        calls.append(t)
        return {"u": u_rate + flow - np.roll(flow, 1), "flow": flow - k * (u - np.roll(u, -1))}

    before = np.roll(np.eye(n), -1, axis=1)
    pattern = np.block([[np.eye(n), np.eye(n) + before], [np.eye(n) + before.T, np.eye(n)]])
    start = np.sin(2 * np.pi * np.arange(n) / n)
    given: Any = {"initial": {"u": start}, "guess": {"flow": np.zeros(n)}, "algebraic": ["flow"], "interval": (0, 40)}
    row = uh.Problem.from_residuals(counted, parameters={"k": 3.0}, sparsity=pattern, **given)
    at_start = len(calls)
    run = uh.integrate(row, method, rtol=1e-7)
    assert run["u"][-1] == pytest.approx(np.exp(-4 * 3.0 * np.sin(np.pi / n) ** 2 * 40) * start, abs=1e-5)
    assert at_start < n / 2
    assert run.tally.rate_evaluations < 20 * run.tally.accepted + 40 * run.tally.jacobians
    with pytest.raises(errors.ValueGivenError, match="sparsity"):
        uh.Problem.from_residuals(counted, parameters={"k": 3.0}, sparsity=np.eye(n), **given)


def test_residuals_are_equal_by_value_and_can_be_pickled() -> None:
    one, other = (
        uh.Problem.from_residuals(moving_mass, initial={"a": 1.0, "b": 0.5}, interval=(0, 3), guess={"a_rate": -1})
        for _ in range(2)
    )
    assert one == other
    again = pickle.loads(pickle.dumps(one))
    assert again == one
    assert uh.integrate(again).final == uh.integrate(one).final
    assert one != uh.Problem.from_residuals(moving_mass, initial={"a": 1.0, "b": 0.5}, interval=(0, 4))


@pytest.mark.parametrize(
    ("function", "initial", "error", "words"),
    [
        (lambda t, x, x_rate: [1.0, 2.0], {"x": 1.0}, errors.ValueGivenError, "as many residuals"),
        (lambda t, x, x_rate: [x - 1.0], {"x": 1.0}, errors.UnfitProblemError, "do not determine 'x_rate'"),
        (lambda t, x, w_rate: [x], {"x": 1.0}, errors.RateFunctionError, "w_rate"),
        (lambda t, x, x_rate: [x], {"x": 1.0, "x_rate": 1.0}, errors.NameClashError, "name of a rate"),
    ],
)
def test_residuals_that_determine_nothing_are_refused(
    function: Any, initial: dict[str, float], error: type, words: str
) -> None:
    with pytest.raises(error, match=words):
        uh.integrate(uh.Problem.from_residuals(function, initial=initial, interval=(0, 1)))
