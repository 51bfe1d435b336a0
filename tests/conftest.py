"""What several tests need: the reference problems of the literature, and a quiet demo problem."""

from __future__ import annotations

import json
import os
import signal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

import unhurried_heron as uh

# the same examples at every run; HYPOTHESIS_PROFILE=search looks for new ones
settings.register_profile("same", derandomize=True)
settings.register_profile("search", derandomize=False)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "same"))

# tests of interruption mean something also where Ctrl-C is ignored, as in jobs in the background
signal.signal(signal.SIGINT, signal.default_int_handler)

REFERENCES: dict[str, Any] = {
    problem["name"]: problem
    for problem in json.loads((Path(__file__).parent / "data" / "reference_problems.json").read_text())["problems"]
}


def literature_problem(name: str) -> uh.Problem:
    """Make a problem of the reference collection."""
    given = REFERENCES[name]
    return uh.Problem.from_text(
        "\n".join(given["equations"]),
        parameters={key: float(value) for key, value in (given["parameters"] or {}).items()},
        initial={key: float(value) for key, value in given["initial"].items()},
        interval=tuple(float(value) for value in given["interval"]),
    )


POND = """
level'   = (inflow - spill) / area
inflow   = base + swing * sin(2*pi*t/12.4)
spill    = width * max(level - crest, 0)^1.5
"""
POND_VALUES = {
    "parameters": {"area": 1800, "base": 90, "swing": 70, "width": 640, "crest": 0.8},
    "initial": {"level": 0.4},
    "interval": (0, 72),
}


@pytest.fixture
def pond() -> uh.Problem:
    """The sluice pond."""
    return uh.Problem.from_text(POND, **POND_VALUES)


@pytest.fixture
def oscillator() -> uh.Problem:
    """X = sin t, v = cos t."""
    return uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 0, "v": 1}, interval=(0, 20))
