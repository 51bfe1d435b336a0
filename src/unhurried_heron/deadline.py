"""When the present call must be done: long work that is no march looks at it between its parts."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from unhurried_heron.errors import HeronError

# The time of the deadline, and the seconds that were allowed in all.
_deadline: ContextVar[tuple[float, float]] = ContextVar("deadline", default=(math.inf, math.inf))


class OutOfTimeError(HeronError):
    """The deadline has passed. It is caught where the call began, and users never see it."""


@contextmanager
def done_within(seconds: float | None, spent: float = 0.0) -> Iterator[None]:
    """Give what is called within a number of seconds, less those spent; of several deadlines the earliest counts."""
    if seconds is None:
        yield
        return
    token = _deadline.set(min(_deadline.get(), (time.perf_counter() + seconds - spent, seconds)))
    try:
        yield
    finally:
        _deadline.reset(token)


def seconds_left() -> float:
    """Return the seconds until the deadline, infinity where there is none, below zero after it."""
    return _deadline.get()[0] - time.perf_counter()


def seconds_allowed() -> str:
    """Say how many seconds there were until the deadline in all."""
    return f"{_deadline.get()[1]:g} seconds"


def check_deadline() -> None:
    """Raise `OutOfTimeError` after the deadline."""
    if seconds_left() < 0.0:
        raise OutOfTimeError("the time allowed was used up")


@contextmanager
def not_counted() -> Iterator[None]:
    """Put the deadline off by what takes place within: what is done once on a machine."""
    begun = time.perf_counter()
    try:
        yield
    finally:
        end, allowed = _deadline.get()
        _deadline.set((end + time.perf_counter() - begun, allowed))
