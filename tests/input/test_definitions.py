"""Open parameters, parameters and starting values as formulas, measured inputs."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors

SAID = {"initial": {"x": "start/2"}, "interval": (0, 1)}


def decay(**parameters) -> uh.Problem:
    return uh.Problem.from_text("x' = -k*x", parameters=parameters, **SAID)


def test_open_parameters_are_listed_closed_and_never_run() -> None:
    problem = decay(k=None, start="open")
    assert problem.open == ("k", "start")
    assert problem.parameters == {}
    assert np.isnan(problem.initial["x"])
    with pytest.raises(errors.OpenParameterError, match="'k', 'start'") as caught:
        uh.integrate(problem)
    assert caught.value.names == ("k", "start")
    half = problem.with_(parameters={"start": 4})
    assert half.open == ("k",)
    assert half.initial == {"x": 2.0}
    assert uh.integrate(half, parameters={"k": 1}, rtol=1e-10).final["x"] == pytest.approx(2 * np.exp(-1), rel=1e-9)
    assert uh.integrate(problem, parameters={"k": 0, "start": 6}).final["x"] == 3.0
    with pytest.raises(errors.UnusedValueError, match="did you mean 'start'"):
        uh.integrate(problem, parameters={"strat": 1})
    assert problem.with_(parameters={"k": 1}).fingerprint != problem.fingerprint


def test_formulas_follow_what_they_are_made_of() -> None:
    problem = decay(k="2*rate", rate="1/life", life=4.0, start="10*k")
    assert dict(problem.parameters) == {"k": 0.5, "rate": 0.25, "life": 4.0, "start": 5.0}
    assert list(problem.parameters) == ["k", "rate", "life", "start"]
    assert problem.initial["x"] == 2.5
    other = problem.with_(parameters={"life": 1})
    assert (other.parameters["k"], other.initial["x"]) == (2.0, 10.0)
    # a formula can be replaced by a number and the other way round, nothing is compiled again
    assert other.with_(parameters={"k": 7, "life": "1 + 1"}).parameters["rate"] == 0.5
    assert other.model is problem.model
    waiting = decay(k="2*rate", rate=None, start=1)
    assert waiting.open == ("rate",)
    assert "k" not in waiting.parameters


@pytest.mark.parametrize(
    ("parameters", "kind", "words"),
    [
        ({"k": "start", "start": "k"}, errors.CircularDerivedError, "k needs start needs k"),
        ({"k": "2*lief", "start": 1}, errors.UndefinedNameError, "'lief'"),
        ({"k": "2*t", "start": 1}, errors.ExpressionError, "depends on the time"),
        ({"k": "1/0", "start": 1}, errors.ExpressionError, "not finite"),
        ({"k": "x", "start": 1}, errors.UndefinedNameError, "'x'"),
        ({"k": "exp(", "start": 1}, errors.ExpressionError, "cannot read"),
        ({"k": 1, "start": "sqrt(0 - k)"}, errors.ValueGivenError, "not finite"),
        ({"k": 1, "start": 1, "sin": 2}, errors.NameClashError, "built in"),
    ],
)
def test_parameters_that_come_to_nothing(parameters: dict, kind: type, words: str) -> None:
    with pytest.raises(kind, match=words):
        decay(**parameters)


def test_measured_inputs_between_their_rows() -> None:
    times, values = [0.0, 1.0, 2.0, 4.0], [0.0, 2.0, 1.0, 1.0]
    assert uh.Measured(times, values)([0.5, 1.5, 3.0, 4.0]).tolist() == [1.0, 1.5, 1.0, 1.0]
    assert uh.Measured(times, values, "previous")([0.0, 0.99, 1.0, 3.9]).tolist() == [0.0, 0.0, 2.0, 1.0]
    cubic = uh.Measured(times, values, "cubic")
    fine = cubic(np.linspace(0, 4, 401))
    # monotone: between two rows it never leaves them
    assert fine.max() == 2.0
    assert np.all(np.diff(fine[:101]) >= 0)
    assert np.all(np.diff(fine[100:]) <= 0)
    assert uh.Measured([0, 1, 2, 3], [0, 1, 2, 5]).kinks.tolist() == [2.0]


TABLE = "# gauge of the lagoon\nhour, tide ,rain\n0,0.5,1\n1.5,0.25,2\n\n3,0.75,4\n"


def test_tables_from_files(tmp_path: Path) -> None:
    path = tmp_path / "gauge.csv"
    path.write_text(TABLE)
    table = uh.Measured.from_csv(path, time="hour", value="tide", interpolation="previous")
    assert (table.times.tolist(), table.values.tolist()) == ([0.0, 1.5, 3.0], [0.5, 0.25, 0.75])
    problem = uh.Problem.from_text("x' = tide*x", inputs={"tide": table}, initial={"x": 1}, interval=(0, 3))
    run = uh.integrate(problem, rtol=1e-11)
    assert run.final["x"] == pytest.approx(np.exp(1.5 * 0.75), rel=1e-10)
    assert run.switches["time"].tolist() == [1.5]
    for words, text in {
        "no column 'tide'; did you mean 'tides'": TABLE.replace(" tide ", "tides"),
        "row 3": TABLE.replace("0.25", "high"),
        "increase": TABLE.replace("1.5,", "4,"),
        "at least 2": "hour,tide\n1,2\n",
        "finite": TABLE.replace("0.25", "nan"),
    }.items():
        path.write_text(text)
        with pytest.raises(errors.InputError) as caught:
            uh.Measured.from_csv(path, time="hour", value="tide")
        assert words in str(caught.value)
    with pytest.raises(errors.InputError, match="cannot read"):
        uh.Measured.from_csv(tmp_path / "none.csv", time="hour", value="tide")


def test_a_run_never_leaves_a_table() -> None:
    table = uh.Measured([0, 2], [1, 2], source="gauge.csv")
    user_input = {"inputs": {"tide": table}, "initial": {"x": 1}}
    problem = uh.Problem.from_text("x' = tide", interval=(2, 0), **user_input)
    assert uh.integrate(problem).final["x"] == pytest.approx(-2.0)
    for interval in ((0, 2.001), (-1, 1)):
        with pytest.raises(errors.InputError, match="leave the table of 'tide'") as caught:
            problem.with_(interval=interval)
        assert caught.value.location == "gauge.csv"
    with pytest.raises(errors.InputError, match="did you mean 'linear'"):
        uh.Measured([0, 1], [0, 1], "linaer")
    with pytest.raises(errors.NameClashError, match="two things"):
        uh.Problem.from_text("x' = tide\ntide = 2", interval=(0, 1), **user_input)


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.tuples(st.floats(0.01, 5), st.sampled_from([-3, -0.5, 0, 1e-3, 0.1, 2])), min_size=2, max_size=9),
    st.sampled_from(["previous", "linear", "cubic"]),
)
def test_machine_code_reads_tables_as_python_does(rows: list, between: str) -> None:
    times = np.cumsum([gap for gap, _ in rows])
    table = uh.Measured(times, [value for _, value in rows], between)
    problem = uh.Problem.from_text(
        "x' = 0\nseen = tide", inputs={"tide": table}, initial={"x": 0}, interval=(times[0], times[-1])
    )
    times_between = np.linspace(times[0], times[-1], 23)
    times_between[-1] = times[-1]
    seen = uh.integrate(problem, record=times_between)["seen"]
    assert seen == pytest.approx(table(times_between), rel=1e-12, abs=1e-12)


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_several_tables(method: str) -> None:
    tables = {
        "rain": uh.Measured([0, 1, 3, 4], [0, 2, 2, 0], "linear"),
        "gate": uh.Measured([0, 2, 3, 4], [1, 0, 5, 7], "previous"),
        "tide": uh.Measured([0, 4], [1, -1], "linear"),
    }
    problem = uh.Problem.from_text(
        "x' = k*rain + 10*gate + 100*tide + min(x, 0)\nseen = rain - gate + 10*tide",
        inputs=tables, initial={"x": 0}, parameters={"k": 3}, interval=(0, 4),
    )  # fmt: skip
    run = uh.integrate(problem, method, rtol=1e-9)
    # by areas: 6 of rain, 7 of the gate, none of the tide
    assert run.final["x"] == pytest.approx(3 * 6 + 10 * 7, rel=1e-12)
    assert run.at([0.5, 2.5], "seen") == pytest.approx([1 - 1 + 7.5, 2 - 0 - 2.5])
