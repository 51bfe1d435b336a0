"""Kernels stay within their arrays: proven by pages that nobody may touch."""

import signal
import subprocess
import sys
from pathlib import Path

import pytest

RUNS = Path(__file__).parent / "fenced_runs.py"


def fenced_runs(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, str(RUNS), *arguments], capture_output=True, text=True, check=False)


@pytest.mark.long
def test_no_kernel_leaves_its_arrays() -> None:
    # by machine code; `interpreted_runs.py` looks at every access of many more runs
    done = fenced_runs("0", "8")
    assert done.returncode == 0, done.stderr[-2000:]
    assert "all within their arrays" in done.stdout


@pytest.mark.long
def test_the_fence_stands() -> None:
    assert fenced_runs("--stray").returncode == -signal.SIGSEGV
