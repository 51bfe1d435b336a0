"""What several tests need: settings, quiet demo problems, and which of the tests are run.

Where nothing is said, `pytest` runs a sample, in minutes: of a test with many cases every sixth, and no test that is
marked as long. ``--rest`` runs the others, ``--whole`` all; so do paths and ``-k``, of what they choose.
"""

from __future__ import annotations

import os

# both processors have a worker already, which its linear algebra would share with threads
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import gc
import itertools
import signal
import zlib
from collections.abc import Iterator
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


# Cases of a test from which on a part of them is a sample,
MANY = 6
# and the part.
PART = 6


def pytest_addoption(parser: pytest.Parser) -> None:
    for name, words in (("whole", "all tests"), ("rest", "the tests that are not in the sample")):
        parser.addoption(f"--{name}", action="store_true", help=f"run {words}")


def pytest_configure(config: pytest.Config) -> None:
    # a process that runs the tests of another does as that one says
    given = getattr(config, "workerinput", None)
    chosen = config.args_source is config.ArgsSource.ARGS or config.option.keyword or config.option.markexpr
    config.option.whole = config.option.whole or bool(chosen) if given is None else given["whole"]


@pytest.hookimpl(optionalhook=True)
def pytest_configure_node(node: Any) -> None:
    node.workerinput["whole"] = node.config.option.whole


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out what is not to be run: cases by a number that follows from their names."""
    if config.option.whole:
        return
    sample = set[str]()
    for _, cases in itertools.groupby(items, key=lambda item: item.nodeid.partition("[")[0]):
        names = sorted((each.nodeid for each in cases if not each.get_closest_marker("long")), key=_number)
        sample |= {*names[: max(MANY, len(names) // PART) if len(names) > MANY else len(names)]}
    left = [item for item in items if (item.nodeid in sample) is config.option.rest]
    config.hook.pytest_deselected(items=left)
    items[:] = [item for item in items if (item.nodeid in sample) is not config.option.rest]


def _number(name: str) -> int:
    return zlib.crc32(name.encode())


def pytest_collection_finish() -> None:
    """Leave what was loaded and collected out of the garbage collector's later rounds."""
    gc.collect()
    gc.freeze()
