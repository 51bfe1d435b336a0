"""Questions on the line: read before anything runs, and answered by the columns that they need."""

from __future__ import annotations

from pathlib import Path

import pytest
from typer.testing import CliRunner

from unhurried_heron.cli.app import app
from unhurried_heron.errors import HeronError

SWING = """
equations = "x' = v\\nv' = -x"
interval = {from = 0, to = 20}
initial = {x = 1, v = 0}
[[events]]
name = "turns"
when = "v = 0"
"""
BAD = {"--crossings": "x = nobody", "--period": "x = nobody", "--where": "nobody > 1", "--mean": "nobody*x",
       "--integral": "x + nobody", "--extremes": "nobody"}  # fmt: skip


def run(folder: Path, *options: str) -> str:
    (folder / "swing.toml").write_text(SWING)
    done = CliRunner().invoke(app, ["run", str(folder / "swing.toml"), *options])
    if isinstance(done.exception, HeronError):
        raise done.exception
    assert done.exit_code == 0, done.output
    return done.output


@pytest.mark.parametrize("question", BAD)
def test_what_cannot_be_read_is_found_before_the_run(question: str, tmp_path: Path) -> None:
    beside = [each for other in ("--crossings", "--period") for each in (other, "turns")]
    with pytest.raises(HeronError, match="nobody"):
        run(tmp_path, *beside, question, BAD[question], "--csv", str(tmp_path / "states.csv"))
    assert [path.name for path in tmp_path.iterdir()] == ["swing.toml"]


def test_a_name_of_an_event_is_its_relation_where_crossings_are_asked_for_alone(tmp_path: Path) -> None:
    assert run(tmp_path, "--crossings", "turns", "--period", "turns").count("turns") >= 2
    for question in ("--mean", "--extremes", "--integral"):
        with pytest.raises(HeronError, match="turns"):
            run(tmp_path, question, "turns")


@pytest.mark.parametrize(("what", "has_value"), [("x", False), ("x*v", True)])
def test_extremes_have_a_value_where_no_column_is_theirs(what: str, has_value: bool, tmp_path: Path) -> None:
    lines = run(tmp_path, "--extremes", what).splitlines()
    title = next(k for k, line in enumerate(lines) if f"extremes of {what}" in line)
    heading = next(line for line in lines[title:] if "time" in line)
    assert ("value" in heading.split()) is has_value
    assert "x" in heading.split()
