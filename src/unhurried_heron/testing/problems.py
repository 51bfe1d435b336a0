"""The problems that every method must march."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.input.event import Event
from unhurried_heron.problem.problem import Problem


def growth() -> tuple[Problem, Callable[[Array], Array]]:
    """Logistic growth, which has a closed form."""
    problem = Problem.from_text(
        "mass' = mass/4*(1 - mass/20)", initial={"mass": 1.0}, interval=(0.0, 10.0), title="growth"
    )
    return problem, lambda t: 20.0 / (1.0 + 19.0 * np.exp(-t / 4.0))


def swing() -> tuple[Problem, Callable[[Array], Array]]:
    """A rate that depends on time: y' = y cos t."""
    problem = Problem.from_text("mass' = mass*cos(t)", initial={"mass": 1.0}, interval=(0.0, 10.0), title="swing")
    return problem, lambda t: np.exp(np.sin(t))


def across() -> tuple[Problem, Callable[[Array], Array]]:
    """A rate that jumps at a time known beforehand, where no step ends by itself."""
    problem = Problem.from_text(
        "mass' = mass*where(t < 3.7, 0.25, -0.5)", initial={"mass": 1.0}, interval=(0.0, 10.0), title="across a switch"
    )
    return problem, lambda t: np.exp(0.25 * np.minimum(t, 3.7) - 0.5 * np.maximum(t - 3.7, 0.0))


def turned() -> tuple[Problem, Callable[[Array], Array]]:
    """Growth that turns to decay and is halved at a known time: an event that acts, where no step ends."""
    problem = Problem.from_text(
        "mass' = rate*mass",
        initial={"mass": 1.0},
        parameters={"rate": 0.25},
        interval=(0.0, 10.0),
        events=[Event(at=3.7, then="rate = -0.5\nmass = mass/2")],
        title="across an event that acts",
    )
    return (
        problem,
        lambda t: np.exp(0.25 * np.minimum(t, 3.7) - 0.5 * np.maximum(t - 3.7, 0.0)) / np.where(t < 3.7, 1, 2),
    )


def weighted() -> tuple[Problem, Callable[[Array], dict[str, Array]]]:
    """Logistic growth and food that decays, told by two sums of their rates."""

    def rates(mass: float, food: float) -> list[float]:
        growing, decaying = mass / 4 * (1 - mass / 20), -food / 3
        return [growing + 2 * decaying, 3 * growing - decaying]

    problem = Problem.from_rates(
        rates, initial={"mass": 1.0, "food": 9.0}, interval=(0.0, 10.0), mass=[[1, 2], [3, -1]], title="a mass matrix"
    )
    return problem, lambda t: {"mass": growth()[1](t), "food": 9.0 * np.exp(-t / 3)}


def constrained() -> tuple[Problem, Callable[[Array], dict[str, Array]]]:
    """Logistic growth whose crowding is told by a constraint."""

    def rates(mass: float, crowding: float) -> list[float]:
        return [mass / 4 - crowding, mass**2 - 80 * crowding]

    problem = Problem.from_rates(
        rates, initial={"mass": 1.0, "crowding": 1 / 80}, interval=(0.0, 10.0), mass=[1, 0], title="a constraint"
    )
    return problem, lambda t: {"mass": growth()[1](t), "crowding": growth()[1](t) ** 2 / 80}
