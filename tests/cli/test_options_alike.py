"""What is said alike in every verb: ends, values, steps, tolerances, methods; and what Ctrl-C leaves of each."""

from __future__ import annotations

import inspect
import json
import signal
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import typer
from typer.testing import CliRunner

import unhurried_heron as uh
from unhurried_heron.cli.app import app, main
from unhurried_heron.cli.arguments import changed
from unhurried_heron.demo import demo_file
from unhurried_heron.driver.drive import Driver
from unhurried_heron.kernels.memory.control import Reason

COMMANDS = typer.main.get_command(app).commands
# of verbs that integrate a file: all of these; of those by one method, or several, at steps of the user's, these too
OF_FILES = {"--set", "--from", "--to"}
OF_RUNS = {"--rtol", "--atol", "--step", "--count"}
VERBS = {
    "run": OF_FILES | OF_RUNS | {"--method", "--budget", "--switches"},
    "explain": OF_FILES | OF_RUNS | {"--method", "--budget", "--switches"},
    "sweep": OF_FILES | OF_RUNS | {"--method", "--methods", "--budget", "--switches"},
    "step-table": OF_FILES | OF_RUNS | {"--method"},
    "compare": OF_FILES | OF_RUNS | {"--methods", "--budget"},
    "convergence": OF_FILES | {"--step", "--count", "--methods", "--budget"},
    "certify": OF_FILES,
    "rest": OF_FILES,
    "cycle": OF_FILES | {"--method"},
    "exponents": OF_FILES | {"--method"},
    "check": OF_FILES,
    "stability": OF_FILES,
}


def options(verb: str) -> dict:
    return {name: each for each in COMMANDS[verb].params for name in each.opts if name.startswith("--")}


@pytest.mark.parametrize("verb", VERBS)
def test_options_are_said_alike(verb: str) -> None:
    known = options(verb)
    assert known.keys() >= VERBS[verb]
    for name in VERBS[verb] & (OF_FILES | {"--budget", "--switches", "--method"}):
        assert known[name].help == options("run")[name].help


# beside these an option stands in its place
BESIDE = {"sweep": ["--over", "supply=7,8"], "compare": ["--best", "1e-3"], "rest": ["--within", "algae=0,9"]}
FILES = {"--csv", "--json", "--folder", "--out"}


