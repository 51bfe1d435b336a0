"""Texts of every shape the grammar allows: each is refused by an error of our own, or runs."""

from __future__ import annotations

import math
import re
import warnings
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.checks.check import check_input
from unhurried_heron.input.file_reader import parse_document

LEAVES = st.sampled_from(
    [
        "x",
        "x'",
        "y",
        "y'",
        "x''",
        "z",
        "k",
        "t",
        "2",
        "0.5",
        "n",
        "0",
        "u[n]",
        "u[1]",
        "v",
        "u[i]",
        "u[i-1]",
        "w[i]",
        "rain",
        "pi",
    ]
)
SHAPES = st.sampled_from(
    [
        "({} + {})",
        "({} - {})",
        "({}*{})",
        "({}/(2 + {}))",
        "({})^2",
        "sin({})",
        "abs({})",
        "floor({})",
        "ceil({})",
        "sign({})",
        "step({})",
        "max({}, {})",
        "min({}, {}, 1)",
        "pulse({}, 0.2, {})",
        "where({} < {}, {}, 1)",
        "where({} >= {} and not {} > 0, {}, 2)",
        "sqrt(1 + ({})^2)",
        "exp(-({})^2)",
        "sum(u[i]*{} for i in 1..n)",
    ]
)
FORMULAS = st.recursive(
    LEAVES,
    lambda inner: SHAPES.flatmap(
        lambda shape: st.tuples(*[inner] * shape.count("{}")).map(lambda parts: shape.format(*parts))
    ),
    max_leaves=7,
)
LINES = [
    "x'' = {}",
    "x' = {}",
    "y' = {}",
    "y'' + {} = {}",
    "(2 + {})*x'' + y'' = {}\n3*y'' - x'' = {}",
    "z' = {}",
    "z = {}",
    "v = z + {}",
    "u[i]' = {} for i in 1..n",
    "u[i]' = u[i-1] - u[i] + {} for i in 2..n\nu[1]' = {}",
    "u[i]'' = {} for i in 1..n",
    "u[0] = {}",
    "w[i] = {} for i in 1..n",
    "0 = {}",
]
STATEMENTS = st.sampled_from(LINES).flatmap(
    lambda line: st.tuples(*[FORMULAS] * line.count("{}")).map(
        lambda parts: line.format(*(part if "[i]" in line else fixed(part) for part in parts))
    )
)
ELSE = {
    "x'": "x' = y - x",
    "y'": "y' = -y",
    "z": "z' = -z",
    "v": "v = x*y",
    "u[i]'": "u[i]' = -u[i] for i in 1..n",
    "u[0]": "u[0] = 1",
    "w[i]": "w[i] = i*u[i] for i in 1..n",
}


def fixed(formula: str) -> str:
    """Take the loop's index out of a formula that stands in no loop."""
    return formula.replace("u[i-1]", "u[2]").replace("[i]", "[3]")


def completed(lines: list[str]) -> str:
    """Add equations for what the drawn ones leave undefined."""
    text = "\n".join(lines)
    return "\n".join(
        [text, *(line for start, line in ELSE.items() if not re.search(rf"^[^=]*{re.escape(start)}", text, re.M))]
    )


TEXTS = st.lists(STATEMENTS, min_size=1, max_size=4, unique_by=lambda line: line.partition("=")[0]).map(completed)
VALUES = {"x": 0.3, "x'": -0.2, "y": 0.5, "y'": 0.1, "z": 1.0, "u": 0.7, "u'": 0.0}
RAIN = uh.Measured([0.0, 0.03, 0.07, 0.2], [1.0, 2.0, 0.0, 0.5])


def tried(text: str) -> uh.Problem | None:
    """Make a problem, leaving out the values that the text has no use for; None where it is refused."""
    user_input = {"initial": dict(VALUES), "parameters": {"k": 0.4, "n": 3}, "inputs": {"rain": RAIN}}
    for _ in range(12):
        try:
            return uh.Problem.from_text(text, interval=(0, 0.1), **user_input)
        except uh.FormulationError as error:
            assert error.location
            assert str(error).strip()
            extra = [name.strip() for name in error.name.split(",")]
            dropped = [name for name in extra for group in user_input.values() if group.pop(name, None) is not None]
            if "UnusedValue" not in type(error).__name__ or not dropped:
                return None
    raise AssertionError(text)


# a switch of known time within one that is located
NESTED = completed(["x'' = max(z + abs(x), abs(t))", "z = 1"])


@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@example(NESTED, "dormand-prince-54", True)
@given(TEXTS, st.sampled_from(["dormand-prince-54", "radau-iia-5"]), st.booleans())
@pytest.mark.long
def test_what_is_not_refused_runs(text: str, method: str, crossed: bool) -> None:
    problem = tried(text)
    if problem is None:
        return
    assert problem.first_order().text
    assert uh.check(problem).ok or not np.isfinite(problem.start).all() or "finite" in str(uh.check(problem))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        method = "auto" if problem.model.mass is not None else method
    run = uh.integrate(problem, method, rtol=1e-4, budget={"steps": 300}, switches=crossed)
    assert run.ending.reason in ("end", "budget", "not finite", "step too small", "Newton failed", "switching")
    assert np.isfinite(run.states).all()
    assert run.frame().shape == (run.times.size, len(problem.states) + len(problem.derived))
    assert set(run.switches["switch"]) <= {switch.text for switch in problem.switches}


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(TEXTS)
@pytest.mark.long
def test_both_ways_of_treating_switches_agree(text: str) -> None:
    problem = tried(text)
    if problem is None:
        return
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        runs = [
            uh.integrate(problem, rtol=1e-7, switches=crossed, budget={"steps": 3000}, largest_step=0.003)
            for crossed in (True, False)
        ]
    if all(run.ending.reason == "end" for run in runs):
        one, other = (np.array([*run.final.values()][: len(problem.states)]) for run in runs)
        # stepping over a jump errs by about its height times a step; both must tell the same story
        scale = 1.0 + np.abs(one).max(initial=0.0)
        assert np.abs(one - other).max(initial=0.0) < 0.02 * scale


@settings(max_examples=150, deadline=None)
@given(TEXTS, st.booleans(), st.sampled_from(["equations", "lagrangian", "hamiltonian"]))
@pytest.mark.long
def test_a_check_gathers_and_never_raises(text: str, known: bool, form: str) -> None:
    content = {form: text, "interval": {"from": 0, "to": "1 h"}, "initial": {"x": "1 m", "x'": 0} if known else {}}
    if form == "lagrangian":
        content["coordinates"] = ["x"]
    elif form == "hamiltonian":
        content["coordinates"] = {"x": "y"}
    report, facts = check_input(parse_document({**content, "units": {"x": "m"}}, "a text"))
    assert (facts is None) <= (not report.ok)
    assert len(str(report).splitlines()) > 1


@settings(max_examples=60, deadline=None)
@given(TEXTS)
@pytest.mark.long
def test_what_can_be_said_can_be_kept(text: str) -> None:
    import tempfile

    problem = tried(text)
    if problem is None:
        return
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "kept.toml"
        problem.to_file(path)
        again = uh.Problem.from_file(path)
    assert again.fingerprint == problem.fingerprint
    assert again.states == problem.states
    assert all(map(math.isfinite, again.initial.values()))
