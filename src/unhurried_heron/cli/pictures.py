"""Which picture of a run the command line draws."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from unhurried_heron.cli.arguments import save
from unhurried_heron.errors import OptionError
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_NAME = re.compile(r"(?:[^,\[]|\[[^\]]*\])+")

Phase = Annotated[
    str | None, typer.Option(metavar="A,B[,C]", help="Draw states against each other instead of time; with --plot.")
]
Overlay = Annotated[
    str | None,
    typer.Option(metavar="NAME=V1,V2,…", help="Draw a run for each value of a parameter or start; with --plot."),
]


Draw = Annotated[
    str | None,
    typer.Option(metavar="A,B,…", help="Draw only these states and derived quantities; with --plot."),
]


def overlaid(
    problem: Problem, overlay: str | None, changed: Callable[[Problem, list[str]], Problem]
) -> list[tuple[str, Problem]]:
    """Return a label and a problem for each value that is to be laid over the others.

    Parameters
    ----------
    problem : Problem
    overlay : str or None
        NAME=VALUE,VALUE,…
    changed : callable
        What makes a problem with other values.

    Returns
    -------
    list[tuple[str, Problem]]

    Raises
    ------
    OptionError
        The text is no name with values.
    """
    if overlay is None:
        return []
    name, sign, values = overlay.partition("=")
    given = [value.strip() for value in values.split(",") if value.strip()]
    if not sign or not given:
        raise OptionError("these are no values to lay over each other", name="--overlay", location="--overlay",
                          expected="NAME=V1,V2,…", given=overlay)  # fmt: skip
    return [(f"{name.strip()} = {value}", changed(problem, [f"{name}={value}"])) for value in given]


def picture(runs: list[Run], labels: list[str] | None, phase: str | None, draw: str | None) -> Figure:
    """Draw one run, or several over each other, against time or in the space of two or three states.

    Parameters
    ----------
    runs : list[Run]
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.
    phase : str or None
        States that span the space.
    draw : str or None
        What is drawn against time.

    Returns
    -------
    Figure

    Raises
    ------
    OptionError
    """
    from unhurried_heron.figures.figures import draw_states
    from unhurried_heron.figures.phase import draw_phase

    shown: Run | list[Run] = runs if labels is not None else runs[0]
    if phase is not None and draw is not None:
        raise OptionError("one picture cannot be both", name="--draw", location="--draw, --phase",
                          expected="one of the two", given="both")  # fmt: skip
    if phase is None:
        return draw_states(shown, None if draw is None else names_in(draw), labels=labels)
    return draw_phase(shown, *names_in(phase), labels=labels)


def save_states(run: Run, path: Path) -> None:
    """Draw the states of a run into a file."""
    from unhurried_heron.figures.figures import draw_states

    save(draw_states(run), path)


def names_in(text: str) -> list[str]:
    """Return the names between commas; those within brackets belong to a name, as in ``c[1,2]``."""
    return [name.strip() for name in _NAME.findall(text) if name.strip()]
