"""Methods side by side."""

from __future__ import annotations

import dataclasses
import time

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.accuracy.conserved_quantities import drift_of, ends_of_steps
from unhurried_heron.demo import demo_file
from unhurried_heron.study.agreement import grown


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
    against, mixed = comparison.notes
    assert against == "Errors of dormand-prince-54, adams-bashforth-2 against closed form of x."
    assert "fixed steps" in mixed
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
    lines = [line.split() for line in str(comparison).splitlines() if line.strip()]
    first = [words[0] for words in lines if words[0][0].isalpha()]
    assert first[:5] == ["method", *["dormand-prince-54"] * 3, "adams-bashforth-2"]


@pytest.mark.parametrize(
    ("given", "steps", "tolerances"),
    [
        ({"step": 0.5, "rtol": 1e-4}, ["heun-2"], ["adams-variable", "heun-2"]),
        ({"rtol": 1e-4}, [], ["adams-variable", "heun-2"]),
        ({"step": 0.5}, ["adams-variable", "heun-2"], []),
    ],
)
def test_fixed_steps_are_for_those_that_take_them(given: dict, steps: list, tolerances: list) -> None:
    problem = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 5))
    table = uh.compare(problem, ["adams-variable", "heun-2"], **given).frame()
    assert table["method"][table["step"].notna()].tolist() == steps
    assert table["method"][table["rtol"].notna()].tolist() == tolerances
    # where nothing else is wanted of it, a method that takes none says so
    alone = table["method"][table["ending"] != "reached the end"].tolist()
    assert alone == ["adams-variable"] * ("rtol" not in given)


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


@pytest.mark.long
def test_methods_are_ranked_at_equal_error() -> None:
    problem = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 4), exact={"x": "cos(t)"})
    found = uh.compare(problem, ["heun-3", "dormand-prince-54", "euler"], rtol=[1e-4, 1e-6, 1e-8], step=[0.1, 0.05])
    assert "compare them at equal error" in " ".join(str(found).split())
    table = found.frame()
    for by in ("rate evaluations", "accepted"):
        ranked = found.best(1e-5, by=by).set_index("method")
        # between two rows, on the straight line through their logarithms
        rows = table[(table["method"] == "dormand-prince-54") & table["rtol"].notna()].sort_values("largest error")
        work = np.interp(np.log(1e-5), np.log(rows["largest error"]), np.log(rows[by].astype(float)))
        assert ranked[by]["dormand-prince-54"] == pytest.approx(np.exp(work), rel=1e-9)
        assert ranked["times the best"]["dormand-prince-54"] == 1.0
        assert ranked["rank"]["dormand-prince-54"] == 1
        assert "not reached" in ranked["how"]["euler, fixed steps"]
    assert found.best(1e-2).set_index("method")["how"]["heun-3"].startswith("measured")
    ordered = found.sorted("largest error")
    assert found.frame(sort="largest error").equals(ordered.frame())
    assert ordered.frame()["largest error"].dropna().is_monotonic_increasing
    for row, run in zip(ordered.rows, ordered.runs, strict=True):
        assert (run.method, run.tally.accepted) == (row["method"], row["accepted"])
    for bad in ({"error": -1}, {"error": 1e-5, "by": "speed"}):
        with pytest.raises(uh.RunError):
            found.best(**bad)


@pytest.mark.long
def test_all_counts_stand_side_by_side() -> None:
    stiff = uh.Problem.from_text("x' = -900*(x - cos(t))", initial={"x": 0}, interval=(0, 3))
    begun = time.perf_counter()
    found = uh.compare(stiff, ["dormand-prince-54", "radau-iia-5"], rtol=1e-5, count=4000)
    taken, table = time.perf_counter() - begun, found.frame()
    assert table["step"].tolist()[::2] == [3 / 4000, 3 / 4000]
    for row, run in zip(found.rows, found.runs, strict=True):
        tally = run.tally
        assert row["for stages"] == tally.rate_evaluations - sum(
            row[f"for {what}"] for what in ("jacobians", "starting", "estimates", "between")
        )
        assert taken > row["seconds in all"] >= row["seconds"] > 0
        assert (row["solves"], row["newton failures"]) == (tally.solves, tally.newton_failures)
    explicit, implicit = table.iloc[1], table.iloc[3]
    assert explicit["limited by stability"] > 0.9
    assert implicit["limited by stability"] == 0
    run = uh.integrate(stiff, "dormand-prince-54", rtol=1e-5)
    steps = np.abs(run.ledger["step"][run.ledger["accepted"]].to_numpy())[:-1]
    wanted = [steps.min(), np.median(steps), steps.max()]
    assert explicit[["smallest step", "median step", "largest step"]].tolist() == pytest.approx(wanted, rel=1e-12)
    every = uh.compare(stiff.with_(interval=(0, 0.2)), "all", rtol=1e-3)
    names = set(every.frame()["method"])
    assert {"auto", "heun-2", "radau-iia-13", "adams-variable"} <= names
    assert "adams-bashforth-4" not in names


