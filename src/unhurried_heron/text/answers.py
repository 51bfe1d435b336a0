"""Answers to questions about a finished run, for the terminal."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.text import Text

from unhurried_heron.errors import HeronError
from unhurried_heron.run.run import Run
from unhurried_heron.study.text_table import TextTable

if TYPE_CHECKING:
    import pandas as pd

# Rows of an answer in the terminal,
_MAX_ROWS = 24
# and columns.
_MAX_COLUMNS = 10


def answers_report(run: Run, queries: Iterable[tuple[str, str]]) -> RenderableType:
    """Answer each question, a pair of what `Queries` can be asked and of what about; or say why one has no answer."""
    parts: list[RenderableType] = []
    for question, what in queries:
        try:
            parts.append(_answer(run, question, what))
        except HeronError as error:
            parts.append(Text(f"{question} of {what}: {error.args[0]}"))
    return Group(*parts)


def _answer(run: Run, question: str, what: str) -> RenderableType:
    answer: Any = getattr(run, question)(what)
    if question in ("integral", "mean"):
        unit = run.unit_of(what, integral=question == "integral")
        return Text(f"{question} of {what}: {answer:.10g} {unit}".rstrip())
    if question == "period":
        unit = run.problem.units.get("t", "")
        return Text(f"period of {what}{f', in {unit}' if unit else ''}: {answer}")
    # a quantity with a column of its own needs no other
    answer = answer.drop(columns="value") if question == "extremes" and what in run.columns else answer
    return _sheet(f"{question} of {what}" if question != "where" else f"where {what}", answer)


def _sheet(title: str, frame: pd.DataFrame) -> RenderableType:
    if frame.empty:
        return Text(f"{title}: none")
    names = list(frame.columns)[:_MAX_COLUMNS]
    words = {name for name in names if isinstance(frame[name].iloc[0], str)}
    table = TextTable([(name, "left" if name in words else "right") for name in names], title)
    for row in frame[names].head(_MAX_ROWS).itertuples(index=False):
        table.add_row(*(cell if isinstance(cell, str) else f"{cell:.8g}" for cell in row))
    if len(frame) > _MAX_ROWS:
        table.caption = f"{len(frame) - _MAX_ROWS:,} more: in Python they are all in the table"
    return table
