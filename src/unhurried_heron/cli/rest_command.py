"""`heron rest`: equilibria of a problem file."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from unhurried_heron.cli.arguments import check_outputs, names_between_commas, problem_to_study, value_of, write_table
from unhurried_heron.cli.options import Changes, Csv, End, File, Start
from unhurried_heron.errors import OptionError


def rest(
    file: File,
    within: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=FROM,TO", help="Where a state is searched, also with units; for each state."),
    ] = None,
    starts: Annotated[int, typer.Option(metavar="N", help="From how many points Newton's method begins.")] = 256,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
) -> None:
    """Find where all rates vanish: equilibria within a box, their kinds and eigenvalues."""
    from unhurried_heron.dynamics.search import equilibria

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv)
    found = equilibria(problem, _box_of(within or []), starts=starts)
    print(found)
    write_table(found.frame(), csv)


def _box_of(within: list[str]) -> dict[str, Any]:
    """Return the ends of ``--within`` by name.

    Raises
    ------
    OptionError
    """
    found: dict[str, Any] = {}
    for text in within:
        name, sign, values = (part.strip() for part in text.partition("="))
        ends = names_between_commas(values)
        if not (name and sign) or len(ends) != 2 or name in found:
            raise OptionError("this is no part of a box", name="--within", location="--within",
                              expected="NAME=FROM,TO, each name once", given=text)  # fmt: skip
        found[name] = tuple(value_of(each, f"--within {name}") for each in ends)
    return found
