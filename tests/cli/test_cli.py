"""The command-line tool as a user runs it."""

from __future__ import annotations

import json
import math
import os
import pty
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
import typer
from forked import heron

import unhurried_heron as uh
from unhurried_heron.cli.commands import demo, prepare
from unhurried_heron.cli.demo_studies import show_long_run
from unhurried_heron.demo import NAMES, demo_file
from unhurried_heron.methods.catalogue import COMPARED


@pytest.mark.long
@pytest.mark.parametrize("name", NAMES)
def test_every_method_of_the_demo_comes_to_its_end(name: str) -> None:
    found = uh.compare(uh.Problem.from_file(demo_file(name)), COMPARED, rtol=[1e-4, 1e-6])
    assert found.failures == ()
    assert all(row["error at end"] < 100 * row["rtol"] for row in found.rows), found


@pytest.mark.long
def test_the_long_run_of_the_demo(tmp_path: Path, capsys: pytest.CaptureFixture) -> None:
    show_long_run(tmp_path)
    lines = " ".join(capsys.readouterr().out.split())
    # one of them without algae, and those that meet at two folds
    assert "2 branches of equilibria over load" in lines
    assert "3 branches of equilibria over supply" in lines
    assert lines.index("it is quasi-periodic") < lines.index("it is chaotic")
    assert {path.name for path in tmp_path.iterdir()} == {"turbid-branches.png", "food-chain-branches.png"}


@pytest.mark.long
def test_demo(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture) -> None:
    """Two of its problems; `.ci/run` runs the command with all of them."""
    some = ("sluice-pond", "carbonate")
    assert set(some) < set(NAMES)
    monkeypatch.setattr("unhurried_heron.demo.NAMES", some)
    monkeypatch.setenv("COLUMNS", "180")
    # what takes long
    monkeypatch.setattr("unhurried_heron.cli.demo_studies.show_long_run", lambda out: print("long run", out))
    monkeypatch.setattr("unhurried_heron.cli.demo_studies.show_sweeps", lambda out: print("sweeps", out))
    folder = tmp_path / "heron-demo"
    demo(folder)
    done = capsys.readouterr().out
    for name in some:
        for ending in (".csv", ".json", "-states.png", "-steps.png", "-work.png", "-comparison.csv"):
            assert (folder / f"{name}{ending}").stat().st_size > 100
        rows = [line.split(",") for line in (folder / f"{name}-comparison.csv").read_text().splitlines()]
        assert rows[0][:3] == ["method", "rtol", "step"]
        assert [row[1] for row in rows[1:4]] == ["0.0001", "1e-06", "1e-08"]
    for picture in ("carbonate-in-region", "sluice-pond-order", "stability-regions"):
        assert (folder / f"{picture}.png").stat().st_size > 5000
    assert "radau-iia-5" in done
    assert "stability limited" in done
    assert "Certified to 9 digits" in " ".join(done.split())
    assert "drift of carbon" in done
    assert f"sweeps {folder}\nlong run {folder}" in done
    # the file that it ends with is there
    assert (folder / done.split("heron check ")[-1].split("/")[-1].strip()).exists()


def test_prepare_tells_that_nothing_can_be_kept(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture) -> None:
    monkeypatch.setattr("unhurried_heron.kernels.machine_code.prepare.lasting_folder", lambda: None)
    with pytest.raises(typer.Exit) as left:
        prepare()
    assert left.value.exit_code == 1
    assert "nothing could be kept" in "".join(capsys.readouterr())


@pytest.mark.parametrize("there", [True, False])
def test_prepare_counts_what_was_there(there: bool, monkeypatch: pytest.MonkeyPatch, capsys) -> None:
    loaded: list[str] = []
    room = "unhurried_heron.kernels.machine_code"
    monkeypatch.setattr(f"{room}.loading.is_kept", lambda name: there or name in loaded)
    monkeypatch.setattr(f"{room}.prepare.load_kernels", lambda *names: loaded.extend(names))
    prepare()
    count = len(loaded)
    assert count > 9
    words = f"{0 if there else count} kernels compiled, {count if there else 0} were there"
    assert words in " ".join(capsys.readouterr().out.split())


