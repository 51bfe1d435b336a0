"""Solutions of complex equations against closed forms: each function, switches, sliding, events, actions, inputs."""

from __future__ import annotations

import cmath
import math
from collections.abc import Callable
from typing import Any

import numba
import numpy as np
import pytest
from scipy.linalg import expm

import unhurried_heron as uh

Z0 = 0.7 - 0.4j
METHODS = ("verner-76", "radau-iia-5", "backward-differentiation-variable", "auto")


def conjugate(t: float) -> complex:
    x, y = Z0.real, Z0.imag
    return complex(x * math.cosh(t) + y * math.sinh(t), y * math.cosh(t) + x * math.sinh(t))


def tangent(t: float) -> complex:
    return cmath.tan(t + cmath.atan(Z0))


# the right-hand side, and the solution from Z0 by its antiderivative
SOLVED: dict[str, Callable[[float], complex]] = {
    "1/z": lambda t: cmath.sqrt(Z0**2 + 2.0 * t),
    "i/z^2": lambda t: (Z0**3 + 3j * t) ** (1 / 3),
    "i*z^2": lambda t: Z0 / (1.0 - 1j * Z0 * t),
    "1 + z^2": tangent,
    "sqrt(z)": lambda t: (cmath.sqrt(Z0) + t / 2.0) ** 2,
    "z^1.5": lambda t: (Z0**-0.5 - t / 2.0) ** -2,
    "z^(1 + i)": lambda t: (Z0**-1j - 1j * t) ** 1j,
    "exp(-z)": lambda t: cmath.log(cmath.exp(Z0) + t),
    "exp(i*z)": lambda t: 1j * cmath.log(cmath.exp(-1j * Z0) - 1j * t),
    "2^(-z)": lambda t: cmath.log(2.0**Z0 + t * math.log(2.0)) / math.log(2.0),
    "z*log(z)": lambda t: cmath.exp(cmath.log(Z0) * math.exp(t)),
    "1/cos(z)": lambda t: cmath.asin(cmath.sin(Z0) + t),
    "i/sin(z)": lambda t: cmath.acos(cmath.cos(Z0) - 1j * t),
    "cos(z)^2": lambda t: cmath.atan(cmath.tan(Z0) + t),
    "1/cosh(z)": lambda t: cmath.asinh(cmath.sinh(Z0) + t),
    "1 - tanh(z)^2 + tanh(z)^2": lambda t: Z0 + t,
    "i*conj(z)": conjugate,
    "-abs(z)*z": lambda t: Z0 / (1.0 + abs(Z0) * t),
    "i*abs(z)^2*z": lambda t: Z0 * cmath.exp(1j * abs(Z0) ** 2 * t),
    "i*z*arg(z)/arg(z)": lambda t: Z0 * cmath.exp(1j * t),
    "re(z) + 2*i*im(z)": lambda t: complex(Z0.real * math.exp(t), Z0.imag * math.exp(2.0 * t)),
    "z*where(t < 1/4, i, -1)": lambda t: Z0 * cmath.exp(1j * min(t, 0.25) - max(t - 0.25, 0.0)),
}


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("rate", SOLVED)
def test_a_complex_equation_has_its_solution(rate: str, method: str) -> None:
    problem = uh.Problem.from_text(f"z' = {rate}", initial={"z": Z0}, interval=(0, 0.4))
    run = uh.integrate(problem, method, rtol=1e-10, atol=1e-12)
    assert run.ending.as_requested
    for t in (0.13, 0.4):
        assert abs(run.at(t, "z") - SOLVED[rate](t)) < 1e-7, t


