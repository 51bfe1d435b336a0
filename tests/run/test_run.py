"""Reading a run."""

from __future__ import annotations

import copy
import csv
import json
import pickle
from pathlib import Path

import numpy as np
import pytest

import unhurried_heron as uh


def test_shapes_and_names(pond: uh.Problem) -> None:
    run = uh.integrate(pond)
    n = run.times.size
    assert run.states.shape == (n, 1)
    assert run["level"].shape == run["spill"].shape == (n,)
    assert np.allclose(run["spill"], 640 * np.maximum(run["level"] - 0.8, 0) ** 1.5, rtol=1e-14)
    frame = run.frame()
    assert list(frame.columns) == ["level", "inflow", "spill"]
    assert frame.index.name == "t"
    assert run.final["inflow"] == frame["inflow"].iloc[-1]
    assert run.at(3.0).shape == (1,)
    assert run.at([[3.0, 4.0]]).shape == (1, 2, 1)
    assert "reached the end" in repr(run)
    assert run == run != uh.integrate(pond)
    assert run in {run}
    assert len(repr(run)) < 400
    assert f"spill = {run.final['spill']:.6g}>" in repr(run)
    for count, rest in ((4, ">"), (5, " …>")):
        many = uh.Problem.from_text(f"u[i]' = i for i in 1..{count}", initial={"u": 0}, interval=(0, 1))
        assert f"u[4] = 4{rest}" in repr(uh.integrate(many))
    with pytest.raises(uh.RunError, match="did you mean 'level'"):
        run["levle"]
    with pytest.raises(uh.RunError, match="outside"):
        run.at(73)


def test_values_between_steps(oscillator: uh.Problem) -> None:
    for problem in (oscillator, oscillator.with_(interval=(0, -20))):
        run = uh.integrate(problem, rtol=1e-10)
        times = np.linspace(*problem.interval, 4001)
        assert np.abs(run.at(times)[:, 0] - np.sin(times)).max() < 1e-7
        assert np.array_equal(run.at(run.times), run.states)


def test_recording_keeps_memory_flat(oscillator: uh.Problem) -> None:
    run = uh.integrate(oscillator, record=9)
    assert run.times.tolist() == np.linspace(0, 20, 9).tolist()
    assert np.abs(run["x"] - np.sin(run.times)).max() < 1e-5
    # a recorded time can be asked for, in any order and direction
    for kept in (
        run,
        uh.integrate(oscillator, record=[3.0]),
        uh.integrate(oscillator.with_(interval=(5, 0)), record=4),
    ):
        assert np.array_equal(kept.at(kept.times[::-1]), kept.states[::-1])
        with pytest.raises(uh.RunError, match="steps"):
            kept.at(4.9)
    for refused in (lambda: run.at(0.123), lambda: run.ledger):
        with pytest.raises(uh.RunError, match="steps"):
            refused()
    assert len(uh.integrate(oscillator, record=9, ledger=True).ledger) == run.tally.accepted + run.tally.refused


def test_csv_brings_every_digit_back(pond: uh.Problem, tmp_path: Path) -> None:
    run = uh.integrate(pond)
    uh.write_csv(run, tmp_path / "pond.csv")
    rows = list(csv.reader((tmp_path / "pond.csv").read_text().splitlines()))
    assert rows[0] == ["t", "level", "inflow", "spill"]
    values = np.array(rows[1:], dtype=float)
    assert np.array_equal(values[:, 0], run.times)
    assert np.array_equal(values[:, 3], run["spill"])


def test_summary(pond: uh.Problem, tmp_path: Path) -> None:
    run = uh.integrate(pond, rtol=1e-6, events=[uh.Event("level = 1", name="one")])
    uh.write_summary(run, tmp_path / "pond.json")
    read = json.loads((tmp_path / "pond.json").read_text())
    assert read["problem"]["hash"] == pond.fingerprint
    assert read["ending"]["reason"] == "end"
    assert read["options"] == run.options
    assert read["tally"]["accepted"] == run.tally.accepted
    assert read["events"][0]["level"] == pytest.approx(1.0)
    assert read["versions"]["unhurried-heron"] == uh.__version__


