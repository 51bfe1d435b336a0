"""Questions to a run on the command line."""

from __future__ import annotations

from typing import Annotated

import typer

from unhurried_heron.input.event import Event
from unhurried_heron.problem.problem import Problem

Crossings = Annotated[
    list[str] | None,
    typer.Option(metavar="EQUATION", help="Where it becomes true, 'level = 1', or an event by name; repeatable."),
]
Extremes = Annotated[list[str] | None, typer.Option(metavar="QUANTITY", help="Where it turns; repeatable.")]
Integral = Annotated[list[str] | None, typer.Option(metavar="QUANTITY", help="Its integral over time; repeatable.")]
Mean = Annotated[list[str] | None, typer.Option(metavar="QUANTITY", help="Its mean over time; repeatable.")]
Period = Annotated[
    list[str] | None,
    typer.Option(metavar="EQUATION", help="From one crossing upwards, or event by name, to the next; repeatable."),
]
Where = Annotated[list[str] | None, typer.Option(metavar="RELATION", help="While it holds, 'level > 1'; repeatable.")]


def questions_of(problem: Problem, **queries: list[str] | None) -> list[tuple[str, str]]:
    """Return the questions in the order of the options, each with what it is about.

    Raises
    ------
    FormulationError
        One cannot be read, or uses unknown names: told before the problem runs.
    """
    questions = [(question, what) for question, texts in queries.items() for what in texts or ()]
    for question, what in questions:
        if question in ("crossings", "period") and what in {event.name for event in problem.events}:
            continue
        if question in ("crossings", "period", "where"):
            problem.model.watch(Event(what), problem.units)
        elif what not in problem.derived:
            problem.model.read_formula(what, f"--{question}")
    return questions
