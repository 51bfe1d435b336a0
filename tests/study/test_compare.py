"""Methods side by side."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.demo import demo_file


def test_errors_against_a_closed_form() -> None:
    problem = uh.Problem.from_text(
        "x' = v\nv' = -w^2*x",
        initial={"x": 0, "v": 2},
        parameters={"w": 2},
        interval=(0, 10),
        exact={"x": "sin(w*t)"},
    )
    comparison = uh.compare(problem, ["dormand-prince-54", "adams-bashforth-2"], rtol=[1e-5, 1e-7], step=0.01)
    table = comparison.frame()
    assert comparison.notes == ("Errors of dormand-prince-54, adams-bashforth-2 against closed form of x.",)
    # fixed steps for all, tolerances besides for those that can adapt
    assert list(table["method"]) == ["dormand-prince-54"] * 3 + ["adams-bashforth-2"]
    assert table["step"].notna().tolist() == [True, False, False, True]
    table = table[1:].reset_index(drop=True)
    assert set(table["reference"]) == {"closed form of x"}
    run = uh.integrate(problem, "dormand-prince-54", rtol=1e-5)
    times = np.linspace(0, 10, 2001)
    assert table["error at end"][0] == pytest.approx(abs(run.final["x"] - np.sin(20)), rel=1e-4)
    assert table["largest error"][0] == pytest.approx(np.abs(run.at(times)[:, 0] - np.sin(2 * times)).max(), rel=0.05)
    assert table["largest error"][1] < table["largest error"][0] / 20
    assert table["step"][2] == 0.01
    first, *lines = str(comparison).splitlines()
    assert [line.split()[0] for line in (first, *lines[:4])] == [
        "method",
        *["dormand-prince-54"] * 3,
        "adams-bashforth-2",
    ]


def test_errors_are_looked_for_where_the_solution_changes() -> None:
    # all of it happens in the first hundred-thousandth of the interval
    for start, end in ((0, 1), (3, 4), (4, 3)):
        closed = {"x": f"exp(-1e6*abs(t - {start}))"}
        fast = uh.Problem.from_text(f"x' = {start - end}e6*x", initial={"x": 1}, interval=(start, end), exact=closed)
        assert 1e-6 < uh.compare(fast, "radau-iia-5", rtol=1e-3).frame()["largest error"][0] < 1e-3
    # more steps of a reference than times are taken from it
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 100))
    assert 1e-3 < uh.compare(swing, "heun-2", step=0.01).frame()["largest error"][0] < 1e-2


@pytest.mark.parametrize("size", [5e6, 5e-6])
def test_errors_of_what_stays_zero_are_absolute(size: float) -> None:
    problem = uh.Problem.from_text("z' = 0*x\nx' = -x", initial={"z": 0, "x": size}, interval=(2, 0))
    comparison = uh.compare(problem, ["heun-2", "radau-iia-5"], rtol=1e-3, atol=1e-9 * size)
    assert comparison.disagreement < 1e-9
    table = comparison.frame()
    assert table["worst state"].tolist() == ["x", "x"]
    final = uh.integrate(problem, "heun-2", rtol=1e-3, atol=1e-9 * size).final["x"]
    assert table["error at end"][0] == pytest.approx(abs(final / (size * np.exp(2)) - 1), rel=1e-3)
    assert (table["largest error"] < 1e-2).all()


def test_a_closed_form_of_zero_leaves_errors_absolute() -> None:
    circle = uh.Problem.from_text(
        "x' = -y\ny' = x\nz' = x^2 + y^2 - 1", initial={"x": 1, "y": 0, "z": 0}, interval=(0, 5), exact={"z": "0*t"}
    )
    error = np.abs(uh.integrate(circle, "heun-2", rtol=1e-3)["z"]).max()
    assert uh.compare(circle, "heun-2", rtol=1e-3).rows[0]["largest error"] == pytest.approx(error, rel=0.1)


def test_each_family_is_measured_by_the_other() -> None:
    problem = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 3))
    assert list(uh.compare(problem, "fehlberg-45").frame()["rtol"]) == [1e-4, 1e-6, 1e-8]
    comparison = uh.compare(problem, ["fehlberg-45", "radau-iia-5"], rtol=1e-6)
    table = comparison.frame()
    assert table["reference"][0].startswith("radau-iia-5")
    assert table["reference"][1].startswith("dormand-prince-54 at rtol 1e-12")
    tight = uh.compare(problem, ["fehlberg-45"], rtol=[1e-6, 2e-10]).frame()
    assert set(tight["reference"]) == {"radau-iia-5 at rtol 2e-13"}
    assert set(uh.compare(problem, "euler", step=0.1).frame()["reference"]) == {"radau-iia-5 at rtol 1e-13"}
    assert comparison.disagreement < 1e-8
    assert comparison.notes[2].startswith("The references differ by at most")
    alone = dataclasses.replace(comparison, disagreement=None).notes
    assert alone == (*comparison.notes[:2], "Only one reference could be had: nothing tells how certain it is.")
    # measured against the reference or the truth, the error is the same
    run = uh.integrate(problem, "fehlberg-45", rtol=1e-6)
    assert table["error at end"][0] == pytest.approx(abs(run.final["x"] - np.exp(-3)), rel=1e-2)


def test_stiffness_is_seen() -> None:
    problem = uh.Problem.from_file(demo_file("carbonate")).with_(interval=(0, 2))
    table = uh.compare(problem, ["dormand-prince-54", "radau-iia-5"], rtol=1e-5).frame()
    assert table["accepted"][0] > 5000 * table["accepted"][1]
    assert table["factorisations"][1] > 0 == table["factorisations"][0]
    assert (table["largest error"] < 1e-3).all()


def test_a_stopping_event_ends_the_comparison() -> None:
    # beyond the stop the solution blows up: 1/(1 - t) meets 4 at t = 3/4
    problem = uh.Problem.from_text(
        "x' = x^2", initial={"x": 1}, interval=(0, 2), events=[uh.Event("x = 4", name="high", stop=True)]
    )
    comparison = uh.compare(problem, ["dormand-prince-54", "radau-iia-5"], rtol=1e-6)
    assert comparison.problem.interval == pytest.approx((0, 0.75), abs=1e-9)
    table = comparison.frame()
    assert set(table["ending"]) == {"reached the end"}
    assert (table["largest error"] < 1e-4).all()
    # one that happens at the start, or not before the solution ends by itself, ends nothing
    for level in (1, -4):
        never = problem.with_(events=[uh.Event(f"x = {level}", stop=True)])
        assert uh.compare(never, "heun-2", rtol=1e-3).problem.interval == (0, 2)


def test_a_row_that_fails_says_why() -> None:
    problem = uh.Problem.from_text("x' = -500*x", initial={"x": 1}, interval=(0, 100))
    comparison = uh.compare(
        problem, ["adams-bashforth-1", "heun-2", "radau-iia-5"], rtol=1e-4, step=[0.2], budget=uh.Budget(steps=900)
    )
    table = comparison.frame()
    assert "not finite" in table["ending"][0]
    assert "budget" in table["ending"][2]
    assert table["ending"].tolist()[3:] == ["reached the end"] * 2
    assert table["largest error"].isna().tolist() == [True, True, True, False, False]
    missing_step = uh.compare(problem, ["adams-bashforth-1"]).frame()
    assert "no error estimate" in missing_step["ending"][0]
    for bad in (
        {"methods": []},
        {"methods": ["adams-bashforth-1"], "rtol": []},
        {"methods": ["adams-bashforth-1"], "rtol": -1},
    ):
        with pytest.raises(uh.OptionError):
            uh.compare(problem, **bad)
