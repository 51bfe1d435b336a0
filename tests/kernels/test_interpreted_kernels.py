"""Kernels as plain Python: what they come to, and that they notice what machine code would not."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import interpreted_runs
import pytest

STRAY = """
import unhurried_heron as uh
from unhurried_heron.kernels import explicit_runge_kutta as kernel

right = kernel._end_rates
kernel._end_rates = lambda system, tableau: kernel.offset_by(right(system, tableau), {beyond})
uh.integrate(uh.Problem.from_text("x' = -x", initial={{"x": 1}}, interval=(0, 1)), "dormand-prince-54", rtol=1e-3)
"""


@pytest.mark.long
def test_interpreted_kernels_do_what_machine_code_does(tmp_path: Path) -> None:
    """A share of the runs; `.ci/run` takes all of them, and measures the lines."""
    runs = [tmp_path / "compiled", tmp_path / "interpreted"]
    command = [sys.executable, interpreted_runs.__file__, "7", "90"]
    both = [subprocess.Popen([*command, file, f"--{file.name}"]) for file in runs]
    assert [process.wait(timeout=300) for process in both] == [0, 0]
    compiled, interpreted = (json.loads(file.read_text())["runs"] for file in runs)
    assert compiled.keys() == interpreted.keys()
    assert len(compiled) > 10
    steady = [name for name in compiled if name.split(",")[0] not in interpreted_runs.SENSITIVE]
    assert [name for name in steady if interpreted_runs.differ(compiled[name], interpreted[name])] == []


@pytest.mark.parametrize(
    ("beyond", "words"), [(0, ""), (1, "OutsideError: index 7 of an array of 7"), (-9, "OutsideError")]
)
def test_an_access_outside_of_an_array_is_an_error_with_its_line(tmp_path: Path, beyond: int, words: str) -> None:
    script = tmp_path / "stray.py"
    script.write_text(STRAY.format(beyond=beyond))
    command = [sys.executable, "-m", "unhurried_heron.testing.interpreted_kernels", script]
    done = subprocess.run(command, capture_output=True, text=True, timeout=300, check=False)
    assert (done.returncode == 0) is (words == ""), done.stderr
    assert words in done.stderr
    assert (words == "") or "kernels/explicit_runge_kutta.py" in done.stderr
