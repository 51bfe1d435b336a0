"""What a change of units, of the direction of time, or of names must leave as it is: nothing in a method has a unit."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.methods.method import Method

# A predator and its prey, the pumps of which a switch starts, with a stiff return to a level.
TEXT = """
x' = time * (x*(1.25 - y/predators) + size*where(x > 1.5*size, -0.25, 0.125))
y' = time * (y*(x/size - 1)/2)
z' = time * (x - 40*z)
"""
START = {"x": 0.75, "y": 0.5, "z": 0.25}
RTOL, ATOL, END, STEP = 2.0**-18, 2.0**-24, 6.0, 2.0**-7
# of every family, with fixed steps too
METHODS = [CATALOGUE[name] for name in (*representatives(), "classical-rk-4", "implicit-midpoint", "adams-pece-4")]


def sizes(size: float, predators: float) -> dict[str, float]:
    """Return the unit of each state."""
    return {"x": size, "y": predators, "z": size}


def model(time: float, size: float, predators: float, *, back: bool = False) -> uh.Problem:
    """Return the model in other units: its time ``1/time`` as long, its states so many times as large.

    Factors are powers of two, by which floating-point numbers are multiplied without rounding.
    """
    return uh.Problem.from_text(
        TEXT,
        initial={name: START[name] * unit for name, unit in sizes(size, predators).items()},
        parameters={"time": -time if back else time, "size": size, "predators": predators},
        interval=(0, (-END if back else END) / time),
        events=[uh.Event("x = size", name="crossing", going="up", then="z = z/2")],
    )


def marched(
    method: Method, time: float = 1.0, size: float = 1.0, predators: float = 1.0, *, back: bool = False
) -> uh.Run:
    """Return a run with tolerances and steps in the units of its model."""
    problem = model(time, size, predators, back=back)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        if method.adaptive:
            atol = {name: ATOL * unit for name, unit in sizes(size, predators).items()}
            return uh.integrate(problem, method, rtol=RTOL, atol=atol, budget={"steps": 4000})
        return uh.integrate(problem, method, step=STEP / time, budget={"steps": 4000})


def in_units(run: uh.Run, time: float = 1.0, size: float = 1.0, predators: float = 1.0) -> dict[str, np.ndarray]:
    """Return counts, times, states and events of a run, its units changed back."""
    tally, units = run.tally, np.array(list(sizes(size, predators).values()))
    found = run.events
    return {
        "counts": np.array([tally.accepted, tally.refused, tally.rate_evaluations, tally.factorisations, tally.solves]),
        "times": run.times * time,
        "states": run.states / units,
        "events": found["time"].to_numpy() * time,
        "states at events": found[list(run.problem.states)].to_numpy() / units,
        "steps": run.ledger["step"].to_numpy() * time,
        "error ratios": run.ledger["error"].to_numpy(),
    }


@pytest.mark.parametrize("method", METHODS, ids=lambda method: method.name)
def test_units_and_the_direction_of_time_change_nothing(method: Method) -> None:
    run = marched(method)
    here = in_units(run)
    assert here["events"].size > 0 or not run.ending.as_requested
    for units in ((2.0**30, 1.0, 1.0), (2.0**-30, 1.0, 1.0), (1.0, 2.0**40, 2.0**40), (1.0, 2.0**-40, 2.0**-40)):
        there = in_units(marched(method, *units), *units)
        for name, values in here.items():
            np.testing.assert_array_equal(there[name], values, f"{name} in units {units}")
    there = in_units(marched(method, back=True), -1.0)
    for name, values in here.items():
        np.testing.assert_array_equal(there[name], values, f"{name} backwards")


@pytest.mark.parametrize("method", METHODS, ids=lambda method: method.name)
def test_states_of_very_different_size(method: Method) -> None:
    """Pivots of factorisations differ with them, and so does rounding, but nothing beyond the tolerance."""
    run = marched(method)
    for units in ((1.0, 2.0**40, 1.0), (1.0, 2.0**-40, 1.0)):
        other = marched(method, *units)
        assert other.ending.reason == run.ending.reason
        assert abs(other.tally.accepted - run.tally.accepted) <= 0.03 * run.tally.accepted + 1
        if run.ending.as_requested:
            there = in_units(other, *units)
            np.testing.assert_allclose(there["states"][-1], run.states[-1], rtol=2e-4)
            np.testing.assert_allclose(there["events"], run.events["time"], rtol=1e-4)
