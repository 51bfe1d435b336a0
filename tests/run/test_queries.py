"""Questions to a finished run, against closed forms."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from typer.testing import CliRunner

import unhurried_heron as uh
from unhurried_heron.cli.app import app
from unhurried_heron.demo import demo_file
from unhurried_heron.errors import HeronError

SWING = uh.Problem.from_text("x' = v\nv' = -x\npower = x*v", initial={"x": 1, "v": 0}, interval=(0, 20))
METHODS = ["auto", "dormand-prince-853", "radau-iia-9", "esdirk-54-7", "steinebach-54", "adams-variable",
           "backward-differentiation-variable", "classical-rk-4", "adams-pece-6", "gauss-6"]  # fmt: skip


def swing(method: str, *, back: bool = False) -> uh.Run:
    interval = (20, 0) if back else (0, 20)
    start = {"x": np.cos(20), "v": -np.sin(20)} if back else {"x": 1, "v": 0}
    options = {"count": 4000} if method in ("classical-rk-4", "adams-pece-6", "gauss-6") else {"rtol": 1e-10}
    return uh.integrate(SWING, method, initial=start, interval=interval, **options)


@pytest.mark.parametrize("back", [False, True])
@pytest.mark.parametrize("method", METHODS)
def test_answers_are_those_of_the_closed_form(method: str, back: bool) -> None:
    run = swing(method, back=back)
    zeros = np.pi * (np.arange(6) + 0.5)
    order = slice(None, None, -1 if back else 1)
    found = run.crossings("x = 0")
    assert found["time"].to_numpy() == pytest.approx(zeros[order], abs=1e-8)
    assert found["v"].to_numpy() == pytest.approx(-np.sin(zeros[order]), abs=1e-8)
    # upwards in the direction of the run
    assert found["going"].tolist() == (["down", "up"] * 3)[:6]
    assert run.section("x = 0", going="down")["time"].to_numpy() == pytest.approx(zeros[order][::2], abs=1e-8)
    turns = run.extremes("x")
    assert turns["time"].to_numpy() == pytest.approx((np.pi * np.arange(1, 7))[order], abs=1e-7)
    assert turns["kind"].tolist() == ["minimum", "maximum"] * 3 if not back else ["maximum", "minimum"] * 3
    assert np.abs(turns["value"]).to_numpy() == pytest.approx(np.ones(6), abs=1e-8)
    sign = -1 if back else 1
    assert run.integral("x") == pytest.approx(sign * np.sin(20), abs=1e-8)
    assert run.integral("power + x^2", (1, 4.5)) == pytest.approx(
        1.75 + (np.sin(9) - np.sin(2)) / 4 + (np.cos(9) - np.cos(2)) / 4, abs=1e-8
    )
    assert run.mean("x*x + v*v") == pytest.approx(1, abs=1e-8)
    period = run.period("x = 0.3")
    assert (period.mean, period.spread) == pytest.approx((2 * np.pi, 0), abs=1e-7)
    assert period.count == 2
    intervals = run.where("v > 1/2")
    within = 2 * np.pi * np.arange(1, 4) - np.pi / 2 + np.array([[-np.pi / 3], [np.pi / 3]])
    assert np.sort(intervals[["from", "to"]].to_numpy().T, axis=0) == pytest.approx(within[:, order], abs=1e-8)
    assert run.settles("x*x + v*v", 1e-6) == (20 if back else 0)


def test_a_run_goes_on_both_ways() -> None:
    event = uh.Event("x = 0", name="zero", going="up")
    for method in METHODS:
        options = {"step": 1 / 256} if method in ("classical-rk-4", "adams-pece-6", "gauss-6") else {"rtol": 1e-10}
        whole = uh.integrate(
            uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 5), exact={"x": "cos(t)"}),
            method, events=[event], **options,
        ).extend(10).extend(-7.5)  # fmt: skip
        times = np.linspace(-7.5, 10, 700)
        assert np.abs(whole.at(times, "x") - np.cos(times)).max() < 1e-8
        assert whole.problem.interval == (-7.5, 10)
        assert whole.times[[0, -1]].tolist() == [-7.5, 10]
        assert (np.diff(whole.times) > 0).all()
        assert len(whole.ledger) == whole.tally.accepted + whole.tally.refused
        expected = [t for t in np.pi * np.arange(-2.5, 4, 2) if -7.5 < t < 10]
        assert whole.events["time"].to_numpy() == pytest.approx(expected, abs=1e-7)
        assert whole.crossings(event)["time"].to_numpy() == pytest.approx(expected, abs=1e-7)


def test_it_goes_on_backwards_across_switches() -> None:
    text = "x' = where(t < -2, 3, where(x < -1.3, 0.5, 1))\ny' = -y"
    problem = uh.Problem.from_text(text, initial={"x": 0, "y": 1}, interval=(0, 2))
    for method in ("auto", "radau-iia-5", "adams-variable"):
        run = uh.integrate(problem, method, rtol=1e-9).extend(-6)
        t = np.linspace(-6, 2, 801)
        x = np.where(t < -2, -1.65 + 3 * (t + 2), np.where(t < -1.3, -1.3 + (t + 1.3) / 2, t))
        assert run.at(t, "x") == pytest.approx(x, abs=1e-7)
        assert run.at(t, "y") == pytest.approx(np.exp(-t), rel=1e-6)
        assert run.switches["time"].tolist() == pytest.approx([-2, -1.3])


CORNERS = uh.Problem.from_text(
    "x' = 1\ny' = -y\nside = where(x > 7.7, 1, -1)", initial={"x": 0, "y": 1}, interval=(0, 50)
)


@pytest.mark.parametrize(
    ("relation", "times"),
    [
        ("(x - 5.05)^2 = 0", []),  # touches
        ("(x - 5.05)^2 = 1e-12", [5.05 - 1e-6, 5.05 + 1e-6]),
        ("max(x - 9, 0) = 0", []),  # is zero for a while, and then not
        ("max(x - 9, 0) - max(8 - x, 0) = 0", [8]),
        ("abs(x - 33.33) = 1", [32.33, 34.33]),
        ("side = 0", [7.7]),
        ("y = 1e-18", [18 * np.log(10)]),
        ("log(x - 3.3) = 0", [4.3]),  # is no number before 3.3
        ("1/(x - 20.2) = 0", [20.2]),  # changes its sign without being zero
        ("x = 0", []),  # holds from the start
        ("x = 50", [50]),  # and is reached at the very end
        ("sin(40*x) = 0.5*t/50", None),
    ],
)
def test_crossings_in_corners(relation: str, times: list[float] | None) -> None:
    run = uh.integrate(CORNERS, rtol=1e-12, atol=1e-30)
    found = run.crossings(relation)["time"].to_numpy()
    if times is None:
        fine = np.linspace(1e-3, 50, 1_000_001)
        assert found.size == (np.diff(np.sign(np.sin(40 * fine) - fine / 100)) != 0).sum()
        assert np.sin(40 * found) == pytest.approx(found / 100, abs=1e-9)
    else:
        assert found == pytest.approx(times, rel=1e-9)


def test_what_was_watched_says_how_near_it_came() -> None:
    events = [
        uh.Event("x = 0", name="zero"),
        uh.Event("x = 1.25", name="never"),
        uh.Event(lambda t, x: x + 1.5, name="function"),
        uh.Event("v = 0", name="start", going="up"),
    ]
    run = uh.integrate(SWING, events=events, rtol=1e-10)
    seen = run.watched.set_index("event")
    assert seen["count"].tolist() == [6, 0, 0, 3]
    assert seen.loc["zero", ["first", "last"]].tolist() == pytest.approx([np.pi / 2, 11 * np.pi / 2])
    assert seen.loc["never", "closest"] == pytest.approx(-0.25, abs=1e-8)
    assert np.cos(seen.loc["never", "at"]) == pytest.approx(1, abs=1e-8)
    assert seen.loc["function", "closest"] == pytest.approx(0.5, abs=1e-8)
    assert np.cos(seen.loc["function", "at"]) == pytest.approx(-1, abs=1e-8)
    assert seen.loc[["zero", "never", "function"], "x"].tolist() == pytest.approx([0, 1, -1], abs=1e-8)
    few = uh.integrate(SWING, events=events, record=3).watched
    assert np.isnan(few["closest"][1])
    assert np.isnan(few["x"][1])


def test_units_and_words() -> None:
    pond = uh.Problem.from_text(
        "level' = (inflow - level/hold)/area", initial={"level": "30 cm"}, interval=(0, "10 h"),
        parameters={"inflow": "2 m^3/h", "hold": "0.5 h/m^2", "area": "4 m^2"}, units={"t": "h", "level": "m"},
    )  # fmt: skip
    run = uh.integrate(pond, rtol=1e-10)
    assert run.integral("inflow", ("30 min", "2 h")) == pytest.approx(3)
    crossed = -2 * np.log(0.25 / 0.7)
    assert run.crossings("level = 75 cm")["time"].tolist() == pytest.approx([crossed])
    assert run.settles("level", "25 cm", to="1 m") == pytest.approx(crossed)
    assert list(run.table(["0.5 h", 2]).index) == [0.5, 2]
    assert run.table(3)["level"].tolist() == run.at([0, 5, 10], "level").tolist()
    assert run.recorded(3).times.tolist() == [0, 5, 10]
    assert isinstance(run.where("level < 75 cm"), pd.DataFrame)
    assert "over 2 periods" in str(swing("auto").period("x = 0.3"))


RUN = uh.integrate(CORNERS)
REFUSED = [
    (lambda: RUN.crossings("z = 1"), "'z'"),
    (lambda: RUN.crossings("x"), "one equation"),
    (lambda: RUN.integral("x = 1"), "cannot read"),
    (lambda: RUN.integral("nothing"), "'nothing'"),
    (lambda: RUN.integral(5), "no quantity"),
    (lambda: RUN.integral("x", (-1, 3)), "within the run"),
    (lambda: RUN.integral("x", 3), "within the run"),
    (lambda: RUN.mean("x", (3, 3)), "no time"),
    (lambda: RUN.where("x = 1"), "not in intervals"),
    (lambda: RUN.period("x = 3"), "crossed once"),
    (lambda: RUN.settles("x", -1), "width"),
    (lambda: RUN.settles("x", "wide"), "no number"),
    (lambda: RUN.settles("x", 1, to="there"), "no number"),
    (lambda: RUN.settles(["x"], 1), "no quantity"),
    (lambda: RUN.crossings("x = 1", going=["up"]), "cannot be going"),
    (lambda: RUN.at(1, 5), "no state"),
    (lambda: RUN.settles("x", 1, to=3), "not settled"),
    (lambda: RUN.table("now"), "no times"),
    (lambda: RUN.table(1), "too few"),
    (lambda: RUN.table([99]), r"run.extend\(to=…\) goes on"),
    (lambda: RUN.extend(7), "nothing to go on to"),
    (lambda: RUN.extend("soon"), "nothing to go on to"),
    (lambda: uh.integrate(CORNERS, record=3).crossings("x = 1"), "kept only"),
]


@pytest.mark.parametrize(("asks", "words"), REFUSED)
def test_questions_without_an_answer(asks: object, words: str) -> None:
    with pytest.raises(HeronError, match=words):
        asks()


def test_the_command_line_answers(tmp_path: Path) -> None:
    file = tmp_path / "pond.toml"
    CORNERS.to_file(file)
    table = tmp_path / "pond.csv"
    user_input = CliRunner().invoke(
        app,
        ["run", str(file), "--crossings", "x = 3", "--integral", "x", "--where", "x > 49", "--mean", "x", "--period",
         "sin(t) = 0", "--extremes", "x", "--record", "3", "--csv", str(table)],
    )  # fmt: skip
    assert user_input.exit_code == 0, user_input.output
    for words in (
        "crossings of x = 3",
        "integral of x: 1250",
        "mean of x: 25",
        "6.283185307 over",
        "extremes of x: none",
    ):
        assert words in user_input.output
    assert len(table.read_text().splitlines()) == 4
    user_input = CliRunner().invoke(app, ["run", str(file), "--integral", "nothing"])
    assert user_input.exit_code != 0
    assert "reached the end" not in user_input.output


def test_answers_know_their_units_and_events_by_name() -> None:
    siphon = uh.Problem.from_file(demo_file("siphon"))
    run = uh.integrate(siphon, rtol=1e-9)
    units = [run.unit_of("flow"), run.unit_of("flow", integral=True), run.unit_of("level^2"), run.unit_of("primed")]
    assert units == ["m^3/h", "m^3", "m^2", ""]
    assert uh.integrate(siphon.with_(events=[]), rtol=1e-9).unit_of("level + 1") in ("", "m")
    # what comes in and does not go out is there
    stored = 240 * (run.final["level"] - 0.6)
    assert run.integral("inflow - flow") == pytest.approx(stored, rel=1e-7)
    starts = run.events[run.events["name"] == "starts"]
    assert run.crossings("starts")["time"].tolist() == starts["time"].tolist()
    assert run.crossings("starts")["primed"].tolist() == [0.0] * len(starts)
    # what is asked by an equation is no event of the run
    assert run.crossings("level = 0.5")["level"].to_numpy() == pytest.approx(0.5, rel=1e-6)
    assert run.period("starts").count == len(starts) - 1
    with pytest.raises(uh.HeronError):
        run.unit_of("nothing")
