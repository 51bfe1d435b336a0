"""Every line that the tool prints, as it was read and found good; spaces and places of files aside, numbers nearly.

After a change that is meant, delete the file in question, run this twice and read what it holds now.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest
from forked import heron
from nearly import SECONDS, differences

from unhurried_heron.demo import demo_file

RECORDED = Path(__file__).parent / "recorded_output"
FILES = Path(__file__).parent / "files"
POND, GATE, MISTAKES, CULVERT, CHEMISTRY = map(demo_file, ("sluice-pond", "gate", "mistakes", "culvert", "carbonate"))
COMMANDS = {
    "run-gate": ("run", GATE, "--rtol", "1e-6"),
    "run-files": ("run", POND, "--csv", "pond.csv", "--json", "pond.json", "--plot", "pond.png", "--set", "crest=0.7"),
    "run-budget": ("run", POND, "--method", "radau-iia-5", "--budget", "9steps"),
    "run-refused": ("run", POND, "--set", "crst=0.7"),
    "run-part": ("run", GATE, "--from", "130", "--csv", "gate.csv"),
    "check-mistakes": ("check", MISTAKES),
    "check-good": ("check", GATE),
    **{f"check-{path.stem}": ("check", path) for path in sorted(FILES.glob("*.toml"))},
    **{
        f"latex-{name}": ("check", "--latex", FILES / f"{name}.toml")
        for name in ("weir", "swing", "stiff", "orbit", "sums")
    },
    "methods": ("methods",),
    "nothing": (),
    "run-family": ("run", demo_file("sediment"), "--set", "oxygen=2", "--set", "layers=8", "--record", "2"),
    "compare": ("compare", POND, "--methods", "adams-bashforth-1,auto", "--rtol", "1e-3", "--step", "0.1"),
    "compare-best": (
        "compare",
        POND,
        "--methods",
        "heun-3,auto",
        "--rtol",
        "1e-3,1e-5",
        "--best",
        "1e-4",
        "--count",
        "99",
    ),
    "convergence": ("convergence", CULVERT, "--methods", "heun-2", "--step", "0.5", "--halvings", "3"),
    "stability": ("stability", "classical-rk-4", "trapezoidal", "adams-bashforth-4", "--for", POND, "--plot", "r.png"),
    "certify": ("certify", POND, "--digits", "7", "--at", "6,24 h"),
    "certify-refused": ("certify", POND, "--digits", "99"),
    "rest": (
        "rest",
        demo_file("food-chain"),
        "--within",
        "nutrient=0,10",
        "--within",
        "algae=0,1e4 umol/m^3",
        "--within",
        "grazer=0,10",
        "--csv",
        "rest.csv",
    ),
    "rest-over": (
        "rest",
        demo_file("food-chain"),
        "--within",
        "nutrient=0,14",
        "--within",
        "algae=0,14",
        "--within",
        "grazer=0,3",
        "--over",
        "supply=0.5,14",
        "--csv",
        "rest.csv",
        "--plot",
        "rest.png",
    ),
    "cycle": ("cycle", demo_file("food-chain"), "--csv", "cycle.csv", "--plot", "cycle.png"),
    "cycle-near": ("cycle", demo_file("food-chain"), "--near", "algae=0.3", "--period", "19 d", "--set", "supply=9"),
    "cycle-refused": ("cycle", POND),
    "exponents-refused": ("exponents", demo_file("food-chain"), "--first", "4"),
    "rest-refused": ("rest", POND, "--within", "level=0,2"),
    "step-table": ("step-table", POND, "--method", "heun-2", "--step", "30 min", "--steps", "2", "--csv", "t.csv"),
    "explain": ("explain", CHEMISTRY, "--method", "dormand-prince-54", "--rtol", "1e-4"),
    "sweep": (
        "sweep",
        POND,
        "--over",
        "crest=60 cm,1 m",
        "--over",
        "base=60:120:3",
        "--rtol",
        "1e-3,1e-6",
        "--record",
        "4",
        "--measure",
        "largest(level) - crest",
        "--out",
        "pond.csv",
        "--plot",
        "pond.png",
    ),
    "sweep-refused": ("sweep", POND, "--over", "crest=1:2"),
    "compare-refused": ("compare", POND, "--methods", "eulr"),
    "new": ("new", "marsh"),
    "missing": ("run", "nowhere.toml"),
}

# sentences are wrapped by the length of their numbers, which differ a little from machine to machine
WIDE = {verb: {"COLUMNS": "400"} for verb in ("explain", "certify", "convergence", "stability", "step")}


def untimed(text: str) -> str:
    """Take the numbers out of columns of seconds."""
    lines, end = [], 0
    for line in text.splitlines():
        if re.search(r" seconds( |$)", line) and "method" in line:
            end = line.index("seconds") + len("seconds")
        elif not line.strip():
            end = 0
        elif end and any(map(str.isalnum, line)):
            line = re.sub(r"\S+$", "#", line[:end]) + line[end:]
        lines.append(line)
    return "\n".join(lines)


def bare(text: str, *, clocked: bool) -> str:
    """Take away what differs from machine to machine, or from run to run."""
    text = untimed(text)
    text = re.sub(r"unhurried-heron: compiling .*", "", text)
    text = re.sub(r"\S*/(\S+\.(toml|csv|json|png))", r"\1", text)
    text = re.sub(r"[0-9a-f]{64}", "#", text)
    text = re.sub(r'"seconds": [\d.e-]+', '"seconds": #', SECONDS.sub("# s", text) if clocked else text)
    text = re.sub(r"[─━╭╮╰╯│]+", "", text)
    return "\n".join(filter(None, (" ".join(line.split()) for line in text.splitlines()))) + "\n"


@pytest.mark.parametrize("name", COMMANDS)
def test_what_the_tool_says(name: str, tmp_path: Path) -> None:
    wide = WIDE.get(name.partition("-")[0], {"COLUMNS": "180"})
    done = heron(*COMMANDS[name], cwd=tmp_path, env={**os.environ, "NO_COLOR": "1", **wide})
    written = [f"== {path.name}\n" + path.read_text() for path in sorted(tmp_path.glob("*.[jt]*"))]
    written += [f"== {path.name}\n" + "\n".join(path.read_text().splitlines()[:2]) for path in tmp_path.glob("*.csv")]
    output = "\n".join([done.stdout, done.stderr, f"exit code {done.returncode}", *written])
    output = bare(output, clocked=not name.startswith("check"))
    kept = RECORDED / f"{name}.txt"
    if not kept.exists():
        kept.write_text(output, encoding="utf-8")
        pytest.fail(f"nothing was kept for '{name}': now it is")
    assert differences(output, kept.read_text(encoding="utf-8")) == []
