"""Random inputs of every field: read, written, changed, copied and pickled, none is lost and none is made up."""

from __future__ import annotations

import copy
import pickle
import tempfile
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.equality import same
from unhurried_heron.input.problem_input import ProblemInput, argument_of

NUMBERS = st.floats(0.01, 1e6, allow_subnormal=False)
LEVELS = st.one_of(NUMBERS, NUMBERS.map(lambda x: f"{x!r} m"), st.sampled_from(["2*k", "k^2/3", "30 cm"]))
TIMES = st.one_of(st.floats(1.0, 9.0), st.floats(1.0, 9.0).map(lambda x: f"{x!r} h"), st.just("150 min"))
NAMES = st.text(st.characters(exclude_categories=["C", "Z"]), min_size=1, max_size=12)
# A value for each field of an event besides its name, and of those that stand instead of each other one.
ACTIONS = st.sampled_from([None, "z = z/2", ["k = k + 1", "z = 0.5"]])
EVENT_FIELDS: dict[str, st.SearchStrategy[Any]] = {
    "when": st.sampled_from(["z = 0.7", "z' = 0", "z > k", "z <= w"]),
    "at": st.one_of(TIMES, st.lists(TIMES, min_size=1, max_size=3)),
    "every": TIMES,
    "first": st.one_of(st.none(), TIMES),
    "going": st.sampled_from(["up", "down", "either"]),
    "stop": st.booleans(),
    "then": ACTIONS,
    "only_if": st.sampled_from([None, "k > 0", "z < 3 and t > 1"]),
    "at_most": st.one_of(st.none(), st.integers(1, 50)),
    "stop_after": st.one_of(st.none(), st.integers(1, 50)),
}
# An event belongs to one of these, by what it happens at.
KINDS = {"when": {"going"}, "at": set(), "every": {"first"}}
COMMON = ("stop", "then", "only_if", "at_most", "stop_after")


@st.composite
def events(draw: st.DrawFn) -> tuple[uh.Event, ...]:
    found = []
    for name in draw(st.lists(NAMES, max_size=3, unique=True)):
        kind = draw(st.sampled_from(sorted(KINDS)))
        chosen = (kind, *sorted(KINDS[kind]), *COMMON)
        found.append(uh.Event(name=name, **{each: draw(EVENT_FIELDS[each]) for each in chosen}))
    return tuple(found)


def measured(rule: str, values: list[float]) -> uh.Measured:
    return uh.Measured(np.linspace(0, 12, len(values)), values, rule)


TEXT = """
z' = -k*z + rain
w' = z/(1 + w)
c' = 0
u[i]' = -i*u[i] for i in 1..3
energy = z^2 + w^2
"""
# A value for each field that a text can say; forms other than equations have theirs in addition.
FIELDS: dict[str, st.SearchStrategy[Any]] = {
    "initial": st.fixed_dictionaries({"z": LEVELS, "w": NUMBERS}, optional={"u[2]": LEVELS}),
    "parameters": st.fixed_dictionaries({"k": NUMBERS}),
    "guess": st.sampled_from([{}, {"w": 2.5}, {"z": "30 cm"}]),
    "interval": st.tuples(st.one_of(st.just(0), st.floats(0, 0.5)), TIMES),
    "events": events(),
    "exact": st.sampled_from([{}, {"c": "1 + 0*t"}]),
    "units": st.sampled_from([{"t": "h"}, {"z": "m", "t": "h"}]),
    "inputs": st.builds(lambda rule, values: {"rain": measured(rule, values)},
                        st.sampled_from(["linear", "previous", "cubic"]), st.lists(NUMBERS, min_size=4, max_size=6)),
    "conserved": st.sampled_from([(), ("energy",), ("energy", "z + w")]),
    "never_negative": st.sampled_from([(), ("z",), ("u", "w")]),
    "title": st.text(st.characters(exclude_categories=["C"]), max_size=30),
    "check_units": st.just(False),
    "text": st.sampled_from([TEXT, TEXT.replace("-k*z", "-k*z^3")]),
    "integrate_options": st.fixed_dictionaries({}, optional={"method": st.just("auto"), "rtol": NUMBERS}),
}  # fmt: skip


def problem_of(values: dict[str, Any]) -> uh.Problem:
    given = {**values, "initial": {"c": 1, "u": 0.25, **values["initial"]}}
    text, options = given.pop("text"), given.pop("integrate_options")
    return uh.Problem.from_text(text, **given).with_(integrate_options=options)


def pull(t: float, z: float, k: float) -> list[float]:
    return [-k * z]


def push(t: float, z: float, k: float) -> list[float]:
    return [k * z]


def above(z: float) -> float:
    return z - 2


# Two values of each field that only other forms have, with the form and what it needs beside.
COMMON_INPUT = {"initial": {"z": 1.0}, "interval": (0, 1), "parameters": {"k": 2.0}}
OF_FUNCTIONS = (uh.Problem.from_rates, {"rates": pull, **COMMON_INPUT})
OF_ENERGIES = (uh.Problem.from_lagrangian, {"energies": "kinetic = z'^2/2\npotential = k*z^2/2", "coordinates": ["z"],
                                            **COMMON_INPUT, "initial": {"z": 1.0, "z'": 0.0}})  # fmt: skip
