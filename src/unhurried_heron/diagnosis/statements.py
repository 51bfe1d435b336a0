"""Sentences with their numbers, and how numbers are said."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import numpy as np

from unhurried_heron.stability.stability_limited_steps import StabilityLimitedSteps

# Stretches that one sentence lists.
_SHOWN = 3


@dataclass(frozen=True)
class Statement:
    """A sentence.

    Attributes
    ----------
    about : str
        What it is about, in a word.
    text : str
    figures : mapping of str to float or str
        The numbers in it, by name.
    """

    about: str
    text: str
    figures: Mapping[str, Any] = field(default_factory=dict, hash=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "figures", MappingProxyType(dict(self.figures)))

    def __reduce__(self) -> Any:
        return Statement, (self.about, self.text, dict(self.figures))


def many(count: int, what: str) -> str:
    """Return a number with its noun."""
    return f"{count:,} {what}{'s' * (count != 1)}"


def share_of(share: float) -> str:
    """Say a share; what is nearly all, or nearly nothing, is said to be."""
    if 0.995 <= share < 1.0:
        return "nearly all"
    if 0.0 < share < 0.001:
        return "less than 0.1 %"
    return "all" if share >= 1.0 else f"{100.0 * share:.2g} %" if share < 0.1 else f"{100.0 * share:.0f} %"


def rounded(number: float, digits: int = 3) -> str:
    """Return a number with some significant digits, thousands and millions in full."""
    short = f"{number:.{digits}g}"
    return f"{float(short):,.0f}" if "e+" in short and abs(number) < 1e9 else short


def of_tolerances(error: float) -> str:
    """Say an error in tolerances."""
    short = rounded(error, 2)
    return f"{short} tolerance{'s' * (short != '1')}"


def of_seconds(seconds: float) -> str:
    """Say how long something took."""
    size, unit = next(((s, u) for s, u in ((1.0, "s"), (1e-3, "ms"), (1e-6, "us")) if abs(seconds) >= s), (1e-9, "ns"))
    return f"{seconds / size:.3g} {unit}"


def of_time(time: float, unit: str) -> str:
    """Say a time."""
    return f"t = {time:.6g}{' ' + unit if unit else ''}"


def stretches_of(found: StabilityLimitedSteps, unit: str, chosen: Any = None) -> str:
    """Say from when to when the steps that were held back, or chosen, lie."""
    stretches = found.stretches(chosen)
    spans = ", ".join(f"{a:.4g} to {b:.4g}" for a, b in stretches[:_SHOWN])
    more = f" and {len(stretches) - _SHOWN} more stretches" if len(stretches) > _SHOWN else ""
    return f"t = {spans}{' ' + unit if unit else ''}{more}" if np.size(stretches) else "nowhere"
