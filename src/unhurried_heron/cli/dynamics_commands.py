"""`heron rest`, `heron cycle`, `heron exponents`: what a problem file does in the long run."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from unhurried_heron.cli.arguments import (
    check_outputs,
    names_between_commas,
    print_line,
    problem_to_study,
    save,
    value_of,
    write_table,
)
from unhurried_heron.cli.options import Changes, Csv, End, File, Method, Plot, Start
from unhurried_heron.errors import OptionError
from unhurried_heron.methods.catalogue import DEFAULT


def rest(
    file: File,
    within: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=FROM,TO", help="Where a state is searched, also with units; for each state."),
    ] = None,
    over: Annotated[
        str, typer.Option(metavar="NAME=FROM,TO", help="Follow branches of equilibria over this parameter.")
    ] = "",
    starts: Annotated[int, typer.Option(metavar="N", help="From how many points Newton's method begins.")] = 256,
    seconds: Annotated[float, typer.Option(metavar="S", help="How long it may take.")] = 60.0,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
    plot: Plot = None,
) -> None:
    """Find where all rates vanish: equilibria within a box, their kinds and eigenvalues; over a parameter, branches."""
    from unhurried_heron.dynamics.search import equilibria

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv, plot)
    box = _ends_of(within or [], "--within")
    if not over:
        if plot is not None:
            raise OptionError("equilibria alone are no picture", name="--plot", location="--plot",
                              expected="--over NAME=FROM,TO, whose branches are drawn", given=str(plot))  # fmt: skip
        found = equilibria(problem, box, starts=starts, seconds=seconds)
        print(found)
        write_table(found.frame(), csv)
        return
    branches = equilibria(problem, box, over=_ends_of([over], "--over"), starts=starts, seconds=seconds)
    print(branches)
    write_table(branches.frame(), csv)
    if plot is not None:
        from unhurried_heron.figures.branch_figures import draw_branches

        save(draw_branches(branches), plot)


def cycle(
    file: File,
    near: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=VALUE", help="States near the cycle, where no solution comes to it; repeatable."),
    ] = None,
    period: Annotated[
        str | None, typer.Option(metavar="TIME", help="The period of the forcing, also with a unit; else a guess.")
    ] = None,
    method: Method = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
    plot: Plot = None,
) -> None:
    """Find a cycle, its period and Floquet multipliers, and whether it is stable."""
    from unhurried_heron.dynamics.cycle import cycle as found_cycle
    from unhurried_heron.files.write import write_csv

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv, plot)
    known = None if period is None else value_of(period, "--period")
    begin = {name: value_of(value, "--near") for name, value in map(_named, near or [])}
    found = found_cycle(problem, begin or None, period=known, method=method or DEFAULT)
    print(found)
    if csv is not None:
        write_csv(found.run, csv)
        print_line(f"table: {csv}")
    if plot is not None:
        from unhurried_heron.figures.figures import draw_states

        save(draw_states(found.run), plot)


def exponents(
    file: File,
    first: Annotated[int | None, typer.Option(metavar="N", help="How many, the largest first; else all.")] = None,
    accuracy: Annotated[
        float, typer.Option(metavar="SHARE", help="How exactly, as a share of the largest in size.")
    ] = 0.005,
    seconds: Annotated[float, typer.Option(metavar="S", help="How long it may take.")] = 10.0,
    method: Method = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
    plot: Plot = None,
) -> None:
    """Find Lyapunov exponents: whether it settles, cycles or is chaotic."""
    from unhurried_heron.dynamics.exponents import exponents as found_exponents

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv, plot)
    found = found_exponents(problem, first, accuracy=accuracy, seconds=seconds, method=method or DEFAULT)
    print(found)
    write_table(found.frame(), csv)
    if plot is not None:
        from unhurried_heron.figures.exponent_figures import draw_exponents

        save(draw_exponents(found), plot)


def _named(text: str) -> tuple[str, str]:
    """Return name and value of what stands on both sides of an equals sign.

    Raises
    ------
    OptionError
    """
    name, sign, value = (part.strip() for part in text.partition("="))
    if not (name and sign and value):
        raise OptionError("this has no name and value", name=text, location="--near", expected="NAME=VALUE",
                          given=text)  # fmt: skip
    return name, value


def _ends_of(given: list[str], option: str) -> dict[str, Any]:
    """Return ends by name.

    Parameters
    ----------
    given : list of str
    option : str
        Where they stand, for messages.

    Returns
    -------
    dict of str to (float or str, float or str)

    Raises
    ------
    OptionError
    """
    found: dict[str, Any] = {}
    for text in given:
        name, sign, values = (part.strip() for part in text.partition("="))
        ends = names_between_commas(values)
        if not (name and sign) or len(ends) != 2 or name in found:
            raise OptionError("these are no ends", name=option, location=option,
                              expected="NAME=FROM,TO, each name once", given=text)  # fmt: skip
        found[name] = tuple(value_of(each, f"{option} {name}") for each in ends)
    return found
