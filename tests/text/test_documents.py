"""Documents of every result are whole, neutral and the same after a pickle; a terminal shows all of them."""

from __future__ import annotations

import copy
import io
import math
import pickle
import re
from dataclasses import replace

import pytest
from rich.cells import cell_len
from rich.console import Console
from shown_results import RESULTS, document, pond, result

from unhurried_heron.text.document import Document, Statement, Table, Tone
from unhurried_heron.text.pictures import Picture
from unhurried_heron.text.terminal import renderables

EMPTY_CELLS = (None, "", "–")


def shown(record: Document, width: int) -> list[str]:
    page = Console(file=io.StringIO(), width=width)
    for part in renderables(record, width):
        page.print(part)
    return page.file.getvalue().splitlines()


@pytest.mark.parametrize("name", RESULTS)
def test_a_document_is_whole(name: str) -> None:
    record = document(name)
    assert record.parts
    assert (*record.statements, *record.tables, *record.pictures) == tuple(
        part for kind in (Statement, Table, Picture) for part in record.parts if isinstance(part, kind)
    )
    for statement in record.statements:
        assert statement.about
        assert statement.text == statement.text.strip() != ""
        assert isinstance(statement.tone, Tone)
        for figure, value in statement.figures.items():
            assert figure
            assert isinstance(value, int | float | str), (figure, value)
        with pytest.raises(TypeError):
            statement.figures["more"] = 1
    for table in record.tables:
        names = [column.name for column in table.columns]
        assert len(set(names)) == len(names)
        assert len(table.tones) in (0, len(table.rows))
        for row in table.rows:
            assert len(row) == len(names)
            for column, cell in zip(table.columns, row, strict=True):
                assert isinstance(cell, str | int | float | None), (column.name, cell)
                # a column of words holds no bare numbers, which would stand to the wrong side
                assert column.kind == "number" or cell is None or isinstance(cell, str), (column.name, cell)
            assert any(cell not in EMPTY_CELLS for cell in row)
    for picture in record.pictures:
        assert picture.title
        assert picture.x_label
        assert picture.y_label
        for series in picture.series:
            assert len(series.x) == len(series.y)
            assert all(map(math.isfinite, series.x))


@pytest.mark.parametrize("name", RESULTS)
def test_a_document_outlives_a_pickle_and_is_what_is_printed(name: str) -> None:
    found, record = result(name), document(name)
    for again in (pickle.loads(pickle.dumps(record)), copy.deepcopy(record)):
        assert again == record
        assert str(again) == str(record)
    again = pickle.loads(pickle.dumps(found))
    assert str(again) == str(found) == str(record)
    assert str(document(name)) == str(record)
    # the words of every statement, and the title, stand in the text; pictures leave no trace in it
    text = " ".join(str(record).split())
    for statement in record.statements:
        assert " ".join(statement.text.split()) in text
    assert record.title in str(record)
    assert str(replace(record, parts=tuple(each for each in record.parts if not isinstance(each, Picture)))) == str(
        record
    )
    assert "object at 0x" not in text
    assert not re.search(r"\b(None(?! of)|nan|dtype|array\()", text)


@pytest.mark.parametrize("width", [44, 80, 132, 200])
@pytest.mark.parametrize("name", RESULTS)
def test_pages_of_every_width_lose_no_figure(name: str, width: int) -> None:
    record = document(name)
    lines = shown(record, width)
    assert max(map(cell_len, lines)) <= width
    text = "\n".join(lines)
    for table in record.tables:
        if not table.headed:
            continue
        first = table.columns[0]
        for row in table.rows:
            # what a row is about is never cut, whatever else is left out
            assert first.kind != "name" or all(part in text for part in str(row[0]).split()), row[0]
        heads = [column.head for column in table.columns if column.kind != "words"]
        left_out = [head for head in heads if head not in text]
        assert not left_out or "left out on a page as narrow as this" in text, left_out


def test_units_stand_in_the_heads_of_columns() -> None:
    events = next(table for table in document("run of sluice-pond").tables if table.headed and table.rows)
    units = {column.name: column.unit for column in events.columns}
    assert units["time"] == pond().units["t"]
    assert units["level"] == pond().units["level"]
    assert f"time [{pond().units['t']}]" in str(document("run of sluice-pond"))


def test_a_run_cut_short_is_told_in_the_tone_of_what_is_wrong() -> None:
    for name, tone in (("run cut short", Tone.WRONG), ("run of sluice-pond", Tone.PLAIN)):
        (ending,) = (each for each in document(name).statements if each.about == "ending")
        assert (ending.tone, ending.text) == (tone, str(result(name).ending))
        assert ending.figures["time"] == result(name).ending.time
    assert any(each.tone is Tone.WRONG for each in document("comparison with failures").statements)
    assert not any(each.tone is Tone.WRONG for each in document("comparison").statements)
