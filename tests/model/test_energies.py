"""Equations of motion from energies, against textbooks."""

from __future__ import annotations

import numpy as np
import pytest
from model.test_reduction import rates_at

import unhurried_heron as uh
from unhurried_heron import errors


def test_two_joined_pendulums_against_the_textbook() -> None:
    # L. D. Landau and E. M. Lifshitz, Mechanics, 3rd ed. (1976), section 5, problem 1
    problem = uh.Problem.from_lagrangian(
        """
        kinetic   = (m1 + m2)*l1^2*a'^2/2 + m2*l2^2*b'^2/2 + m2*l1*l2*a'*b'*cos(a - b)
        potential = -(m1 + m2)*g*l1*cos(a) - m2*g*l2*cos(b)
        """,
        ["a", "b"],
        parameters={"m1": 1.3, "m2": 0.7, "l1": 0.9, "l2": 1.4, "g": 9.81},
        initial={"a": 1.0, "a'": 0.0, "b": -0.5, "b'": 0.2},
        interval=(0, 5),
    )
    m1, m2, l1, l2, g = 1.3, 0.7, 0.9, 1.4, 9.81
    rng = np.random.default_rng(7)
    for a, v, b, w in rng.uniform(-2, 2, (10, 4)):
        matrix = [[(m1 + m2) * l1, m2 * l2 * np.cos(a - b)], [l1 * np.cos(a - b), l2]]
        right = [
            -m2 * l2 * w**2 * np.sin(a - b) - (m1 + m2) * g * np.sin(a),
            l1 * v**2 * np.sin(a - b) - g * np.sin(b),
        ]
        first, second = np.linalg.solve(matrix, right)
        assert rates_at(problem, [a, v, b, w]) == pytest.approx([v, first, w, second], rel=1e-11)
    energy = uh.integrate(problem, rtol=1e-11)["energy"]
    assert energy == pytest.approx(np.full_like(energy, energy[0]), rel=1e-8)


def test_forces_and_time_in_the_energies() -> None:
    # a mass on a spring whose other end is moved: m z'' = -k (z - s(t)) - c z', and T + V is the energy
    problem = uh.Problem.from_lagrangian(
        "kinetic = m*z'^2/2\npotential = k*(z - sin(3*t))^2/2",
        ["z"],
        forces={"z": "-c*z'"},
        parameters={"m": 2.0, "k": 5.0, "c": 0.3},
        initial={"z": 1, "z'": 0},
        interval=(0, 1),
    )
    wanted = [0.4, (-5 * (0.7 - np.sin(1.2)) - 0.3 * 0.4) / 2]
    assert rates_at(problem, [0.7, 0.4], 0.4) == pytest.approx(wanted, rel=1e-14)
    run = uh.integrate(problem)
    assert run["energy"] == pytest.approx(run["kinetic"] + run["potential"], rel=1e-14)


def test_energy_where_it_is_not_kinetic_plus_potential() -> None:
    # a bead on a rod turned at a fixed rate: L = m (r'^2 + W^2 r^2)/2, kept is r' dL/dr' - L = m (r'^2 - W^2 r^2)/2
    bead = uh.Problem.from_lagrangian(
        "kinetic = m*(r'^2 + turn^2*r^2)/2\npotential = 0*r",
        ["r"],
        parameters={"m": 1.0, "turn": 2.0},
        initial={"r": 1, "r'": 0},
        interval=(0, 1),
    )
    run = uh.integrate(bead, rtol=1e-11)
    assert run["r"] == pytest.approx(np.cosh(2 * run.times), rel=1e-9)
    assert run["energy"] == pytest.approx(np.full(run.times.size, -2.0), rel=1e-8)


def test_hamiltonian() -> None:
    orbit = uh.Problem.from_hamiltonian(
        "hamiltonian = (px^2 + py^2)/(2*m) - strength/r\nr = sqrt(x^2 + y^2)",
        {"x": "px", "y": "py"},
        parameters={"m": 0.5, "strength": 0.5},
        initial={"x": 1, "y": 0, "px": 0, "py": 0.5},
        interval=(0, 2 * np.pi),
    )
    run = uh.integrate(orbit, rtol=1e-11)
    # a circle of radius one, run through once
    assert [run.final[name] for name in ("x", "y", "px", "py")] == pytest.approx([1, 0, 0, 0.5], abs=1e-8)
    assert run["energy"] == pytest.approx(np.full(run.times.size, -0.25), rel=1e-9)
    pushed = uh.Problem.from_hamiltonian(
        "hamiltonian = p^2/2", {"q": "p"}, forces={"q": "3 - p"}, initial={"q": 0, "p": 0}, interval=(0, 1)
    )
    assert rates_at(pushed, [0.2, 0.5]) == pytest.approx([0.5, 2.5])


@pytest.mark.parametrize(
    ("text", "coordinates", "forces", "kind", "words"),
    [
        ("kinetic = z'^2", ["z"], {}, errors.ExpressionError, "no 'potential'"),
        ("kinetic = z''^2\npotential = z", ["z"], {}, errors.ExpressionError, "cannot stand in an energy"),
        ("kinetic = z'^2 + w'^2\npotential = z", ["z"], {}, errors.ExpressionError, "'w''"),
        ("kinetic = z'^2\npotential = k*z", ["z"], {}, errors.UndefinedNameError, "'k'"),
        ("kinetic = z'^2\npotential = z", ["z"], {"w": "1"}, errors.UndefinedNameError, "no coordinate"),
        ("kinetic = z'\npotential = z", ["z"], {}, errors.OrderError, "no highest derivative"),
        ("z'' = 1", ["z"], {}, errors.ExpressionError, "formulas only"),
        ("kinetic = z'^2\npotential = z", [], {}, errors.NameClashError, "different names"),
    ],
)
def test_energies_that_say_no_motion(text: str, coordinates: list, forces: dict, kind: type, words: str) -> None:
    with pytest.raises(kind, match=words):
        uh.Problem.from_lagrangian(text, coordinates, forces=forces, initial={"z": 1, "z'": 0}, interval=(0, 1))


def test_positions_that_are_formulas_have_velocities() -> None:
    arm = uh.Problem.from_lagrangian(
        "x = arm*sin(tilt)\ny = -arm*cos(tilt) + lift*t\nkinetic = 0.5*(x'^2 + y'^2)\npotential = 9.81*y",
        ["tilt"], parameters={"arm": 1.2, "lift": 0.3}, initial={"tilt": 0.4, "tilt'": 0}, interval=(0, 6),
        events=[uh.Event("y' = 0.3", name="turns"), uh.Event("x' > 0.5", name="fast")],
    )  # fmt: skip
    found = uh.integrate(arm, rtol=1e-10).events
    tilt, speed = found["tilt"].to_numpy(), found["tilt'"].to_numpy()
    turns = (found["name"] == "turns").to_numpy()
    assert turns.sum() > 3
    assert (1.2 * np.sin(tilt) * speed)[turns] == pytest.approx(0, abs=1e-9)
    assert (1.2 * np.cos(tilt) * speed)[~turns] == pytest.approx(0.5, abs=1e-9)
    assert [each.name for each in arm.model.transformations] == ["equations of motion", "first order"]
    with pytest.raises(uh.errors.UndefinedNameError, match="z'"):
        uh.integrate(arm, events=[uh.Event("z' = 0")])
