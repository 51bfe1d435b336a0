"""The classical sets, stiff and not, by every method that suits them: errors at the end in units of the tolerance."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from data.literature import REFERENCES, literature_problem

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.methods.method import Method

STIFF = ("robertson", "hires", "oregonator", "van_der_pol_1e6", "pollution", "e5", "ring_of_reactions", "ehl_d3",
         "autocatalysis")  # fmt: skip
SMOOTH = ("arenstorf", "pleiades", "kepler_e09", "brusselator", "euler_rigid_body")
ADAPTIVE = [method for method in all_methods() if method.adaptive and method.order > 1]


def known(name: str) -> tuple[uh.Problem, dict[str, float]]:
    """A problem, and its states at its end."""
    if name == "kepler_e09":
        # after two periods, where it began
        start = {"x": 0.1, "y": 0.0, "u": 0.0, "v": np.sqrt(19.0)}
        text = "x' = u\ny' = v\nu' = -x/(x^2 + y^2)^1.5\nv' = -y/(x^2 + y^2)^1.5"
        return uh.Problem.from_text(text, initial=start, interval=(0, 4 * np.pi)), start
    reference = REFERENCES[name]["reference"]
    key = max(reference, key=float)
    problem = literature_problem(name)
    return problem.with_(interval=(problem.interval[0], float(key))), {s: float(v) for s, v in reference[key].items()}


def worst(name: str, method: Method, rtol: float, size: float) -> float:
    """Largest error in units of the tolerance, ``size`` added to that of each state."""
    problem, truth = known(name)
    # states of e5 are as small as 1e-13
    atol = rtol * (1e-18 if name == "e5" else 1e-8)
    run = uh.integrate(problem, method, rtol=rtol, atol=atol)
    assert run.ending.reason == "end"
    return max(abs(run.final[s] - v) / (atol + rtol * (abs(v) + size)) for s, v in truth.items())


@cache
def amplification(name: str) -> float:
    """How many times a change of a starting value by its own 1e-7 is larger at the end, at the most."""
    problem, truth = known(name)
    ends = []
    for state in [None, *problem.states]:
        start = dict(problem.initial)
        if state:
            start[state] = float(start[state]) + 1e-7 * max(1.0, abs(float(start[state])))
        run = uh.integrate(problem.with_(initial=start), "verner-98", rtol=1e-12, atol=1e-14, record=2)
        ends.append(run.states[-1])
    return max(1.0, float(np.abs(np.array(ends[1:]) - ends[0]).max()) / 1e-7 / max(map(abs, truth.values())))


@pytest.mark.parametrize("method", [m for m in ADAPTIVE if m.stiff], ids=str)
def test_the_stiff_set(method: Method) -> None:
    rtol = 1e-6 if method.order > 2 else 1e-4
    found = {name: worst(name, method, rtol, 0.0) for name in STIFF}
    assert max(found.values()) < 10, found


@pytest.mark.parametrize("method", [m for m in ADAPTIVE if not m.implicit or m.name == "auto"], ids=str)
def test_the_smooth_set(method: Method) -> None:
    rtol = 1e-7 if method.order > 3 else 1e-5
    found = {name: worst(name, method, rtol, 1.0) / amplification(name) for name in SMOOTH}
    assert max(found.values()) < 10, found
