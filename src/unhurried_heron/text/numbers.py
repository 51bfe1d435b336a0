"""How numbers are written in sentences and cells."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final

# Stretches of time that one sentence lists.
_MAX_INTERVALS: Final = 3


def number(value: object, digits: int = 3) -> str:
    """Return a number in short, and a dash for None or NaN."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return "–"
    return f"{value:,}" if isinstance(value, int) else f"{value:.{digits}g}"


def counted(count: int, noun: str) -> str:
    """Return a number with its noun, "1 step", "2,000 steps"."""
    return f"{count:,} {noun}{'s' * (count != 1)}"


def share_of(share: float) -> str:
    """Return a share in per cent; what is nearly all, or nearly nothing, is called so."""
    if 0.995 <= share < 1.0:
        return "nearly all"
    if 0.0 < share < 0.001:
        return "less than 0.1 %"
    return "all" if share >= 1.0 else f"{100.0 * share:.2g} %" if share < 0.1 else f"{100.0 * share:.0f} %"


def rounded(value: float, digits: int = 3) -> str:
    """Return a number with some significant digits, thousands and millions in full."""
    short = f"{value:.{digits}g}"
    return f"{float(short):,.0f}" if "e+" in short and abs(value) < 1e9 else short


def in_tolerances(error: float) -> str:
    """Return an error with its unit, the tolerance."""
    short = rounded(error, 2)
    return f"{short} tolerance{'s' * (short != '1')}"


def in_seconds(seconds: float) -> str:
    """Return a duration in seconds or a fitting part of them."""
    size, unit = next(((s, u) for s, u in ((1.0, "s"), (1e-3, "ms"), (1e-6, "us")) if abs(seconds) >= s), (1e-9, "ns"))
    return f"{seconds / size:.3g} {unit}"


def at_time(time: float, unit: str) -> str:
    """Return a time with its unit, "t = 3 h"."""
    return f"t = {time:.6g}{' ' + unit if unit else ''}"


def intervals_in_words(intervals: Sequence[tuple[float, float]], unit: str) -> str:
    """Return from when to when something was so, a few intervals of time at most."""
    if not intervals:
        return "nowhere"
    spans = ", ".join(f"{a:.4g} to {b:.4g}" for a, b in intervals[:_MAX_INTERVALS])
    left_out = len(intervals) - _MAX_INTERVALS
    more = f" and {left_out} more interval{'s' * (left_out != 1)}" if left_out > 0 else ""
    return f"t = {spans}{' ' + unit if unit else ''}{more}"


def with_unit(name: str, unit: str) -> str:
    """Return a name as it stands at an axis or above a column."""
    return f"{name} [{unit}]" if unit else name
