"""What a look at a problem found."""

from __future__ import annotations

from textwrap import indent
from typing import TYPE_CHECKING, Final

from unhurried_heron.text.document import Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import counted

if TYPE_CHECKING:
    from unhurried_heron.checks.report import Report

_TONES: Final = {"wrong": Tone.WRONG, "doubtful": Tone.DOUBTFUL, "note": Tone.QUIET}


def check_document(report: Report) -> Document:
    """Return everything a check found, what is wrong first, and the reduced system."""
    columns = (Column("weight", "name"), Column("about", "name"), Column("message", "words"))
    rows = tuple((each.weight, each.about, each.message) for each in report.findings)
    tones = tuple(_TONES[each.weight] for each in report.findings)
    parts: list[Statement | Table] = [Table(columns, rows, headed=False, tones=tones)]
    if report.first_order:
        parts.append(Statement("first order", "as a first-order system", tone=Tone.HEADING))
        parts.append(Statement("first order", indent(report.first_order, "  ")))
    count = len(report.wrong)
    verdict = f"{counted(count, 'thing')} wrong" if count else "nothing wrong"
    parts.append(Statement("verdict", verdict, {"wrong": count}, Tone.WRONG if count else Tone.GOOD))
    return Document(report.title or "Problem", tuple(parts))
