"""What a look at a problem found."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from unhurried_heron.text.check_document import check_document
from unhurried_heron.text.document import Document

Weight = Literal["wrong", "doubtful", "note"]


@dataclass(frozen=True)
class Finding:
    """One thing found: how grave it is, what it is about, and what it says."""

    weight: Weight
    about: str
    message: str


@dataclass(frozen=True)
class Report:
    """What a check found; printing it tells everything.

    Attributes
    ----------
    title : str
    findings : tuple of Finding
        What is wrong first, then what is doubtful, then what is worth knowing.
    first_order : str
        The reduced equations, or nothing if they could not be found or were first order as written.
    """

    title: str
    findings: tuple[Finding, ...]
    first_order: str = ""

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return not self.wrong

    @property
    def wrong(self) -> tuple[Finding, ...]:
        """What has to be put right before the problem can be trusted."""
        return tuple(each for each in self.findings if each.weight == "wrong")

    def document(self) -> Document:
        """Return everything that was found, what is wrong first, and the reduced system."""
        return check_document(self)

    def __str__(self) -> str:
        return str(self.document())
