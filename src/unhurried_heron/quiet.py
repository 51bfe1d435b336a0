"""What somebody else looks at: how runs end and what changed copies drop is told by a table, not by warnings."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Final

# filters of warnings belong to the whole process, so they are no tool where threads run
QUIET: Final[ContextVar[bool]] = ContextVar("quiet", default=False)


@contextmanager
def quietly() -> Iterator[None]:
    """Give no warning about how runs end, or of closed forms that belong to other values, within."""
    token = QUIET.set(True)
    try:
        yield
    finally:
        QUIET.reset(token)
