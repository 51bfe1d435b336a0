"""Whether the machine has room for what is asked."""

from __future__ import annotations

import os
from typing import Final

from unhurried_heron.errors import OptionError

# Bytes that any machine has.
_LITTLE: Final = 16_000_000


def refuse_memory(count: int, numbers: int, location: str) -> None:
    """Refuse rows of numbers that would take more than half the machine's memory.

    Parameters
    ----------
    count : int
        Rows.
    numbers : int
        Numbers of a row.
    location : str
        Where this was said, for messages.

    Raises
    ------
    OptionError
    """
    wanted = 8 * count * numbers
    if wanted < _LITTLE:
        return
    try:
        most = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2
    except (AttributeError, ValueError, OSError):
        most = 8_000_000_000
    if wanted > most:
        raise OptionError(
            "this many times do not fit into memory",
            name=location,
            location=location,
            expected=f"at most {most // (8 * numbers):,} times of {numbers:,} numbers on this machine",
            given=f"{count:,}" if count < 10**18 else f"{float(min(count, 10**300)):.0e}",
        )
