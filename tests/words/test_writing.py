"""Files written: read back as the same problem, and written again as the same bytes."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.demo import NAMES, demo_file
from unhurried_heron.words.document import parse_document, schema

ROOT = Path(__file__).parents[2]


def again(problem: uh.Problem, tmp_path: Path) -> uh.Problem:
    """Write, read and write a problem, and hold the bytes together."""
    first, second = tmp_path / "one.toml", tmp_path / "two.toml"
    problem.to_file(first)
    read = uh.Problem.from_file(first)
    read.to_file(second)
    assert first.read_bytes() == second.read_bytes()
    return read


@pytest.mark.parametrize("name", [*NAMES, "culvert-energies"])
def test_demo_files_survive(name: str, tmp_path: Path) -> None:
    problem = uh.Problem.from_file(demo_file(name))
    read = again(problem, tmp_path)
    assert read.fingerprint == problem.fingerprint
    assert read.units == problem.units
    assert read.integrate_options == problem.integrate_options
    assert [event.name for event in read.events] == [event.name for event in problem.events]


def test_everything_that_can_be_said_survives(tmp_path: Path) -> None:
    problem = uh.Problem.from_text(
        "u[i]' = k*u[i] + rain for i in 1..n\nz'' = -z # a comment\n",
        initial={"u": np.array([1.0, 2.0]), "u[2]": 0.1, "z": "k/3", "z'": 1e-300},
        parameters={"k": "2*j", "j": None, "n": 2},
        inputs={"rain": uh.Measured([0, 1.5, 3], [0.1, 0.2, 1 / 3], "previous")},
        interval=(0, "3 h"),
        events=[uh.Event("z = 0.5", name='said "so"', going="down", stop=True), uh.Event("z' = 0")],
        exact={"z'": "t"},
        units={"t": "h"},
        title="Ωδ \\ \t and 'quotes'",
    )
    read = again(problem, tmp_path)
    assert read.open == ("j",)
    closed = {"parameters": {"j": 0.5}}
    assert read.with_(**closed).fingerprint == problem.with_(**closed).fingerprint
    assert read.title == problem.title
    assert read.inputs["rain"].values.tolist() == problem.inputs["rain"].values.tolist()


def test_tables_stay_beside_their_file_and_move_into_others(tmp_path: Path) -> None:
    (tmp_path / "gauge.csv").write_text("h,tide\n0,1\n5,2\n")
    text = 'equations = "x\' = tide"\n[interval]\nfrom = 0\nto = 5\n[initial]\nx = 0\n[inputs.tide]\n'
    keys = 'file = "{}"\ntime = "h"\nvalue = "tide"\n'
    (tmp_path / "pond.toml").write_text(text + keys.format("gauge.csv"))
    problem = uh.Problem.from_file(tmp_path / "pond.toml")
    problem.to_file(tmp_path / "copy.toml")
    assert 'file = "gauge.csv"' in (tmp_path / "copy.toml").read_text()
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    problem.to_file(elsewhere / "pond.toml")
    assert uh.Problem.from_file(elsewhere / "pond.toml").fingerprint == problem.fingerprint
    for path in ("/etc/passwd", "../gauge.csv", "sub/../../gauge.csv", "c:\\gauge.csv"):
        (elsewhere / "bad.toml").write_text(text + keys.format(path).replace("\\", "\\\\"))
        with pytest.raises(errors.DocumentError, match="does not fit"):
            uh.Problem.from_file(elsewhere / "bad.toml")
    with pytest.raises(errors.DocumentError, match="does not fit"):
        parse_document({"equations": "x' = tide", "interval": {"from": 0, "to": 5}, "initial": {"x": 0},
                        "inputs": {"tide": {"file": "gauge.csv", "time": "h", "value": "tide"}}}, "a text")  # fmt: skip


def test_functions_cannot_be_written(tmp_path: Path) -> None:
    for problem in (
        uh.Problem.from_rates(lambda t, y: y, initial={"x": 1.0}, interval=(0, 1)),
        uh.Problem.from_text("x' = 1", initial={"x": 1}, interval=(0, 1), events=[uh.Event(lambda x: x - 2)]),
    ):
        with pytest.raises(errors.DocumentError, match="Python function"):
            problem.to_file(tmp_path / "no.toml")
    assert not list(tmp_path.iterdir())


def test_the_schema_in_the_docs_is_current() -> None:
    kept = json.loads((ROOT / "docs" / "problem-file.schema.json").read_text())
    assert kept == schema()
    assert set(kept["required"]) == {"interval", "initial"}
