"""Every verb on problems that are none to integrate, have no answers, or whose names are markup elsewhere."""

from __future__ import annotations

import warnings
from pathlib import Path

import pandas as pd
import pytest
from typer.testing import CliRunner

import unhurried_heron as uh
from unhurried_heron.cli.app import app
from unhurried_heron.errors import HeronError

FAILS = """
title = "Fails at once"
equations = "x' = sqrt(x - 2)\\ny' = -y"
interval = {from = 0, to = 2}
initial = {x = 1, y = 1}
"""
MARKED = """
title = "Pond [/red] $a_1^$ [bold]level[m] {x} %s"
equations = "x' = -x\\ny' = -2*y"
interval = {from = 0, to = 2}
initial = {x = 1, y = 1}
conserved = ["0*x"]
exact = {x = "exp(-t)"}
[[events]]
name = "[/red] level $x_1 [m]"
when = "x = 0.5"
[[events]]
name = "$never_{ [/b]"
when = "x = 7"
[[events]]
when = "y = 0.5 + 0*x"
"""
# a length and a time are added; nothing runs, nothing is written
DISAGREES = """
title = "Metres and hours"
equations = "x' = -x/tau + t\\ny' = -y/tau"
interval = {from = 0, to = 2}
initial = {x = 1, y = 1}
parameters = {tau = "1 h"}
units = {t = "h", x = "m", y = "m"}
"""
CASES = {"fails": FAILS, "marked": MARKED, "disagrees": DISAGREES}
QUESTIONS = ["--crossings", "x = 0.7", "--period", "x = 0.7", "--mean", "x", "--integral", "y", "--extremes", "x",
             "--where", "x > 0.5"]  # fmt: skip
VERBS = {
    "check": ["check", "FILE"],
    "run": ["run", "FILE", *QUESTIONS, "--csv", "a.csv", "--json", "a.json", "--plot", "a.png"],
    "recorded": ["run", "FILE", "--record", "5", "--csv", "b.csv", "--plot", "b.svg"],
    "phase": ["run", "FILE", "--phase", "x,y", "--plot", "c.pdf"],
    "overlay": ["run", "FILE", "--overlay", "x=1,1.5", "--plot", "d.png"],
    "compare": ["compare", "FILE", "--csv", "e.csv", "--plot", "e.png", "--best", "1e-6"],
    "explain": ["explain", "FILE", "--plot", "f.png"],
    "certify": ["certify", "FILE", "--digits", "4", "--at", "1,2", "--csv", "g.csv"],
    "convergence": ["convergence", "FILE", "--halvings", "3", "--csv", "h.csv", "--plot", "h.png"],
    "step-table": ["step-table", "FILE", "--csv", "i.csv"],
    "stability": ["stability", "heun-2", "--for", "FILE", "--plot", "j.png"],
}


@pytest.mark.parametrize("verb", VERBS)
@pytest.mark.parametrize("case", CASES)
def test_every_verb_answers_or_says_why_not(
    case: str, verb: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("pond.toml").write_text(CASES[case])
    with warnings.catch_warnings():
        warnings.simplefilter("error", UserWarning)
        warnings.simplefilter("ignore", uh.ProblemWarning)
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        found = CliRunner().invoke(app, [part.replace("FILE", "pond.toml") for part in VERBS[verb]])
    assert found.exception is None or isinstance(found.exception, SystemExit | HeronError), found.exception
    assert (found.exit_code == 0) is (case == "marked")
    if case == "disagrees":
        assert "unit" in f"{found.exception} {found.output}"
        assert [path.name for path in Path().iterdir()] == ["pond.toml"]
        return
    written = [line.split(": ", 1)[1] for line in found.output.splitlines() if line.startswith(("table:", "figure:"))]
    if case == "marked" or verb in ("run", "recorded", "phase", "overlay", "compare"):
        outputs = [part for part in VERBS[verb] if part[1:2] == "."]
        assert sorted(written + (["a.json"] if verb == "run" else [])) == sorted(outputs)
    for name in written:
        assert Path(name).stat().st_size > 0
        if name.endswith(".csv"):
            table = pd.read_csv(name)
            assert len(table.columns) > 1
            # the end that is asked for, too, is told once
            assert verb != "certify" or case == "fails" or table["time"].tolist() == [1, 1, 2, 2]
    if case == "marked" and verb in ("run", "recorded", "compare", "check"):
        assert "Pond [/red] $a_1^$ [bold]level[m] {x} %s" in found.output
    if case == "marked" and verb == "run":
        assert "[/red] level $x_1 [m]" in found.output
        assert "event '$never_{ [/b]' did not happen; nearest at t = 0" in found.output
        assert "period of x = 0.7: there is no period: it was never crossed" in found.output


def test_known_jumps_have_two_rows() -> None:
    for interval, q in (((0, 6), [1, 2]), ((6, 0), [2, 1])):
        for text in ("where(t < 3, 1, 2)", "where(t <= 3, 1, 2)", "1 + step(t - 3)"):
            pond = uh.Problem.from_text(f"x' = q - x\nq = {text}", initial={"x": 1}, interval=interval)
            run = uh.integrate(pond)
            assert run.frame().loc[3.0, "q"].tolist() == q
            assert [run.at(3, "q", side=side) for side in ("before", "after")] == q
            assert run.at(3.0, side="before") == run.at(3.0)