def test_a_few_times_of_a_long_run_are_what_they_are_among_many() -> None:
    for interval in ((0, 3000), (3000, 0)):
        swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=interval)
        run = uh.integrate(swing, "bogacki-shampine-32", rtol=1e-5)
        assert len(run.data.trajectory.pieces) > 2
        times = np.random.default_rng(0).uniform(0, 3000, 50)
        few, ends = run.at(times), run.at(np.array(interval, dtype=float))
        assert (run.states[[0, -1]] == ends).all()
        # all states have joined the pieces
        assert len(run.data.trajectory.pieces) == 1
        assert (run.at(times) == few).all()


QUESTIONS = {
    "mean": lambda run: run.mean("x"),
    "crossings": lambda run: run.crossings("x = 0"),
    "jump": lambda run: run.at(3, "q", side="before"),
    "where": lambda run: run.where("x > 0"),
    "period": lambda run: run.period("x = 0"),
    "extremes": lambda run: run.extremes("x"),
    "settles": lambda run: run.settles("x", 9),
    "table": lambda run: run.table(5),
    "explain": lambda run: run.explain(),
    "check": lambda run: uh.check(run.problem),
    "certify": lambda run: uh.certify(run.problem, 3),
    "region": uh.stability_limited_steps,
    **{name: (lambda run, name=name: getattr(run, name)) for name in ("final", "ledger", "events", "watched")},
}


@pytest.mark.parametrize("question", QUESTIONS)
def test_a_run_is_pickled_whatever_it_was_asked(question: str) -> None:
    problem = uh.Problem.from_text("x' = v\nv' = -x\nq = where(t < 3, 1, 2)*x", initial={"x": 1, "v": 0},
                                   interval=(0, 20), events=[uh.Event("x = 0.5", then="v = 0.9*v")])  # fmt: skip
    run = uh.integrate(problem, rtol=1e-6)
    answer = QUESTIONS[question](run)
    again = pickle.loads(pickle.dumps(run))
    assert again.mean("x") == run.mean("x")
    assert str(pickle.loads(pickle.dumps(answer))) == str(answer)


@pytest.mark.long
def test_deep_chains_of_derived_quantities_are_pickled_and_copied() -> None:
    chain = "\n".join(f"d{k} = d{k - 1} + 1" for k in range(1, 1000))
    problem = uh.Problem.from_text(f"x' = d999 - x\nd0 = x\n{chain}", initial={"x": 1}, interval=(0, 1))
    for again in (pickle.loads(pickle.dumps(problem)), copy.deepcopy(problem)):
        assert again == problem
        assert uh.integrate(again).final["d999"] == uh.integrate(problem).final["d999"]


@pytest.mark.parametrize("to", [-4.0, 8.0])
def test_rows_of_the_ledger_say_which_switch_ended_them(to: float) -> None:
    problem = uh.Problem.from_text(
        "x' = where(sin(3*t) > 0, 1, -1) + where(x > 0.3, -0.1, 0)", initial={"x": 0}, interval=(0, 4)
    )
    run = uh.integrate(problem, "dormand-prince-54", rtol=1e-4, ledger=True).extend(to)
    assert run.switches["time"].is_monotonic_increasing
    assert run.switches["value"].isin([0, 1]).all()
    rows = run.ledger[run.ledger["switch"] != ""]
    assert rows["switch"].tolist() == run.switches["switch"].tolist()
    ends = np.sort([rows["time"], rows["time"] + rows["step"]], axis=0)
    times = run.switches["time"].to_numpy()
    assert ((ends[0] - 1e-12 <= times) & (times <= ends[1] + 1e-12)).all()
