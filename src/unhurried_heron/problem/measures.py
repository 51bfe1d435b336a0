"""Units as the equations have them, and the parts of formulas whose units disagree."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

from unhurried_heron.units.unit import PLAIN_WORDS, Unit

if TYPE_CHECKING:
    pass


@dataclass(frozen=True)
class Disagreement:
    """Two things whose units should be the same and are not.

    Attributes
    ----------
    one, other : str
        The two, in the user's words.
    unit, other_unit : str
        Their units; ``other_unit`` is empty where a plain number was wanted.
    location : str
        The equation they stand in.
    """

    one: str
    unit: str
    other: str
    other_unit: str
    location: str

    def __str__(self) -> str:
        one, other = (in_words(words, unit) for words, unit in ((self.one, self.unit), (self.other, self.other_unit)))
        sentence = f"{one}, but {other}" if self.other_unit else f"{self.other} must be a plain number, but {one}"
        return f"{sentence}\n  at {self.location}"


def in_words(words: str, unit: str) -> str:
    """Return a part of a formula with its unit."""
    return f"'{words}' is {unit}" if unit == PLAIN_WORDS else f"'{words}' is in {unit}"


@dataclass(frozen=True)
class AnyUnit:
    """A quantity of unknown unit, or zero, which fits every unit."""


UNKNOWN: Final = AnyUnit()
Measure = Unit | AnyUnit
