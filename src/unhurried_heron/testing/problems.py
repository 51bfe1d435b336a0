"""The problems that every method must march, in three shapes with one solution, of which a method may take one.

"plain": y' = f(t, y); "twin": y' = f(t, z), z' = f(t, y) from equal starts, in two parts that move by each other alone;
"second order": y'' = f_t + f_y f, where that is a formula of t and y.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.options import refuse_unfit
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.input.event import Event
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem

Shape = Literal["plain", "twin", "second order"]
Solved = tuple[Problem, Callable[[Array], Array]]
SHAPES: Final[tuple[Shape, ...]] = ("plain", "twin", "second order")


def shape_of(method: Method) -> Shape:
    """Return the shape of problems that a method takes, the first of them.

    Raises
    ------
    UnfitProblemError
        It takes none.
    """
    reasons = []
    for shape in SHAPES:
        try:
            refuse_unfit(method, growth(shape)[0])
        except UnfitProblemError as error:
            reasons.append(error)
        else:
            return shape
    raise reasons[0]


def _twin(text: str) -> str:
    return re.sub(r"\bmass\b", "other", text)


def shaped(
    shape: Shape,
    rate: str,
    bend: str = "",
    *,
    start: tuple[float, float] = (1.0, 0.0),
    loop: str = "",
    events: Sequence[Event] = (),
    **given: Any,
) -> Problem:
    """Return the problem mass' = rate in a shape.

    Parameters
    ----------
    shape : "plain", "twin" or "second order"
    rate : str
        A formula of t and mass, or of mass[i].
    bend : str, optional
        What mass'' is, in t and mass.
    start : (float, float)
        Of mass and of its rate.
    loop : str, optional
        The range of i, where there are many.
    events : sequence of Event, optional
        Each acts on the twin too.
    **given : object
        As for `Problem.from_text`.

    Returns
    -------
    Problem

    Raises
    ------
    UnfitProblemError
        There is none of this shape.
    """
    index, ranged = ("[i]", f" for i in {loop}") if loop else ("", "")
    # of many, each is a multiple of the first
    first, second = (f"{each}*i" if loop else each for each in start)
    if shape == "second order":
        if not bend or any(each.then is not None for each in events):
            raise UnfitProblemError("it has no form of second order", name="mass", location="the contract",
                                    expected="a problem that has one", given=rate)  # fmt: skip
        text, initial = f"mass{index}'' = {bend}{ranged}", {f"mass{index}": first, f"mass{index}'": second}
    else:
        text, initial = f"mass{index}' = {rate}{ranged}", {f"mass{index}": first}
        if shape == "twin":
            text = f"mass{index}' = {_twin(rate)}{ranged}\nother{index}' = {rate}{ranged}"
            initial = {**initial, f"other{index}": first}
            events = [_on_both(each) for each in events]
    return Problem.from_text(text, initial=initial, events=events, **given)


def _on_both(event: Event) -> Event:
    """Return an event that changes the twin as it changes the state."""
    if not isinstance(event.then, str):
        return event
    lines = event.then.split("\n")
    beside = [_twin(line) for line in lines if line.startswith("mass")]
    return Event(event.when, event.name, at=event.at, then="\n".join([*lines, *beside]))


def growth(shape: Shape = "plain") -> Solved:
    """Logistic growth, which has a closed form."""
    problem = shaped(shape, "mass/4*(1 - mass/20)", "mass/16*(1 - mass/20)*(1 - mass/10)", start=(1.0, 0.2375),
                     interval=(0.0, 10.0), title="growth")  # fmt: skip
    return problem, lambda t: 20.0 / (1.0 + 19.0 * np.exp(-t / 4.0))


def swing(shape: Shape = "plain") -> Solved:
    """A rate that depends on time: y' = y cos t."""
    problem = shaped(shape, "mass*cos(t)", "mass*(cos(t)^2 - sin(t))", start=(1.0, 1.0), interval=(0.0, 10.0),
                     title="swing")  # fmt: skip
    return problem, lambda t: np.exp(np.sin(t))


def across(shape: Shape = "plain") -> Solved:
    """A rate that jumps at a time known beforehand, where no step ends by itself."""
    problem = shaped(shape, "mass*where(t < 3.7, 0.25, -0.5)", interval=(0.0, 10.0), title="across a switch")
    return problem, lambda t: np.exp(0.25 * np.minimum(t, 3.7) - 0.5 * np.maximum(t - 3.7, 0.0))


def turned(shape: Shape = "plain") -> Solved:
    """Growth that turns to decay and is halved at a known time: an event that acts, where no step ends."""
    problem = shaped(
        shape,
        "rate*mass",
        parameters={"rate": 0.25},
        interval=(0.0, 10.0),
        events=[Event(at=3.7, then="rate = -0.5\nmass = mass/2")],
        title="across an event that acts",
    )
    return (
        problem,
        lambda t: np.exp(0.25 * np.minimum(t, 3.7) - 0.5 * np.maximum(t - 3.7, 0.0)) / np.where(t < 3.7, 1, 2),
    )


def multiples(n: int, shape: Shape = "plain") -> Problem:
    """Return n states as that of `swing`, each a multiple of the first."""
    return shaped(shape, "mass[i]*cos(t)", "mass[i]*(cos(t)^2 - sin(t))", start=(1.0, 1.0), loop=f"1..{n}",
                  interval=(0.0, 10.0))  # fmt: skip


def constant(z: float, end: float, shape: Shape = "plain", *, exact: bool = False) -> Problem:
    """Return y' = z y up to a time.

    Parameters
    ----------
    z : float
    end : float
    shape : "plain", "twin" or "second order"
    exact : bool, optional
        Whether it says its closed form.

    Returns
    -------
    Problem
    """
    known = {"mass": "exp(k*t)"} if exact else None
    return shaped(shape, "k*mass", "k^2*mass", start=(1.0, z), parameters={"k": z}, exact=known, interval=(0.0, end))


def relay(sign: float, shape: Shape = "plain") -> Problem:
    """Return a relay between two levels, mirrored at a known time, forward or backward in time."""
    return shaped(
        shape,
        "rate*mass",
        parameters={"rate": 0.25 * sign},
        interval=(0.0, sign * 9.5),
        events=[
            Event("mass >= 2", name="high", then="rate = -rate"),
            Event("mass <= 1", name="low", then="rate = -rate"),
            Event(at=sign * 4.0, name="known", then="mass = 3 - mass"),
        ],
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
