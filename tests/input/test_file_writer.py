"""Files written: read back as the same problem, and written again as the same bytes."""

from __future__ import annotations

import json
from dataclasses import fields, replace
from pathlib import Path

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.demo import NAMES, demo_file
from unhurried_heron.equality import same
from unhurried_heron.input.file_reader import parse_document, schema
from unhurried_heron.input.problem_input import ProblemInput

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


def everything(form: str) -> uh.Problem:
    """Return a problem that says something of every kind."""
    user_input = {
        "initial": {"z": 0.5, "z'": 0} if form != "hamiltonian" else {"z": 0.5, "p": 0},
        "parameters": {"k": 2, "q": "1 m"}, "inputs": {"rain": uh.Measured([0, 2], [0, 1], "cubic")},
        "interval": (0, "2 h"), "title": "All", "check_units": False, "conserved": ["energy"], "never_negative": ["z"],
        "guess": {"z": "30 cm"}, "units": {"t": "h", "z": "m"}, "exact": {"z": "0.5 + 0*t"},
        "events": [
            uh.Event("z = k", "a", "up", stop=False, then="z = 0.5*q", only_if="z > 0", at_most=3, stop_after=9),
            uh.Event(name="b", at=[0.5, "1 h"], then=["k = 2", "z = 1"]), uh.Event(every="30 min", first=0.1),
            uh.Event("z = 7", stop=True),
        ],
    }  # fmt: skip
    if form == "equations":
        return uh.Problem.from_text("z'' = -k*z + rain\nenergy = z*q", **user_input)
    energies = "kinetic = z'^2/2\npotential = k*z^2/2*q" if form == "lagrangian" else "hamiltonian = p^2/2 + k*z^2/2*q"
    if form == "lagrangian":
        held = {"pull": "z = 0.5"}
        return uh.Problem.from_lagrangian(energies, ["z"], forces={"z": "rain"}, constraints=held, **user_input)
    return uh.Problem.from_hamiltonian(energies, {"z": "p"}, forces={"z": "rain"}, **user_input)


# what no file can say
OF_FUNCTIONS = {"function", "jacobian", "sparsity", "algebraic", "mass", "switches", "derived"}


@pytest.mark.parametrize("form", ["equations", "lagrangian", "hamiltonian"])
def test_no_field_is_lost_on_its_way(form: str, tmp_path: Path) -> None:
    problem = everything(form)
    options = {"method": "auto", "rtol": 1e-6, "atol": {"z": 1e-9}, "record": "10 min", "switches": False}
    user_input = replace(problem.user_input, integrate_options=options)
    plain, other = (
        ProblemInput(form="rates"),
        {
            "equations": {"coordinates", "momenta", "forces", "constraints"},
            "lagrangian": {"momenta"},
            "hamiltonian": {"constraints"},
        },
    )
    silent = OF_FUNCTIONS | other.get(form, set())
    # a field that this problem says nothing of would not be missed
    assert [
        each.name for each in fields(ProblemInput) if getattr(user_input, each.name) == getattr(plain, each.name)
    ] == [each.name for each in fields(ProblemInput) if each.name in silent]
    events = [getattr(event, each.name) != each.default for each in fields(uh.Event) for event in user_input.events]
    assert all(any(events[4 * k : 4 * k + 4]) for k in range(len(fields(uh.Event))))
    read = again(uh.Problem.of(user_input), tmp_path)
    for each in fields(ProblemInput):
        assert same(getattr(read.user_input, each.name), getattr(user_input, each.name)) or each.name in (
            "text",
            "initial",
        ), each.name
    assert read.assembled.values == problem.assembled.values
    assert read.fingerprint == problem.fingerprint


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


def test_a_key_with_a_prime_is_told_to_be_quoted(tmp_path: Path) -> None:
    file, text = tmp_path / "pond.toml", 'equations = """\nx\' = y\ny\' = -x\n"""\n[initial]\n{}x\' = 1\n'
    for wrong, hint in (("", True), ("y = = 3\n", False)):
        file.write_text(text.format(wrong))
        with pytest.raises(errors.DocumentError) as refused:
            uh.Problem.from_file(file)
        assert ('stands in quotes: "x\'"' in str(refused.value)) is hint


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
