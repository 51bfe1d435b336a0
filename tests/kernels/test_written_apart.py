"""The collocation march against the same method written apart in C: the same counts, and the same states."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

import numpy as np
import pytest
from conftest import literature_problem

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
import implicit
import pairing


@pytest.mark.skipif(shutil.which("gcc") is None, reason="there is no C compiler")
@pytest.mark.parametrize("rtol", [1e-4, 1e-7])
@pytest.mark.parametrize("name", ["hires", "robertson", "oregonator", "ehl_d3", "brusselator", "pleiades"])
def test_the_march_does_what_c_does(name: str, rtol: float) -> None:
    problem = literature_problem(name)
    march = pairing.prepared(problem, "radau-iia-5", rtol, 1e-4 * rtol, 1e-4)
    pairing.seconds_of(march, problem, 1e-4)
    counts, state = implicit.by_hand(march, problem, 1e-4)()
    assert implicit.counted(march) == counts
    assert march.system.state == pytest.approx(state, rel=1e-9)
    assert np.isfinite(state).all()