@pytest.mark.long
@pytest.mark.parametrize("verb", VERBS)
def test_what_an_option_says_comes_to_the_call(verb: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    given = ["heun-2"] if verb == "stability" else [str(demo_file("food-chain"))]
    left = [name for name, option in options(verb).items() if not getattr(option, "is_flag", False)]
    assert len(left) > 2
    for name in set(left) - FILES - {"--help"}:
        beside = [*BESIDE.get(verb, []), *(["--plot", "a.png"] if name == "--of" else [])]
        # numbers are read where the command line is: words come no further
        for value in ("?!", "-1"):
            answer = CliRunner().invoke(app, [verb, *given, *beside, name, value])
            assert answer.exit_code != 0, (name, value)
            if not isinstance(answer.exception, SystemExit):
                break
        message = f"{answer.exception} {answer.output}"
        assert value in message or name[2:] in message, (name, message)


@pytest.mark.parametrize("tolerances", ["1e-4", "1e-4,1e-6", "1e-4,1e-6,1e-8"])
def test_every_one_of_several_tolerances_is_taken(tolerances: str, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.chdir(tmp_path)
    pond, count = str(demo_file("sluice-pond")), tolerances.count(",") + 1
    for command in (["sweep", pond, "--over", "base=60,120", "--out"], ["compare", pond, "--methods", "auto", "--csv"]):
        assert CliRunner().invoke(app, [*command, "table.csv", "--rtol", tolerances]).exit_code == 0
        table = pd.read_csv("table.csv")
        assert len(table) == count * (2 if command[0] == "sweep" else 1)
        if "rtol" in table:
            assert table["rtol"].nunique() == count


@pytest.mark.parametrize("function", [uh.exponents, uh.equilibria, uh.cycle, uh.certify, uh.convergence, uh.step_table])
def test_what_is_not_said_is_what_python_takes(function: Callable) -> None:
    known = options({"equilibria": "rest"}.get(function.__name__, function.__name__.replace("_", "-")))
    taken = inspect.signature(function).parameters
    both = [name for name, one in taken.items() if f"--{name}" in known and one.default not in (None, one.empty)]
    assert both or function is uh.cycle
    for name in both:
        # what is left out is not handed on
        assert known[f"--{name}"].default in (taken[name].default, None, ""), name


@pytest.mark.parametrize(
    ("values", "taken"),
    [
        ("60,120,75", [60, 120, 75]), ("90", [90]), ("60:120:3", [60, 90, 120]), ("60:120:1", [60]),
        ("120:60:2", [120, 60]), (" 60 : 120 : 5", [60, 75, 90, 105, 120]),
        *((wrong, None) for wrong in (":", "60:120", "60:120:0", "60:120:-1", "60:120:2.5", "60:120:2:2", "60:a:2")),
    ],
)  # fmt: skip
def test_what_varies_is_said_in_lists_and_ranges(values: str, taken: list | None, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.chdir(tmp_path)
    command = ["sweep", str(demo_file("sluice-pond")), "--over", f"base={values}", "--to", "1", "--out", "table.csv"]
    answer = CliRunner().invoke(app, command)
    if taken is None:
        assert isinstance(answer.exception, uh.OptionError)
        assert not Path("table.csv").exists()
    else:
        assert answer.exit_code == 0, answer.exception
        assert pd.read_csv("table.csv")["base"].tolist() == taken


@pytest.mark.parametrize(
    "given",
    [
        ["sweep", "FILE", "--over", "base"], ["sweep", "FILE", "--over", "=1,2"],
        ["sweep", "FILE", "--over", "base=1,2", "--over", "base=3"], ["sweep", "FILE", "--out", "none/table.csv"],
        ["rest", "FILE", "--within", "level"], ["rest", "FILE", "--within", "=1,2"],
        ["rest", "FILE", "--within", "level=1"], ["rest", "FILE", "--within", "level=1,2,3"],
        ["rest", "FILE", "--within", "level 1,2"], ["rest", "FILE", "--within", "level=0,1", "--within", "level=0,1"],
        ["cycle", "FILE", "--near", "level"], ["cycle", "FILE", "--near", "=1"], ["cycle", "FILE", "--near", "level="],
        ["run", "FILE", "--set", "crest"], ["run", "FILE", "--set", "=1"], ["run", "FILE", "--set", "levels=1"],
        ["stability", "heun-2", "--window=-4,1,-3"], ["stability", "heun-2", "--window=-4,1,-3,3,5"],
        ["stability", "heun-2", "--window=-4,1,-3,high"],
    ],
    ids=" ".join,
)  # fmt: skip
def test_what_is_not_whole_is_quoted(given: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    answer = CliRunner().invoke(app, [part.replace("FILE", str(demo_file("sluice-pond"))) for part in given])
    assert isinstance(answer.exception, uh.OptionError), answer.exception
    assert answer.exception.expected
    assert str(answer.exception).splitlines()[2].split("given:")[1].strip().strip("'") in given[-1]


def test_states_of_a_family_are_set_together_and_alone() -> None:
    sediment = demo_file("sediment")
    problem = changed(uh.Problem.from_file(sediment), ["oxygen=2", "oxygen[3]=0.5"])
    values = dict(zip(problem.states, problem.start.tolist(), strict=True))
    assert values["oxygen[3]"] == 0.5
    assert {value for name, value in values.items() if name.startswith("oxygen") and name != "oxygen[3]"} == {2.0}


def test_a_window_comes_to_the_picture(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list = []
    monkeypatch.setattr("unhurried_heron.cli.study_commands.save", lambda figure, path: drawn.append(figure))
    assert CliRunner().invoke(app, ["stability", "heun-2", "--window=-4,1,-3,2.5", "--plot", "a.png"]).exit_code == 0
    (picture,) = drawn
    assert (picture.axes[0].get_xlim(), picture.axes[0].get_ylim()) == ((-4, 1), (-3, 2.5))


def test_a_question_leaves_all_steps_to_the_picture(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list = []
    monkeypatch.setattr("unhurried_heron.cli.commands.picture", lambda runs, *given: drawn.extend(runs))
    monkeypatch.setattr("unhurried_heron.cli.commands.save", lambda figure, path: None)
    command = ["run", str(demo_file("sluice-pond")), "--record", "3", "--mean", "level", "--plot", "a.png"]
    assert CliRunner().invoke(app, command).exit_code == 0
    assert drawn[0].times.size > drawn[0].tally.accepted


@pytest.mark.parametrize("budget", ["3steps", "6steps", "90steps"])
def test_rows_end_where_a_run_does_in_either_direction(budget: str, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.chdir(tmp_path)
    tables = []
    for sign in (1, -1):
        text = f'equations = "x\' = a*cos(w*t)"\n[interval]\nfrom = 0\nto = {10 * sign}\n'
        text += '[initial]\nx = "1 m"\n[units]\nt = "s"\n'
        text += f'[parameters]\na = "{sign} m/s"\nw = "1 1/s"\n'
        Path("swing.toml").write_text(text)
        command = ["run", "swing.toml", "--csv", "a.csv", "--json", "a.json", "--budget", budget]
        for record in ("11", "1 s"):
            for more in ([], ["--mean", "x"]):
                answer = CliRunner().invoke(app, [*command, "--record", record, *more])
                assert answer.exit_code == int(budget != "90steps"), answer.exception
                tables.append(pd.read_csv("a.csv").abs())
                assert str(json.loads(Path("a.json").read_text())["options"]["record"]) == record
    # a question on the line, and the direction of time, change no row
    assert len(tables[0]) > 1
    assert tables[0]["t"].tolist()[:-1] == list(range(len(tables[0]) - 1))
    for table in tables:
        np.testing.assert_allclose(table, tables[0], rtol=1e-12, atol=1e-12)


@pytest.mark.long
def test_ends_steps_and_tolerances_carry_units(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    pond, half = demo_file("sluice-pond"), ["--from", "30 min", "--to", "3 h", "--set", "level=45 cm"]
    done = {
        name: CliRunner().invoke(app, [name.split()[0], *([] if "stability" in name else [str(pond)]), *more, *half])
        for name, more in {
            "run": ["--step", "15 min", "--method", "heun-2", "--record", "30 min", "--csv", "run.csv"],
            "run again": ["--count", "10", "--method", "heun-2", "--json", "run.json"],
            "compare": ["--methods", "auto", "--rtol", "1e-6", "--atol", "1 mm", "--budget", "20s", "--csv", "a.csv"],
            "sweep": ["--count", "10", "--method", "heun-2", "--over", "base=60,120", "--out", "sweep.csv"],
            "explain": ["--count", "10", "--method", "heun-2"],
            "step-table": ["--count", "10", "--method", "heun-2", "--csv", "table.csv"],
            "convergence": ["--count", "4", "--halvings", "3", "--methods", "heun-2", "--csv", "order.csv"],
            "certify": ["--at", "2 h", "--csv", "certify.csv"],
            "check": [],
            "stability": ["heun-2", "--for", str(pond)],
        }.items()
    }  # fmt: skip
    assert {name: found.exit_code for name, found in done.items()} == dict.fromkeys(done, 0), done
    table = pd.read_csv("run.csv")
    assert table["t"].tolist() == [0.5, 1.0, 1.5, 2.0, 2.5, 3.0]
    assert table["level"][0] == 0.45
    summary = json.loads(Path("run.json").read_text())
    assert summary["problem"]["interval"] == [0.5, 3.0]
    assert summary["tally"]["accepted"] == 10
    for record in ("4", "30 min"):
        command = ["run", str(pond), "--record", record, "--mean", "level", "--csv", "a.csv", "--budget", "5steps"]
        # what a run did not come to is no row
        assert CliRunner().invoke(app, command).exit_code == 1
        assert 1 < len(pd.read_csv("a.csv")) < 100
    assert pd.read_csv("order.csv")["step"].tolist() == [0.625, 0.3125, 0.15625, 0.078125]
    assert pd.read_csv("table.csv")["t"][0] == 0.5
    assert pd.read_csv("certify.csv")["time"].tolist() == [2.0, 3.0]


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["run", "FILE", "--exact"], "no table to put exact values into"),
        (["run", "FILE", "--exact", "--plot", "a.png"], "no table to put exact values into"),
        (["run", "FILE", "--draw", "level"], "nowhere to draw"),
        (["run", "FILE", "--phase", "level,level"], "nowhere to draw"),
        (["run", "FILE", "--overlay", "crest=1,2"], "nowhere to draw"),
        (["run", "FILE", "--record", "often"], "cannot record 'often'"),
        (["run", "FILE", "--record", "0 min"], "record"),
        (["run", "FILE", "--record", "1e-30 s"], "do not fit into memory"),
        (["run", "FILE", "--step", "1", "--count", "5"], "exclude each other"),
        (["stability", "heun-2", "--to", "5"], "no problem to change"),
    ],
)
def test_what_would_do_nothing_is_refused(given: list[str], words: str) -> None:
    found = CliRunner().invoke(app, [part.replace("FILE", str(demo_file("sluice-pond"))) for part in given])
    assert found.exit_code
    assert words in str(found.exception)


POND = "equations = \"x' = y\\ny' = -x\"\ninitial = {x = 1, y = 0}\ninterval = {from = 0, to = 100}\n"
LONG = {
    "compare": ["compare", "FILE", "--methods", "heun-2,euler", "--step", "1e-2,1,0.5", "--csv", "out.csv"],
    "convergence": ["convergence", "FILE", "--methods", "heun-2", "--steps", "2,1,1e-2", "--csv", "out.csv"],
    "certify": ["certify", "FILE", "--digits", "12", "--csv", "out.csv"],
    "explain": ["explain", "FILE", "--method", "heun-2", "--step", "1e-2"],
    "run": ["run", "FILE", "--method", "heun-2", "--step", "1e-2", "--csv", "out.csv"],
}


@pytest.mark.parametrize("part", [1, 2])
@pytest.mark.parametrize("verb", LONG)
def test_ctrl_c_keeps_what_was_done(verb: str, part: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    Path("pond.toml").write_text(POND)
    parts, march = [], Driver._next_slice

    def interrupted(driver: Driver) -> Reason:
        parts.append(driver)
        if len(parts) == part:
            signal.raise_signal(signal.SIGINT)
        return march(driver)

    monkeypatch.setattr(Driver, "_next_slice", interrupted)
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        found = CliRunner().invoke(app, [word.replace("FILE", "pond.toml") for word in LONG[verb]])
    finally:
        signal.signal(signal.SIGINT, before)
    assert found.exit_code == 1, found.exception
    assert "interrupted" in found.output
    assert verb == "explain" or Path("out.csv").stat().st_size > 20
    if verb == "compare":
        assert pd.read_csv("out.csv")["ending"].iloc[-1] == "interrupted"


def test_the_handler_of_the_host_is_called(monkeypatch: pytest.MonkeyPatch) -> None:
    heard, march = [], Driver._next_slice
    problem = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1000))

    def interrupted(driver: Driver) -> Reason:
        signal.raise_signal(signal.SIGINT)
        return march(driver)

    monkeypatch.setattr(Driver, "_next_slice", interrupted)
    before = signal.signal(signal.SIGINT, lambda number, frame: heard.append(number))
    try:
        run = uh.integrate(problem, "euler", step=1e-3)
    finally:
        signal.signal(signal.SIGINT, before)
    assert heard == [signal.SIGINT]
    assert run.ending.reason == "interrupted"


def test_a_fault_of_ours_is_told_as_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture
) -> None:
    def broken(*given: object, **options: object) -> None:
        raise KeyError("of ours")

    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr("unhurried_heron.cli.commands.picture", broken)
    outputs = ["--plot", "a.png", "--csv", "a.csv", "--json", "a.json"]
    monkeypatch.setattr("sys.argv", ["heron", "run", str(demo_file("sluice-pond")), *outputs])
    with pytest.raises(SystemExit) as ended:
        main()
    assert ended.value.code == 3
    assert "this should not happen" in capsys.readouterr().err
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.csv", "a.json"]
