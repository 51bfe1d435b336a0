"""Lyapunov exponents of systems whose exponents are known, and what they say."""

from __future__ import annotations

import math

import numpy as np
import pytest

import unhurried_heron as uh


@pytest.mark.long
def test_exponents_of_linear_systems_are_real_parts_of_eigenvalues() -> None:
    linear = uh.Problem.from_text("x' = -x + 3*y\ny' = -3*x - y\nz' = 0.5*x - 4*z", initial={"x": 1, "y": 0, "z": 1},
                                  interval=(0, 10))  # fmt: skip
    found = uh.exponents(linear, seconds=1.0)
    assert found.values == pytest.approx([-1, -1, -4], abs=1e-4)
    # a hanging weight with friction, in the plane: two of its states are free
    hanging = "x'' = -pull*x - 0.3*x'\ny'' = -pull*y - 9 - 0.3*y'\n0 = x^2 + y^2 - 1"
    weight = uh.Problem.from_text(hanging, initial={"x": 0.6, "y": -0.8, "x'": 0, "y'": 0}, interval=(0, 5))
    pulls = uh.exponents(weight, seconds=1.0).values
    assert pulls == pytest.approx([-0.15, -0.15], abs=0.03)
    assert pulls.sum() == pytest.approx(-0.3, abs=1e-3)
    with pytest.raises(uh.OptionError, match="fewer exponents"):
        uh.exponents(weight, 3)
    # backwards what shrank grows; and a parameter that the rates do not name does no harm
    back = uh.Problem.from_text("x' = -x", initial={"x": "s"}, interval=(1, 0), parameters={"s": 1e-9})
    assert uh.exponents(back, seconds=0.3).values == pytest.approx([1.0], abs=1e-4)
    tiny = uh.Problem.from_rates(lambda t, x: -x * (1 + 1e12 * x), initial={"x": 1e-12}, interval=(0, 1))
    assert uh.exponents(tiny, seconds=0.3, atol=1e-30).values == pytest.approx([-1.0], abs=1e-2)
    assert (found.verdict, found.dimension) == ("settles", 0.0)
    assert "tenfold" not in str(found)
    assert found.convergence[-1] == pytest.approx(found.values)


@pytest.mark.long
def test_convection_is_chaotic() -> None:
    """E. N. Lorenz's equations; 0.9056, 0 and -14.5723 (J. C. Sprott, 2003). The sum is the trace of the Jacobian."""
    convection = uh.Problem.from_text(
        "x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", initial={"x": 1, "y": 1, "z": 20}, interval=(0, 20)
    )
    found = uh.exponents(convection, accuracy=0.03, seconds=60.0)
    assert found.values.sum() == pytest.approx(-41 / 3, rel=1e-7)
    assert found.values == pytest.approx([0.9056, 0, -14.5723], abs=2.0 * float(found.half_widths.max()) + 0.003)
    assert found.half_widths[0] < 0.03
    assert found.verdict == "chaotic"
    assert found.dimension == pytest.approx(2.062, abs=0.005)
    assert "it is chaotic" in str(found)
    assert f"a difference grows tenfold in {math.log(10) / found.values[0]:.4g}" in str(found)
    (ax,) = uh.draw_exponents(found).axes
    curves = [line for line in ax.lines if len(line.get_xdata()) == found.times.size]
    assert [line.get_ydata()[-1] for line in curves] == pytest.approx(found.values)
    assert ax.get_title(loc="left") == "Lyapunov exponents: chaotic"
    assert found.frame()["half width"].to_numpy() == pytest.approx(found.half_widths)
    with pytest.raises(uh.OptionError):
        uh.draw_exponents(3)


@pytest.mark.parametrize(
    ("text", "initial", "count", "verdict"),
    [
        ("x' = v\nv' = (1 - x^2)*v - x", {"x": 1, "v": 0}, None, "cycles"),
        ("x' = v\nv' = (1 - x^2)*v - x", {"x": 1, "v": 0}, 1, "cycles"),
        ("x' = v\nv' = (1 - x^2)*v - z\n0 = z + z^3/9 - x", {"x": 1, "v": 0}, None, "cycles"),
        ("x' = v\nv' = -x\ny' = w\nw' = -2*y", {"x": 1, "v": 0, "y": 1, "w": 0}, None, "quasi-periodic"),
        ("x' = v\nv' = -x - v + cos(t)", {"x": 1, "v": 0}, None, "settles"),
        ("x' = v\nv' = -x + 0.1*cos(1.41421*t)", {"x": 1, "v": 0}, None, "quasi-periodic"),
        ("u[i]' = -i*u[i] for i in 1..2", {"u": 1}, None, "settles"),
    ],
)
@pytest.mark.long
def test_verdicts(text: str, initial: dict, count: int | None, verdict: str) -> None:
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, 10))
    # which end before, but for those that never come to the accuracy
    seconds = 6.0 if "0 =" in text else 1.2
    assert uh.exponents(problem, count, seconds=seconds, accuracy=0.02).verdict == verdict


@pytest.mark.parametrize(
    ("text", "initial", "exact"),
    [  # both by J. C. Sprott, Chaos and Time-Series Analysis (2003), tables of appendix A
        ("x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", {"x": 1, "y": 1, "z": 20}, 0.9056),
        ("x' = -y - z\ny' = x + 0.2*y\nz' = 0.2 + z*(x - 5.7)", {"x": 1, "y": 1, "z": 0}, 0.0714),
    ],
)
@pytest.mark.long
def test_exponents_of_the_literature(text: str, initial: dict, exact: float) -> None:
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, 50))
    found = uh.exponents(problem, 1, accuracy=0.008, seconds=30.0, rtol=1e-6)
    assert found.values == pytest.approx([exact], rel=0.01)
    assert found.half_widths[0] <= 0.008 * found.values[0]


@pytest.mark.long
def test_where_energy_is_kept_exponents_come_in_pairs() -> None:
    """The stars of M. Henon and C. Heiles (1964), at an energy where most motion is chaotic."""
    energy = uh.Problem.from_text("x' = p\ny' = q\np' = -x - 2*x*y\nq' = -y - x^2 + y^2", interval=(0, 50),
                                  initial={"x": 0, "y": -0.25, "p": 0.42081, "q": 0})  # fmt: skip
    found = uh.exponents(energy, seconds=1.5, rtol=1e-9)
    assert found.values + found.values[::-1] == pytest.approx(0, abs=1e-4)
    assert found.values.sum() == pytest.approx(0, abs=1e-7)
    assert found.verdict == "chaotic"
    many = uh.Problem.from_text("u[i]' = sum(w*(u[j] - u[i]) for j in 1..3) - u[i] for i in 1..3",
                                parameters={"w": 0.5}, initial={"u": [1.0, 2.0, 3.0]}, interval=(0, 9))  # fmt: skip
    assert uh.exponents(many, seconds=0.3).values == pytest.approx([-1, -2.5, -2.5], abs=1e-3)


def test_what_has_no_exponents_is_refused() -> None:
    jumps = uh.Problem.from_text("x' = where(x > 1, -1, 1)", initial={"x": 0}, interval=(0, 10))
    acts = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 10),
                                events=[uh.Event(every=1, then="x = 1")])  # fmt: skip
    blows = uh.Problem.from_text("x' = x^2", initial={"x": 1}, interval=(0, 10))
    for problem, count in ((jumps, 1), (acts, 1), (blows, 1), (blows, 2), (blows, 0)):
        with pytest.raises(uh.HeronError):
            uh.exponents(problem, count, seconds=1.0)
    assert np.isfinite(
        uh.exponents(uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1)), seconds=0.2).values
    )
