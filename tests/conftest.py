"""What several tests need: settings, and quiet demo problems."""

from __future__ import annotations

import os

# both processors have a worker already, which its linear algebra would share with threads
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import gc
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

import unhurried_heron as uh

# the same examples at every run; HYPOTHESIS_PROFILE=search looks for new ones
settings.register_profile("same", derandomize=True)
settings.register_profile("search", derandomize=False)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "same"))

# tests of interruption mean something also where Ctrl-C is ignored, as in jobs in the background
signal.signal(signal.SIGINT, signal.default_int_handler)

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


ROOT = Path(__file__).parents[1]
# what the tools of the tests keep there themselves
CACHES = {ROOT / name for name in (".hypothesis", ".pytest_cache", "__pycache__")}


@pytest.fixture(scope="session", autouse=True)
def nothing_is_left_in_the_checkout() -> Iterator[None]:
    before = {*ROOT.iterdir()}
    yield
    assert {*ROOT.iterdir()} - before <= CACHES


@pytest.fixture
def pond() -> uh.Problem:
    """The sluice pond."""
    return uh.Problem.from_text(POND, **POND_VALUES)


@pytest.fixture
def oscillator() -> uh.Problem:
    """X = sin t, v = cos t."""
    return uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 0, "v": 1}, interval=(0, 20))


def pytest_collection_finish() -> None:
    """Leave what was loaded and collected out of the garbage collector's later rounds."""
    gc.collect()
    gc.freeze()