@pytest.mark.parametrize("method", METHODS)
def test_linear_systems_of_complex_states_have_their_solutions(method: str) -> None:
    start = np.array([1.0 + 0.5j, -0.3j])
    coupled = "2*i*z' + w' = z\nw' - i*z' = w"
    second = "z'' + 2*i*f*z' + 4*z = 0"
    # 3 i z' = z - w, w' = w + i z'; and z as a first-order system
    matrices = {coupled: np.array([[1, -1], [1j, 2j]]) / 3j, second: np.array([[0, 1], [-4, -3j]])}
    for text, other, parameters in ((coupled, "w", None), (second, "z'", {"f": 1.5})):
        initial = dict(zip(("z", other), start, strict=True))
        problem = uh.Problem.from_text(text, initial=initial, parameters=parameters, interval=(0, 1.5))
        run = uh.integrate(problem, method, rtol=1e-9, atol=1e-11)
        expected = expm(matrices[text] * 1.5) @ start
        assert [run.final["z"], run.final[other]] == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize("method", METHODS)
def test_switches_of_complex_states_are_where_they_are(method: str) -> None:
    turning = uh.Problem.from_text(
        "z' = where(re(z) > 0, i*z, 2*i*z)", initial={"z": 1 + 0j}, interval=(0, 2.25 * math.pi)
    )
    run = uh.integrate(turning, method, rtol=1e-9, atol=1e-11)
    assert run.switches["time"].to_numpy() == pytest.approx([math.pi / 2, math.pi, 2 * math.pi], abs=1e-6)
    assert run.final["z"] == pytest.approx(-1.0, abs=1e-6)
    sliding = uh.Problem.from_text("z' = i - sign(re(z))", initial={"z": 1 + 0j}, interval=(0, 3))
    run = uh.integrate(sliding, method, rtol=1e-9, atol=1e-11)
    assert run.at([0.5, 1.0, 3.0], "z") == pytest.approx(np.array([0.5 + 0.5j, 1j, 3j]), abs=1e-6)


def turn(t: float, z: complex, speed: float) -> complex:
    return 1j * speed * z


EVENTS = {
    "text": ("re(z) = 0", "z = 2*i*z"),
    "function": (lambda z: z.real, lambda z: {"z": 2j * z}),
}


@pytest.mark.parametrize("form", EVENTS)
@pytest.mark.parametrize("rates", ["text", "function", "njit"])
def test_events_find_and_change_complex_states(rates: str, form: str) -> None:
    when, then = EVENTS[form]
    # half a turn goes by at once wherever the imaginary axis is crossed: by i onto the real axis
    events = [uh.Event(when, then=then, name="axis"), uh.Event(at=1.0, name="seen")]
    given: dict[str, Any] = {
        "initial": {"z": 1 + 0j},
        "parameters": {"speed": 2.0},
        "interval": (0, 2),
        "events": events,
    }
    if rates == "text":
        problem = uh.Problem.from_text("z' = i*speed*z", **given)
    else:
        problem = uh.Problem.from_rates(numba.njit(turn) if rates == "njit" else turn, **given)
    run = uh.integrate(problem, rtol=1e-10, atol=1e-12)
    found = run.events[run.events["name"] == "axis"]["time"].to_numpy()
    assert found == pytest.approx([math.pi / 4, math.pi / 2], abs=1e-7)
    # each time the size doubles, and the angle goes on by a right one
    assert run.final["z"] == pytest.approx(4.0 * cmath.exp(1j * (4.0 + math.pi)), abs=1e-6)
    assert run.at(1.0, "z") == pytest.approx(2.0 * cmath.exp(1j * (2.0 + math.pi / 2)), abs=1e-7)


def test_inputs_and_parameters_drive_complex_states() -> None:
    gust = uh.Measured([0.0, 0.5, 1.0], [0.0, 1.0, 0.0])
    problem = uh.Problem.from_text(
        "z' = i*wind*c*z", initial={"z": "c*exp(i*b)"}, parameters={"c": 2.0, "b": 0.3}, inputs={"wind": gust},
        interval=(0, 1),
    )  # fmt: skip
    for c in (2.0, 0.5):
        run = uh.integrate(problem, parameters={"c": c}, rtol=1e-10, atol=1e-12)
        # the area below the gust is a half
        assert run.final["z"] == pytest.approx(c * cmath.exp(0.3j + 0.5j * c), abs=1e-8)
