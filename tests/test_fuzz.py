"""Random calls, numbers, names, command lines, events, indices and methods, with fixed seeds (`tools/fuzz.py`)."""

from __future__ import annotations

import random
import sys
from pathlib import Path

import pytest

import unhurried_heron as uh
from unhurried_heron.errors import unforeseen

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tools"))
from fuzz import tried
from fuzz_parts import PARTS

COUNTS = {"calls": 1500, "names": 60, "indices": 100}


@pytest.mark.timeout(300)
@pytest.mark.parametrize("part", PARTS)
@pytest.mark.long
def test_every_example_is_answered_or_refused_in_our_own_words(part: str) -> None:
    found = [tried(PARTS[part], seed) for seed in range(1, 1 + COUNTS.get(part, 40))]
    assert not any(found), max(found, key=len)


def test_what_is_foreign_is_found() -> None:
    def foreign(given: random.Random) -> None:
        raise KeyError(given.random())

    def ours(given: random.Random) -> None:
        raise uh.OptionError("refused")

    def cannot_be(given: random.Random) -> None:
        raise unforeseen("that this cannot be")

    assert "KeyError" in tried(foreign, 1)
    assert "should not happen" in tried(cannot_be, 1)
    assert not tried(ours, 1)
