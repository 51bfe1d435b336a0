"""The neutral record of what is told of a result: a title, sentences with their figures, tables and pictures.

It knows no terminal, page or notebook; `terminal` makes text of it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, auto
from types import MappingProxyType
from typing import Any, Literal

from unhurried_heron.equality import ByValue
from unhurried_heron.text.numbers import with_unit
from unhurried_heron.text.pictures import Picture


class Tone(Enum):
    """How a sentence or a row is meant, which a renderer may show by colour or weight."""

    PLAIN = auto()
    HEADING = auto()
    GOOD = auto()
    DOUBTFUL = auto()
    WRONG = auto()
    QUIET = auto()


@dataclass(frozen=True, eq=False)
class Statement(ByValue):
    """A sentence.

    Attributes
    ----------
    about : str
        What it is about, in a word.
    text : str
    figures : mapping of str to float or str
        The numbers in it, by name.
    tone : Tone
    """

    about: str
    text: str
    figures: Mapping[str, Any] = field(default_factory=dict)
    tone: Tone = Tone.PLAIN

    def __post_init__(self) -> None:
        object.__setattr__(self, "figures", MappingProxyType(dict(self.figures)))

    def __reduce__(self) -> Any:
        return Statement, (self.about, self.text, dict(self.figures), self.tone)


@dataclass(frozen=True)
class Column:
    """A column of a table.

    Attributes
    ----------
    name : str
    kind : {"number", "name", "words"}
        Numbers stand to the right, names and words to the left; words alone may wrap.
    digits : int
        Significant digits of its floating-point cells.
    unit : str
        Of its numbers; empty for none.
    """

    name: str
    kind: Literal["number", "name", "words"] = "number"
    digits: int = 3
    unit: str = ""

    @property
    def head(self) -> str:
        """Its name, with the unit where there is one."""
        return with_unit(self.name, self.unit)


Cell = str | int | float | None


@dataclass(frozen=True, eq=False)
class Table(ByValue):
    """Rows under columns.

    Attributes
    ----------
    columns : tuple of Column
    rows : tuple of tuple of str, int, float or None
        A cell for each column; None and NaN where there is no value.
    title, caption : str
        Above and below it; empty for none.
    headed : bool
        Whether the names of the columns are shown.
    tones : tuple of Tone
        One for each row, or none.
    pile : str
        Tables of a document with the same name here have columns of the same widths.
    """

    columns: tuple[Column, ...]
    rows: tuple[tuple[Cell, ...], ...]
    title: str = ""
    caption: str = ""
    headed: bool = True
    tones: tuple[Tone, ...] = ()
    pile: str = ""


@dataclass(frozen=True, eq=False)
class Document(ByValue):
    """What is told of a result, in order.

    Attributes
    ----------
    title : str
        Empty for none.
    parts : tuple of Statement, Table or Picture
    listed : bool
        Whether its sentences are the points of a list.
    """

    title: str
    parts: tuple[Statement | Table | Picture, ...]
    listed: bool = False

    @property
    def statements(self) -> tuple[Statement, ...]:
        """The sentences."""
        return tuple(part for part in self.parts if isinstance(part, Statement))

    @property
    def tables(self) -> tuple[Table, ...]:
        """The tables."""
        return tuple(part for part in self.parts if isinstance(part, Table))

    @property
    def pictures(self) -> tuple[Picture, ...]:
        """The pictures, which a terminal does not show."""
        return tuple(part for part in self.parts if isinstance(part, Picture))

    def __str__(self) -> str:
        from unhurried_heron.text.terminal import as_text

        return as_text(self)