@pytest.mark.long
def test_run_writes_what_is_asked(tmp_path: Path) -> None:
    out = {kind: tmp_path / f"pond.{kind}" for kind in ("csv", "json", "png")}
    done = heron(
        "run", demo_file("sluice-pond"), "--method", "radau-iia-5", "--rtol", "1e-6", "--set", "crest=0.7", "--set",
        "level=0.5", "--record", 25, "--csv", out["csv"], "--json", out["json"], "--plot", out["png"],
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert len(out["csv"].read_text().splitlines()) == 26
    summary = json.loads(out["json"].read_text())
    assert '{\n  "title": "Sluice pond"' in out["json"].read_text()
    assert summary["problem"]["parameters"]["crest"] == 0.7
    assert summary["problem"]["initial"]["level"] == 0.5
    assert summary["method"] == "radau-iia-5"
    assert out["png"].read_bytes().startswith(b"\x89PNG")
    assert "reached the end, t = 72." in done.stdout
    assert "overtops" in done.stdout


@pytest.mark.long
def test_compare_and_methods(tmp_path: Path) -> None:
    pond, table, figure = demo_file("sluice-pond"), tmp_path / "table.csv", tmp_path / "work.svg"
    done = heron(
        "compare",
        pond,
        "--methods",
        "heun-2,fehlberg-45",
        "--rtol",
        "1e-4,1e-5",
        "--csv",
        table,
        "--plot",
        figure,
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("fehlberg-45") >= 2
    assert len(table.read_text().splitlines()) == 5
    assert table.read_text().startswith("method,rtol")
    assert "<svg" in figure.read_text()
    assert heron("compare", pond, "--methods", "adams-pece-2").returncode == 1
    listed = heron("methods").stdout
    assert all(word in listed for word in ("radau-iia-5", "dormand-prince-54", "Kutta", "stiff"))


@pytest.mark.long
def test_exit_codes_and_errors(tmp_path: Path) -> None:
    carbonate, pond = demo_file("carbonate"), demo_file("sluice-pond")
    diverged = heron("run", carbonate, "--method", "euler", "--step", "0.01")
    assert diverged.returncode == 1
    assert "not finite" in diverged.stderr
    (tmp_path / "bad.toml").write_text(pond.read_text().replace("width * max", "widht * max"))
    wrong = [
        (["run", "nothing.toml"], "cannot read"),
        (["run", tmp_path / "bad.toml"], "widht"),
        (["run", pond, "--method", "radau"], "did you mean 'radau-iia-variable'"),
        (["run", pond, "--set", "crst=1"], "did you mean 'crest'"),
        (["run", pond, "--set", "crest=high"], "not defined"),
        (["run", pond, "--rtol", "0"], "tolerance"),
        (["run", pond, "--rtol", "1e-5", "--step", "1"], "exclude"),
        (["run", pond, "--csv", tmp_path / "no" / "x.csv"], "no folder"),
        (["run", pond, "--plot", tmp_path / "x.nothing"], "kind of file"),
        (["compare", pond, "--rtol", "tight"], "no number"),
        (["run", pond, "--csv", "/dev/full"], "heron: cannot write /dev/full: No space left on device\n"),
    ]
    for arguments, words in wrong:
        done = heron(*arguments)
        assert done.returncode == 2, arguments
        assert words in done.stderr
        assert "Traceback" not in done.stderr
    assert "Traceback" in heron("run", tmp_path / "bad.toml", "--debug").stderr


@pytest.mark.parametrize(("arguments", "held"), [(("methods",), True), (("--help",), False)], ids=str)
@pytest.mark.long
def test_a_reader_who_has_had_enough(arguments: tuple, held: bool) -> None:
    command = [str(Path(sys.executable).with_name("heron")), *map(str, arguments)]
    plain = {name: value for name, value in os.environ.items() if name != "PYTHONUNBUFFERED"}
    # held back until the end, or written line by line
    for env in (plain if held else {**plain, "PYTHONUNBUFFERED": "1"},):
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=env) as process:
            process.stdout.close()
            assert (process.stderr.read(), process.wait(timeout=60)) == (b"", 1)
        with Path("/dev/full").open("wb") as full:
            done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, env=env, timeout=60, check=False)
        assert (done.stderr, done.returncode) == (b"heron: No space left on device\n", 2)


