"""Every pair of options of `integrate`, right and wrong values alike: it works, or our own error refuses it."""

from __future__ import annotations

import itertools
import warnings
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest

import unhurried_heron as uh


def new_problem() -> uh.Problem:
    return uh.Problem.from_text("x' = v\nv' = -k*x", initial={"x": 1, "v": 0}, parameters={"k": 1.0}, interval=(0, 2))


PROBLEM = new_problem()
RIGHT: dict[str, list[Any]] = {
    "method": ["classical-rk-4", "dormand-prince-54", "radau-iia-5", "adams-bashforth-4"],
    "rtol": [1e-6, {"x": 1e-7}],
    "atol": [0, 1e-9, {"v": 1e-8}],
    "step": [0.1, Fraction(1, 30)],
    "count": [40],
    "step_control": ["predictive", uh.Controller(safety=0.5)],
    "local_extrapolation": [False],
    "starter": ["classical-rk-4"],
    "record": ["steps", 7, [0.0, 0.5, 2.0]],
    "events": [[uh.Event("v = -0.5")]],
    "parameters": [{"k": 1.0}],
    "initial": [{"x": 1}],
    "interval": [(0, 2)],
    "switches": [False],
    "budget": [{"steps": 4000}, uh.Budget(seconds=60)],
    "starting_step": [0.01],
    "largest_step": [0.05],
    "linear": ["dense", "banded", "sparse", "krylov"],
    "ledger": [True, False],
    "progress": [False],
    "on_interrupt": ["return"],
}
WRONG: list[Any] = [
    None,
    -1,
    0,
    "junk",
    1e-300,
    10**30,
    10**5000,
    [],
    {},
    object(),
    float("nan"),
    True,
    ["x"],
    (1,),
    b"x",
    1j,
]
PAIRS = [
    {one: a, other: b}
    for one, other in itertools.combinations(RIGHT, 2)
    for a, b in itertools.product(RIGHT[one], RIGHT[other])
]


def outcome(options: dict[str, Any], problem: uh.Problem = PROBLEM) -> uh.Run | None:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", uh.IncompleteRunWarning)
            warnings.simplefilter("ignore", uh.ProblemWarning)
            return uh.integrate(problem, **{"progress": False, **options})
    except uh.HeronError as error:
        return None if error.location and error.expected else pytest.fail(str(error))


def test_what_starts_a_method_is_told() -> None:
    known = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), exact={"x": "exp(-t)"})
    finals = set()
    for starter in ("euler", "heun-2", "exact"):
        run = uh.integrate(known, "adams-bashforth-4", count=20, starter=starter)
        assert run.options["starter"] == starter
        finals.add(run.final["x"])
    assert len(finals) == 3


@pytest.mark.long
def test_every_pair_is_right_or_refused() -> None:
    ran = 0
    for options in PAIRS:
        run = outcome(options)
        if run is None:
            continue
        ran += 1
        assert run.ending.reason == "end", options
        assert run.final["x"] == pytest.approx(np.cos(2), abs=2e-4), options
        assert run.times[-1] == 2.0
        if "largest_step" in options and run.data.ledger is not None:
            assert run.ledger["step"].max() <= 0.05 + 1e-12
        # on a problem that was run before with other options, as on a new one
        fresh = outcome(options, new_problem())
        assert run.states.tolist() == fresh.states.tolist(), options
        assert replace(run.tally, seconds=0) == replace(fresh.tally, seconds=0), options
    assert ran > len(PAIRS) / 2
    assert outcome({"method": "classical-rk-4", "step": 0.5, "largest_step": 0.1}) is None
    assert outcome({"step": 0.1, "starting_step": 0.1}) is None


@pytest.mark.parametrize("option", RIGHT)
def test_a_wrong_value_beside_a_right_one(option: str) -> None:
    for wrong in WRONG:
        for beside in ({}, {"step": 0.1}, {"rtol": 1e-5}):
            if option not in beside:
                outcome({option: wrong, **beside})


@pytest.mark.parametrize("options", [{"step": 1e-17}, {"largest_step": 1e-17}, {"starting_step": 1e-18}])
def test_steps_below_the_spacing_of_times(options: dict[str, float]) -> None:
    with pytest.raises(uh.OptionError, match="spacing"):
        uh.integrate(PROBLEM, interval=(1, 2), **options)


def test_a_rerun_may_have_other_values() -> None:
    run = uh.integrate(PROBLEM.with_(interval=(0, 1)), initial={"x": 0, "v": 2}, interval=(0, np.pi), rtol=1e-9)
    assert run.final["v"] == pytest.approx(-2, abs=1e-7)
    with pytest.raises(uh.OptionError, match="do not fit into memory"):
        uh.integrate(PROBLEM, record=10**12)
