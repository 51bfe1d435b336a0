"""Problem files."""

from __future__ import annotations

from pathlib import Path

import pytest

import unhurried_heron as uh
from unhurried_heron.demo import NAMES, demo_file
from unhurried_heron.errors import DocumentError

GOOD = """
title = "Pond"
equations = "level' = inflow - leak*level"
[interval]
from = 0
to = 10
[initial]
level = 1
[parameters]
inflow = 0.5
leak = 0.1
[[events]]
name = "half"
when = "level = 2"
going = "up"
stop = true
[exact]
level = "inflow/leak + (1 - inflow/leak)*exp(-leak*t)"
[integrate]
method = "radau-iia-5"
rtol = 1e-9
record = 11
"""


def user_input(tmp_path: Path, text: str) -> uh.Problem:
    path = tmp_path / "pond.toml"
    path.write_text(text, encoding="utf-8")
    return uh.Problem.from_file(path)


def test_a_file_says_what_the_text_says(tmp_path: Path) -> None:
    problem = user_input(tmp_path, GOOD)
    assert problem.integrate_options == {"method": "radau-iia-5", "rtol": 1e-9, "record": 11}
    run = uh.integrate(problem, **problem.integrate_options)
    assert run.ending.reason == "event"
    # level(t) = 5 - 4 exp(-t/10) passes 2 at 10 log(4/3)
    assert run.ending.time == pytest.approx(2.876820724517809, rel=1e-8)


@pytest.mark.parametrize("name", NAMES)
def test_demo_files_are_problems(name: str) -> None:
    problem = uh.Problem.from_file(demo_file(name))
    assert uh.integrate(problem, **problem.integrate_options).ending.as_requested


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("from = 0", "form = 0", ["'interval.form'; did you mean 'from'", "'interval.from' is missing"]),
        ("title", "titel", ["'titel'; did you mean 'title'"]),
        ("when", "whne", ["events[0].whne", "did you mean 'when'"]),
        ('"up"', '"upp"', ["events[0].going", "'up', 'down' or 'either'"]),
        ("stop = true", "stop = 1", ["events[0].stop", "true or false"]),
        ("level = 1\n", "level = true\n", ["'initial.level' is True", "a number"]),
        ("rtol = 1e-9", 'rtol = "small"', ["integrate.rtol"]),
        ("title = ", "title = = ", ["not TOML"]),
        ("\nlevel = 1", "", ["no initial value for 'level'"]),
    ],
)
def test_mistakes_are_named_by_their_key(tmp_path: Path, old: str, new: str, words: list[str]) -> None:
    with pytest.raises(uh.FormulationError) as caught:
        user_input(tmp_path, GOOD.replace(old, new, 1))
    assert all(word in str(caught.value) for word in words), str(caught.value)


def test_files_that_are_none(tmp_path: Path) -> None:
    with pytest.raises(DocumentError, match="cannot read"):
        uh.Problem.from_file(tmp_path / "nothing.toml")
    (tmp_path / "bytes.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(DocumentError, match="not TOML"):
        uh.Problem.from_file(tmp_path / "bytes.toml")