ELSEWHERE: dict[str, Any] = {
    "function": (*OF_FUNCTIONS, pull, push),
    "derived": (*OF_FUNCTIONS, {"twice": "2*z"}, {"thrice": "3*z"}),
    "switches": (*OF_FUNCTIONS, ("t = 0.5",), ("z = 0.5", above)),
    "jacobian": (*OF_FUNCTIONS, lambda k: [[-k]], lambda k: [[k]]),
    "sparsity": (*OF_FUNCTIONS, np.eye(1), np.zeros((1, 1))),
    "mass": (*OF_FUNCTIONS, [2.0], np.array([[3.0]])),
    "algebraic": (
        uh.Problem.from_rates,
        {**OF_FUNCTIONS[1], "rates": lambda z, w, k: [w - z, k * z - w], "initial": {"z": 1.0, "w": 2.0}},
        ("w",),
        ["z"],
    ),
    "coordinates": (*OF_ENERGIES, ("z",), ["z"]),
    "forces": (*OF_ENERGIES, {"z": "-z'"}, {"z": "-k*z'"}),
    "constraints": (*OF_ENERGIES, ("z = 1",), ["z^2 = 1"]),
}


@pytest.mark.parametrize("name", ELSEWHERE)
def test_a_changed_field_of_another_form_is_that_field(name: str) -> None:
    constructor, given, value, other = ELSEWHERE[name]
    argument = argument_of(name, "rates")
    problem, expected = constructor(**{**given, argument: value}), constructor(**{**given, argument: other})
    if isinstance(value, dict):
        other = {**dict.fromkeys(value), **other}
    changed = problem.with_(**{argument: other})
    assert changed.user_input == expected.user_input
    assert changed == expected
    assert (changed.fingerprint == problem.fingerprint) is (expected.fingerprint == problem.fingerprint)
    assert np.array_equal(changed.rates_at(0, expected.start), expected.rates_at(0, expected.start))
    with pytest.raises(uh.FormulationError, match="there is no argument"):
        uh.Problem.from_text("z' = -k*z", **COMMON_INPUT).with_(**{argument: value})


def test_every_field_is_drawn() -> None:
    """A field that is added to the input, or to an event, is added here."""
    assert {*FIELDS, *ELSEWHERE, "form"} == {each.name for each in fields(ProblemInput)}
    assert set(EVENT_FIELDS) | {"name"} == {each.name for each in fields(uh.Event)}


MANY = settings(max_examples=25, deadline=None, phases=[Phase.generate], suppress_health_check=[HealthCheck.too_slow])


@MANY
@given(st.fixed_dictionaries(FIELDS))
@pytest.mark.long
def test_inputs_survive_files_pickles_and_copies(values: dict[str, Any]) -> None:
    problem = problem_of(values)
    with tempfile.TemporaryDirectory() as folder:
        problem.to_file(Path(folder) / "one.toml")
        read = uh.Problem.from_file(Path(folder) / "one.toml")
    for again in (read, pickle.loads(pickle.dumps(problem)), copy.copy(problem), copy.deepcopy(problem)):
        assert (again.fingerprint, again.initial, again.parameters) == (
            problem.fingerprint, problem.initial, problem.parameters,
        )  # fmt: skip
        for name in FIELDS:
            ours, theirs = (getattr(each.user_input, name) for each in (problem, again))
            # a file spells the values of an indexed state out
            assert name == "initial" or same(ours, theirs), name
        assert str(again) == str(problem)
        assert [event.name for event in again.events] == [event.name for event in problem.events]
    assert pickle.loads(pickle.dumps(problem)) == copy.deepcopy(problem) == problem


@MANY
@given(st.fixed_dictionaries(FIELDS), st.fixed_dictionaries(FIELDS))
@pytest.mark.parametrize("name", FIELDS)
def test_a_changed_field_is_that_field(name: str, values: dict[str, Any], others: dict[str, Any]) -> None:
    problem, changed = problem_of(values), problem_of({**values, name: others[name]})
    other = others[name]
    if isinstance(other, dict) and name not in ("initial", "parameters"):
        other = {**dict.fromkeys(values[name]), **other}
    assert_changed(problem.with_(**{argument_of(name, "equations"): other}), changed, name)
    unchanged = same(values[name], others[name])
    assert (changed == problem) is unchanged
    if unchanged:
        assert changed.fingerprint == problem.fingerprint


def assert_changed(with_change: uh.Problem, changed: uh.Problem, name: str) -> None:
    for each in fields(ProblemInput):
        ours, theirs = (getattr(one.user_input, each.name) for one in (with_change, changed))
        if each.name == "units" and name in ("initial", "parameters", "interval"):
            # what is given again as a plain number keeps its unit
            ours = {key: unit for key, unit in ours.items() if key in theirs}
        # starts are merged with those that were given before
        assert same(ours, theirs) or name == each.name == "initial", each.name
