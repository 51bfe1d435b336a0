"""Verbs by which something is learnt: what they write, draw, refuse, and how they end."""

from __future__ import annotations

from pathlib import Path

import pandas as pd
import pytest
from forked import heron

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

DECAY = """
equations = "level' = -leak*level"
conserved = ["level + 0"]
[interval]
from = 0
to = 2
[initial]
level = 1
[parameters]
leak = 0.5
[exact]
level = "exp(-leak*t)"
"""


@pytest.fixture
def decay(tmp_path: Path) -> Path:
    path = tmp_path / "decay.toml"
    path.write_text(DECAY)
    return path


def test_tables_have_exact_values_on_request(decay: Path, tmp_path: Path) -> None:
    assert heron("run", decay, "--step", "0.5", "--csv", tmp_path / "a.csv", "--exact").returncode == 0
    table = pd.read_csv(tmp_path / "a.csv")
    assert (table["level error"] == table["level"] - table["level exact"]).all()
    refused = heron("run", demo_file("sluice-pond"), "--csv", tmp_path / "b.csv", "--exact")
    assert refused.returncode == 2
    assert "no closed form" in refused.stderr


@pytest.mark.long
def test_every_table_and_picture_is_written(decay: Path, tmp_path: Path) -> None:
    commands = {
        "convergence": ("convergence", decay, "--methods", "heun-2,euler", "--steps", "0.5,0.25,0.125"),
        "certify": ("certify", decay, "--digits", "5", "--at", "1"),
        "step-table": ("step-table", decay, "--method", "ralston-3", "--count", "4", "--steps", "2"),
        "compare": (
            "compare",
            decay,
            "--methods",
            "heun-3",
            "--rtol",
            "1e-3",
            "--step",
            "0.5",
            "--reference",
            "taylor",
        ),
    }
    for name, words in commands.items():
        done = heron(*words, "--csv", tmp_path / f"{name}.csv")
        assert done.returncode == 0, done.stderr
        assert not pd.read_csv(tmp_path / f"{name}.csv").empty
    step_table = pd.read_csv(tmp_path / "step-table.csv")
    problem = uh.Problem.from_file(decay)
    assert step_table["level"].tolist() == uh.step_table(problem, "ralston-3", count=4, steps=2)["level"].tolist()
    compared = pd.read_csv(tmp_path / "compare.csv")
    assert compared["reference"].unique().tolist() == ["Taylor series in 30 digits"]
    assert (compared["drift of level + 0"] > 0.5).all()
    for words in (
        ("convergence", decay),
        ("explain", decay),
        ("stability", "euler", "--window=-3,1,-2,2", "--order-star"),
    ):
        done = heron(*words, "--plot", tmp_path / f"{words[0]}.png")
        assert done.returncode == 0, done.stderr
        assert (tmp_path / f"{words[0]}.png").stat().st_size > 5000


@pytest.mark.long
def test_what_cannot_be_is_refused_and_what_is_not_certain_is_told(decay: Path, tmp_path: Path) -> None:
    for words in (
        ("stability", "euler", "--window", "1,2,3"),
        ("stability", "eulr"),
        ("stability", "euler", "--order", "3"),
        ("convergence", decay, "--steps", "0.1"),
        ("step-table", decay, "--steps", "0", "--step", "0.1"),
        ("certify", decay, "--at", "9"),
        ("compare", decay, "--best", "1e-3", "--by", "speed"),
        ("compare", decay, "--reference", "best"),
        ("compare", decay, "--count", "10.5"),
        ("explain", decay, "--plot", decay),
    ):
        assert heron(*words).returncode == 2, words
    kept = heron("compare", decay, "--sort", "speed", "--csv", tmp_path / "kept.csv")
    assert (kept.returncode, "auto" in kept.stdout, (tmp_path / "kept.csv").exists()) == (2, True, True)
    blows = tmp_path / "blows.toml"
    blows.write_text(DECAY.replace("-leak*level", "level^2").replace('level = "exp(-leak*t)"', ""))
    blows.write_text(blows.read_text().replace("leak = 0.5", "").replace("[parameters]", "").replace("[exact]", ""))
    refused = heron("certify", blows)
    assert refused.returncode == 1
    assert "Not certified to 6 digits" in refused.stdout


@pytest.mark.long
def test_a_long_run_ends_with_what_would_do_better() -> None:
    done = heron("run", demo_file("carbonate"), "--method", "dormand-prince-54", "--rtol", "1e-5", "--to", "1")
    assert "Take another method: at the same tolerance radau-iia" in " ".join(done.stdout.split())
    every = heron("compare", demo_file("sluice-pond"), "--all", "--rtol", "1e-3")
    assert every.returncode == 0, every.stderr
    assert len([line for line in every.stdout.splitlines() if " 0.001 " in line or " 1e-03 " in line]) > 30