@pytest.mark.parametrize("verb", ["demo", "new", "check", "run", "compare", "methods", "prepare", ""])
def test_help(verb: str) -> None:
    done = heron(*verb.split(), "--help")
    assert done.returncode == 0
    assert "completion" not in done.stdout


SLOW = """
equations = "x' = cos(t)"
[interval]
from = 0
to = 1e10
[initial]
x = 0
[integrate]
record = 4
"""


@pytest.mark.long
def test_a_terminal_sees_progress_and_interrupting_keeps_what_was_done(tmp_path: Path) -> None:
    (tmp_path / "slow.toml").write_text(SLOW)
    reader, writer = pty.openpty()
    command = [str(Path(sys.executable).with_name("heron")), "run", "slow.toml", "--csv", "part.csv"]
    process = subprocess.Popen(
        command,
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=writer,
        env={**os.environ, "TERM": "xterm"},
        # where the tests themselves run with Ctrl-C ignored, their children would too
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    seen = b""
    deadline = time.monotonic() + 30
    while b"steps" not in seen and time.monotonic() < deadline:
        if select.select([reader], [], [], 0.5)[0]:
            seen += os.read(reader, 4096)
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=20)
    while select.select([reader], [], [], 0.1)[0]:
        seen += os.read(reader, 4096)
    os.close(writer)
    os.close(reader)
    assert b"steps" in seen
    assert b"%" in seen
    assert process.returncode == 1
    assert b"interrupted at t = " in out
    assert b"incomplete" in out
    assert b"Traceback" not in seen
    assert (tmp_path / "part.csv").read_text().splitlines()[0] == "t,x"


@pytest.mark.long
def test_check_and_new(tmp_path: Path) -> None:
    good = heron("check", demo_file("culvert"))
    assert (good.returncode, good.stderr) == (0, "")
    assert "nothing wrong" in good.stdout
    bad = heron("check", demo_file("mistakes"))
    assert (bad.returncode, bad.stderr) == (1, "")
    assert "6 things wrong" in bad.stdout
    assert [heron(verb, tmp_path / "none.toml").returncode for verb in ("check", "run", "compare")] == [2, 2, 2]
    latex = heron("check", demo_file("culvert"), "--latex").stdout
    assert latex.startswith("\\begin{aligned}")
    made = heron("new", "mill", cwd=tmp_path)
    assert made.returncode == 0
    assert heron("check", tmp_path / "mill.toml").returncode == 0
    assert heron("run", tmp_path / "mill.toml", "--set", "shut_at=1 d", "--set", "level=crest/4").returncode == 0
    (tmp_path / "ponds").mkdir()
    assert heron("new", "ponds/mill.toml", cwd=tmp_path).returncode == 0
    assert (tmp_path / "ponds" / "mill.toml").read_text() == (tmp_path / "mill.toml").read_text()
    for name, words in (("mill", "already"), ("a b", "name of a problem"), ("none/mill", "no folder")):
        again = heron("new", name, cwd=tmp_path)
        assert (again.returncode, words in again.stderr) == (2, True), again.stderr


def test_open_parameters_are_set_on_the_line(tmp_path: Path) -> None:
    path = tmp_path / "open.toml"
    equations = "equations = \"z'' = -k*z\"\n[interval]\nfrom = 0\nto = 1\n"
    path.write_text(equations + '[initial]\nz = 1\n"z\'" = 0\n[parameters]\nk = "open"\n')
    refused = heron("run", path)
    assert refused.returncode == 2
    assert "still open: 'k'" in refused.stderr
    kinked = demo_file("sluice-pond")
    assert "landed on" in heron("run", kinked).stdout
    assert "landed on" not in heron("run", kinked, "--no-switches").stdout
    done = heron("run", path, "--set", "k=4", "--set", "z'=0.5")
    assert done.returncode == 0
    assert f"{math.cos(2) + 0.25 * math.sin(2):.6f}"[:7] in done.stdout


