"""Answers to questions about a finished run, and data frames, as tables."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.errors import HeronError
from unhurried_heron.text.document import Column, Document, Statement, Table

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.problem.problem import Problem
    from unhurried_heron.run.run import Run

# Rows of an answer,
_MAX_ROWS: Final = 24
# and columns.
_MAX_COLUMNS: Final = 10
# Significant digits of an answer.
_DIGITS: Final = 8
# Columns whose texts are names.
_NAMES: Final = ("method", "event", "state")


def answers_document(run: Run, queries: Iterable[tuple[str, str]]) -> Document:
    """Return the answer to each question, or why it has none.

    Parameters
    ----------
    run : Run
    queries : iterable of (str, str)
        A method of `Queries` by its name, and the quantity or relation that it is asked about.
    """
    parts: list[Statement | Table] = []
    for question, what in queries:
        try:
            parts.append(_answer(run, question, what))
        except HeronError as error:
            parts.append(Statement(question, f"{question} of {what}: {error.args[0]}"))
    return Document("", tuple(parts))


def _answer(run: Run, question: str, what: str) -> Statement | Table:
    """Return the answer to a question.

    Parameters
    ----------
    run : Run
    question : str
        A method of `Queries`.
    what : str
        The quantity or relation.

    Returns
    -------
    Statement | Table
    """
    answer: Any = getattr(run, question)(what)
    if question in ("integral", "mean"):
        unit = run.unit_of(what, integral=question == "integral")
        return Statement(question, f"{question} of {what}: {answer:.10g} {unit}".rstrip(), {question: answer})
    if question == "period":
        unit = run.problem.units.get("t", "")
        text = f"period of {what}{f', in {unit}' if unit else ''}: {answer}"
        return Statement(question, text, {"period": answer.mean})
    # a quantity with a column of its own needs no other
    answer = answer.drop(columns="value") if question == "extremes" and what in run.columns else answer
    title = f"{question} of {what}" if question != "where" else f"where {what}"
    if answer.empty:
        return Statement(question, f"{title}: none")
    more = len(answer) - _MAX_ROWS
    caption = f"{more:,} more: in Python they are all in the table" if more > 0 else ""
    shown = answer[list(answer.columns)[:_MAX_COLUMNS]].head(_MAX_ROWS)
    times = dict.fromkeys(("time", "from", "to", "length"), run.problem.units.get("t", ""))
    return table_of(shown, title, caption=caption, digits=_DIGITS, units={**run.problem.units, **times})


def table_of(
    frame: pd.DataFrame, title: str = "", *, caption: str = "", digits: int = 3, units: Mapping[str, str] | None = None
) -> Table:
    """Return a data frame as a table.

    Parameters
    ----------
    frame : DataFrame
        Its index is left out.
    title, caption : str
    digits : int
        Significant digits of floating-point columns.
    units : mapping of str to str, optional
        Units of columns by name.

    Returns
    -------
    Table
    """
    columns = []
    for name in map(str, frame.columns):
        texts = len(frame) > 0 and isinstance(frame[name].iloc[0], str)
        kind: Any = ("name" if name in _NAMES else "words") if texts else "number"
        columns.append(Column(name, kind, digits, (units or {}).get(name, "") if kind == "number" else ""))
    rows = tuple(tuple(cell for cell in row) for row in frame.astype(object).itertuples(index=False))
    return Table(tuple(columns), rows, title, caption)


def step_table_document(problem: Problem, frame: pd.DataFrame) -> Document:
    """Return a table of steps, as `step_table` returns it, with the units of its columns.

    Parameters
    ----------
    problem : Problem
    frame : DataFrame
    """
    from unhurried_heron.problem.dimensions import unit_of

    units = dict(problem.units)
    for state in problem.states:
        units |= {f"{state} {what}": units.get(state, "") for what in ("exact", "error")}
        units[f"rate of {state}"] = unit_of(problem, state, times=-1)
    return Document("", (table_of(frame, problem.title, digits=_DIGITS + 1, units=units),))
