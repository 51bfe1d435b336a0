"""The same call again, and one that differs by a single thing: each gives what a first call on a new problem gives."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import pytest
from representatives import representatives

import unhurried_heron as uh

UNITS = {"t": "h", "level": "m", "k": "1/h"}
TEXT = "level' = -k*level + inflow*where(sin(2*t) > 0, 1, 0)\nhead = 9.81*level"


def problem(**changes: Any) -> uh.Problem:
    given: dict[str, Any] = {
        "initial": {"level": 2.0},
        "parameters": {"k": 0.4, "inflow": 0.7},
        "interval": (0, 3),
        "units": {**UNITS, "inflow": "m/h", "head": "m"},
        "check_units": False,
    }
    return uh.Problem.from_text(TEXT, **{**given, **changes})


LOW = uh.Event("level = 1.5", name="low")
EARLY = uh.Event(at=0.5, then="level = level + 0.1", name="fill")
# what a call may differ by from the one before; an adaptive and a fixed call each
ADAPTIVE: dict[str, dict[str, Any]] = {
    "nothing": {},
    "method": {"method": "radau-iia-5"},
    "rtol": {"rtol": 1e-9},
    "atol": {"atol": 1e-3},
    "tolerance by state": {"atol": {"level": 1e-9}},
    "record": {"record": 7},
    "record with a unit": {"record": "30 min"},
    "parameters": {"parameters": {"k": 1.1}},
    "initial": {"initial": {"level": 0.2}},
    "interval": {"interval": (0.2, 2)},
    "backwards": {"interval": (3, 2.5)},
    "an event": {"events": [LOW]},
    "another event": {"events": [EARLY]},
    "events and parameters": {"events": [LOW, EARLY], "parameters": {"k": 0.2}},
    "budget": {"budget": {"steps": 3}},
    "ledger": {"ledger": True},
    "switches": {"switches": False},
    "largest step": {"largest_step": 0.01},
    "step control": {"step_control": "predictive"},
}
FIXED: dict[str, dict[str, Any]] = {
    "step": {"step": 0.05},
    "count": {"count": 17},
    "whole step": {"step": 1},
    "starter": {"method": "adams-bashforth-3", "step": 0.05, "starter": "heun-2"},
    "another starter": {"method": "adams-bashforth-3", "step": 0.05, "starter": "classical-rk-4"},
}
CALLS = {
    **{name: {"method": "dormand-prince-54", "rtol": 1e-6, **given} for name, given in ADAPTIVE.items()},
    **{name: {"method": "classical-rk-4", **given} for name, given in FIXED.items()},
}


def result(of: uh.Problem, call: str) -> uh.Run:
    """Return the run of a call, without the time that it took."""
    run = uh.integrate(of, **CALLS[call])
    return replace(run, tally=replace(run.tally, seconds=0.0))


@pytest.mark.filterwarnings("ignore::unhurried_heron.IncompleteRunWarning")
@pytest.mark.parametrize("name", CALLS)
def test_a_call_is_not_changed_by_calls_before_it(name: str) -> None:
    expected = result(problem(), name)
    used = problem()
    for before in ("nothing", name, "step", "an event", name, "parameters", name):
        run = result(used, before)
        if before == name:
            assert run == expected


@pytest.mark.parametrize("linear", [None, "krylov"])
@pytest.mark.parametrize("method", ["auto", *representatives(lambda method: method.implicit and method.order > 1)])
def test_a_larger_march_is_as_good_as_new(method: str, linear: str | None) -> None:
    """A row of tanks, whose marches wait for the next call, too, after one with other starting values."""
    text = "u[k]' = 40*(u[k-1] - 2*u[k] + u[k+1]) + u[k]*(1 - u[k]) for k in 1..n\nu[0] = 0\nu[n+1] = 0"
    tanks = uh.Problem.from_text(text, initial={"u[k]": "sin(k)^2"}, parameters={"n": 40}, interval=(0, 0.3))
    options: dict[str, Any] = {"rtol": 1e-3} | ({} if linear is None else {"linear": linear})
    runs = [
        uh.integrate(tanks, method, **options, **({"initial": {"u[k]": "1/k"}} if k == 1 else {})) for k in range(3)
    ]
    first, _, last = (replace(run, tally=replace(run.tally, seconds=0.0)) for run in runs)
    assert first == last
    assert any(waiting for waiting in tanks.model.kept.values())


CHANGES: dict[str, dict[str, Any]] = {
    "parameters": {"parameters": {"k": 1.3, "inflow": 0.7}},
    "initial": {"initial": {"level": 0.9}},
    "interval": {"interval": (0, 1)},
    "units": {"units": {**UNITS, "t": "min", "inflow": "m/min", "head": "m"}},
    "events": {"events": [EARLY]},
    "never negative": {"never_negative": ["level"]},
}


@pytest.mark.parametrize("call", ["nothing", "record with a unit", "an event", "step", "count"])
@pytest.mark.parametrize("change", CHANGES)
def test_a_changed_copy_is_as_good_as_new(change: str, call: str) -> None:
    old, new = problem(), problem(**CHANGES[change])
    first = result(old, call)
    copy = old.with_(**CHANGES[change])
    assert copy == new
    assert result(copy, call) == result(new, call)
    assert result(old, call) == first


def test_what_was_refused_is_refused_again() -> None:
    used = problem(parameters={"k": 0.4, "inflow": None})
    for _ in range(3):
        with pytest.raises(uh.HeronError, match="inflow"):
            uh.integrate(used, "dormand-prince-54", rtol=1e-6)
        run = uh.integrate(used, "dormand-prince-54", rtol=1e-6, parameters={"inflow": 0.0})
        assert run.final["level"] == pytest.approx(2.0 * math.exp(-1.2), rel=1e-4)