@pytest.mark.long
def test_outputs_harm_nothing(tmp_path: Path) -> None:
    path = tmp_path / "p.toml"
    path.write_text('equations = "x\' = -x"\n[interval]\nfrom = 0\nto = 1\n[initial]\nx = 1\n')
    before = path.read_text()
    twice = ("--csv", tmp_path / "a", "--json", tmp_path / "a")
    for options in (("--csv", path), twice, ("--plot", tmp_path / "a.xyz"), ("--csv", tmp_path), ("--json", "")):
        assert heron("run", path, *options).returncode == 2, options
    assert path.read_text() == before
    # what the line says drives out what the file says: a step and tolerances exclude each other
    path.write_text(before + "[integrate]\nstep = 0.1\n")
    assert "rtol 0.001" in heron("run", path, "--rtol", "1e-3").stdout
    path.write_text(before + "[integrate]\nrtol = 1e-3\n")
    assert "step 0.1" in heron("run", path, "--step", "0.1").stdout
    odd = "a[red]" + "x" * 200 + ".csv"
    assert f"table: {odd}\n" in heron("run", path, "--csv", odd, cwd=tmp_path).stdout
    run = heron("run", path, "--from", "0.5", "--to", "3", "--budget", "1steps")
    assert run.returncode == 1
    assert "t = 0.5" not in run.stdout.split("budget")[0]
    assert "budget of 1 step was" in run.stdout
    for budget in ("lots", "0s", "1e999steps", "0.5steps", "1..5s"):
        refused = heron("run", path, "--budget", budget)
        assert (refused.returncode, "Traceback" in refused.stderr) == (2, False), budget
    assert heron("new", "", cwd=tmp_path).returncode == 2
    plain = heron("methods", env={**os.environ, "PYTHONIOENCODING": "ascii", "COLUMNS": "60"})
    assert (plain.returncode, plain.stderr) == (0, "")


@pytest.mark.long
def test_pictures_of_several_runs(tmp_path: Path) -> None:
    picture = tmp_path / "phase.svg"
    chain, drawn = demo_file("food-chain"), ("--plot", picture, "--overlay", "supply=5,8")
    user_input = heron("run", chain, "--to", "40", *drawn, "--phase", "algae,grazer")
    assert user_input.returncode == 0, user_input.stderr
    assert picture.read_text().count("<!-- supply = ") == 2
    for options, words in (
        (["--phase", "algae,grazer"], "nowhere to draw"),
        (["--plot", picture, "--overlay", "supply"], "NAME=V1,V2"),
        (["--plot", picture, "--overlay", "suply=1,2"], "did you mean 'supply'"),
        (["--plot", picture, "--phase", "algae"], "two or three"),
    ):
        user_input = heron("run", chain, "--to", "1", *options)
        assert user_input.returncode != 0
        assert words in user_input.stderr


def test_questions_are_of_equations_and_of_events_by_name() -> None:
    siphon = demo_file("siphon")
    answers = heron(
        "run", siphon, "--to", "40", "--crossings", "starts", "--period", "starts", "--crossings", "level = 0.5"
    )
    assert (answers.returncode, answers.stderr) == (0, "")
    assert answers.stdout.count("starts") > 2
    # what cannot be asked is told before the problem runs
    for wrong in ("begins", "levl = 0.5", "level + 1"):
        refused = heron("run", siphon, "--crossings", wrong)
        assert refused.returncode == 2
        assert "reached the end" not in refused.stdout
        assert "heron: " in refused.stderr


@pytest.mark.long
def test_what_is_looked_for_is_said_on_the_line(tmp_path: Path) -> None:
    file = tmp_path / "two-branches.toml"
    file.write_text('equations = """\nx\' = -z\n0 = z^2 - x\n"""\n[initial]\nx = 1\n[interval]\nfrom = 0\nto = 0.5\n')
    assert "several solutions" in heron("run", file).stderr
    for near, end in (("z~0.8", "0.75"), ("z ~ -0.8", "-1.25")):
        assert f" z {end}" in " ".join(heron("run", file, "--set", near).stdout.split())
    refused = heron("run", file, "--set", "x~2")
    assert (refused.returncode, "'x' has a value" in refused.stderr) == (2, True)
