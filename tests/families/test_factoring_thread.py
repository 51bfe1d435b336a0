"""A large factorisation has a thread, which a march that is stopped does not wait for."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import pytest

from unhurried_heron.families import factoring_thread
from unhurried_heron.families.factoring_thread import apart

SMALL, LARGE = 10, 10_000


class Control:
    """Answers as the control of a march does, and counts how often it is asked."""

    def __init__(self, stop: int) -> None:
        self.stop, self.looks, self.looked_twice = stop, 0, threading.Event()

    def __getitem__(self, name: str) -> list[int]:
        assert name == "stop"
        self.looks += 1
        if self.looks > 1:
            self.looked_twice.set()
        return [self.stop]


def singular() -> None:
    raise RuntimeError("exactly singular")


def broken() -> None:
    raise MemoryError("too large")


@pytest.mark.parametrize("n", [SMALL, LARGE])
@pytest.mark.parametrize("made", ["factors", None])
def test_factors_come_back_and_singular_matrices_have_none(n: int, made: str | None) -> None:
    make: Callable[[], Any] = (lambda: made) if made else singular
    assert apart(make, n, Control(0)) == made
    with pytest.raises(MemoryError, match="too large"):
        apart(broken, n, Control(0))


def test_a_large_one_is_waited_for_unless_the_march_is_stopped() -> None:
    march = Control(0)
    # it takes until somebody has looked twice
    assert apart(lambda: march.looked_twice.wait(60), LARGE, march) is True
    go_on = threading.Event()
    assert apart(lambda: go_on.wait(60), LARGE, Control(1)) is None
    assert factoring_thread._left[-1].is_alive()
    go_on.set()
    factoring_thread._left[-1].join(60)
    assert apart(lambda: march.looked_twice.wait(60), SMALL, Control(1)) is True