def test_drifts_and_signs_are_watched() -> None:
    swing = uh.Problem.from_lagrangian(
        "kinetic = z'^2/2\npotential = k*z^2/2", ["z"], initial={"z": 1, "z'": 0}, parameters={"k": 1}, interval=(0, 30)
    )
    assert swing.conserved == ("energy",)
    damped = uh.Problem.from_lagrangian(
        "kinetic = z'^2/2\npotential = z^2/2",
        ["z"],
        forces={"z": "-0.1*z'"},
        initial={"z": 1, "z'": 0},
        interval=(0, 3),
    )
    assert damped.conserved == ()
    found = uh.compare(swing, ["euler", "implicit-midpoint", "classical-rk-4"], step=0.1)
    drift = found.frame().set_index("method")["drift of energy"]
    # Euler's energy grows by 1 + h^2 a step, that of the implicit midpoint rule not at all
    assert drift["euler"] == pytest.approx(1 - 1.01**-300, rel=1e-6)
    assert drift["implicit-midpoint"] < 1e-12
    assert 1e-6 < drift["classical-rk-4"] < 1e-4
    assert "drift of energy" in str(found)
    # released level with its pivot, its energy is zero: the drift is measured by the terms
    level = uh.Problem.from_lagrangian(
        "kinetic = a'^2/2\npotential = -g*cos(a)", ["a"], initial={"a": "pi/2", "a'": 0}, parameters={"g": 9.81},
        interval=(0, 20),
    )  # fmt: skip
    found = uh.compare(level, "auto", rtol=[1e-4, 1e-8])
    assert (found.frame()["drift of energy"] < [1e-2, 1e-6]).all()
    assert "its terms" in str(found)
    still = uh.compare(level.with_(initial={"a": 0.0}, conserved=["0*a"]), "auto", rtol=1e-6)
    assert still.frame()["drift of 0*a"][0] == 0.0
    assert "absolute" in str(still)
    species = uh.Problem.from_text(
        "a' = -k*a\nb' = k*a", initial={"a": 1, "b": 0}, parameters={"k": 30}, interval=(0, 1), conserved=["a + b"],
        never_negative=["a"],
    )  # fmt: skip
    rows = uh.compare(species, "euler", step=0.05).frame()
    assert rows["drift of a + b"][0] < 1e-14
    # -0.5 at the end of the first step, and a little lower on the curve between the steps
    assert -0.6 < rows["lowest a"][0] <= -0.5
    assert rows["lowest a at"][0] == pytest.approx(0.05, abs=0.01)
    assert species.with_(conserved=[], never_negative=()).conserved == ()
    for bad in ({"conserved": ["a + c"]}, {"never_negative": ["c"]}, {"conserved": "a"}):
        with pytest.raises(uh.FormulationError):
            species.with_(**bad)
    doses = uh.Problem.from_text(
        "x' = -0*x", initial={"x": 1}, interval=(0, 5), events=[uh.Event(at=[2.0], then="x = x + 1")], conserved=["x"]
    )
    # what an event changes is no drift
    assert uh.compare(doses, "heun-2", rtol=1e-4).frame()["drift of x"][0] == 0.0


@pytest.mark.parametrize("start", [0.0, 0.7, -3.3])
def test_drift_is_that_at_ends_of_steps(start: float) -> None:
    """Between them, and at the end of a last, shorter step, a method that conserves something does not."""
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(start, start + 3))
    times = start + np.array([0, 0.25, 0.5, 1.0, 1.1, 2.5, 2.75, 3.0])
    run = uh.integrate(swing, "stormer-verlet-2", step=0.5, record=times)
    assert ends_of_steps(run).tolist() == [True, False, True, True, False, True, False, True]
    energies = (run.states**2).sum(axis=1) / 2
    assert drift_of(run, "(x^2 + v^2)/2") == pytest.approx(np.abs(energies[ends_of_steps(run)] / 0.5 - 1).max())
    assert ends_of_steps(uh.integrate(swing, "verner-98", rtol=1e-8, record=times)).all()


def test_growth_is_measured_in_the_size_of_each_state() -> None:
    values, moved = np.array([[1.0, 0.0, 4.0]]), [np.array([[1.0, 1e-3, 4.0]]), np.array([[1.0, 0.0, 4.02]])]
    assert grown(values, moved, np.array([1.0, 0.0, 5.0]), 1e-6) == pytest.approx(4000)
    assert grown(values, moved, np.array([1.0, 0.1, 5.0]), 1e-6) == pytest.approx(10_000)
