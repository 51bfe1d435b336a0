"""What a look at a problem found."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

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

    def __str__(self) -> str:
        lines = [self.title or "Problem"]
        for each in self.findings:
            first, *rest = each.message.splitlines()
            lines += [f"{each.weight:>8}  {each.about}: {first}", *(f"          {line}" for line in rest)]
        if self.first_order:
            lines += ["as a first-order system", *(f"          {line}" for line in self.first_order.splitlines())]
        count = len(self.wrong)
        lines.append("nothing wrong" if not count else f"{count} thing{'s' * (count > 1)} wrong")
        return "\n".join(lines)
