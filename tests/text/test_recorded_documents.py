"""What documents hold, as it was read and found good: words, units and digits as they are, numbers nearly.

After a change that is meant, delete the section in question, run this twice and read what it holds now.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path

import pytest
from nearly import SECONDS, differences
from shown_results import RESULTS, document

from unhurried_heron.text.document import Document, Statement, Table

RECORDED = Path(__file__).parent / "recorded_documents.txt"
AT = re.compile(r" at t = [\d.]+")


def cells(values: Iterable[object]) -> str:
    return " | ".join(f"{value:.6g}" if isinstance(value, float) else str(value) for value in values)


def lines_of(found: Document) -> Iterator[str]:
    yield f"{found.title!r}, {'a list' if found.listed else 'no list'}"
    for part in found.parts:
        if isinstance(part, Statement):
            text, figures = SECONDS.sub("# s", part.text), dict(part.figures)
            if part.about == "states":
                # of errors that are nearly as large, any may be the largest
                text, _ = AT.sub(" at #", text), figures.pop("time", None)
            yield f"{part.about} ({part.tone.name}): {text}"
            yield cells(f"{key} {cells([value])}" for key, value in figures.items() if "seconds" not in key)
        elif isinstance(part, Table):
            yield f"table {part.title!r} {part.caption!r} {part.pile!r} {part.headed}"
            yield cells(tone.name for tone in part.tones)
            yield cells(f"{column.head}, {column.kind} of {column.digits}" for column in part.columns)
            timed = [column.name == "seconds" for column in part.columns]
            for row in part.rows:
                yield cells("#" if hidden else cell for cell, hidden in zip(row, timed, strict=True))
        else:
            yield f"picture {part.title!r} {part.x_label!r} {part.y_label!r} {part.floor_label!r} {part.missing}"
            yield cells([part.floor])
            yield from (f"{each.label}: {cells(each.x)}; {cells(each.y)}" for each in part.series)


@pytest.mark.parametrize("name", RESULTS)
def test_what_a_document_holds(name: str) -> None:
    held = dict(re.findall(r"^== (.+)\n((?:(?!== ).*\n)*)", RECORDED.read_text(encoding="utf-8"), re.MULTILINE))
    now = "".join(f"{line.rstrip()}\n" for line in lines_of(document(name)))
    if name not in held:
        with RECORDED.open("a", encoding="utf-8") as file:
            file.write(f"== {name}\n{now}")
        pytest.fail(f"nothing was kept for '{name}': now it is")
    assert differences(now, held[name]) == []
