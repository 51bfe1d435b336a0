"""`heron sweep`: many runs of a problem file in one call."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from unhurried_heron.cli.arguments import (
    check_outputs,
    file_options,
    names_between_commas,
    numbers_of,
    print_line,
    problem_to_study,
    save,
    value_of,
)
from unhurried_heron.cli.options import Atol, Changes, Count, End, File, Limit, Method, Plot, Start, Step, Switches
from unhurried_heron.errors import OptionError
from unhurried_heron.methods.catalogue import DEFAULT


def sweep(
    file: File,
    over: Annotated[
        list[str] | None,
        typer.Option(
            metavar="NAME=VALUES",
            help="What varies: crest=0.6,0.8,1 or crest=0.6:1:5 (from, to, how many), also '60 cm,1 m'; repeatable.",
        ),
    ] = None,
    method: Method = None,
    methods: Annotated[str, typer.Option(metavar="A,B,…", help="Several methods, an axis.")] = "",
    rtol: Annotated[str, typer.Option(metavar="R,…", help="Relative tolerance; several are an axis.")] = "",
    atol: Atol = None,
    step: Step = None,
    count: Count = None,
    record: Annotated[int | None, typer.Option(metavar="N", help="How many equally spaced times are kept.")] = None,
    measure: Annotated[
        list[str] | None,
        typer.Option(metavar="FORMULA", help="What is asked of each run, as 'largest(level)'; repeatable."),
    ] = None,
    switches: Switches = None,
    budget: Limit = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    folder: Annotated[
        Path | None, typer.Option(metavar="DIR", help="Keep batches there; the same command goes on with it.")
    ] = None,
    out: Annotated[
        list[Path] | None, typer.Option(metavar="OUT", help="Write it: .nc, .zarr, .parquet or .csv; repeatable.")
    ] = None,
    plot: Plot = None,
    of: Annotated[
        str | None, typer.Option("--of", metavar="NAME", help="What is drawn: a state, a quantity, a measure.")
    ] = None,
) -> None:
    """Run a problem for many values; members march in compiled code, on all processors."""
    from unhurried_heron.sweeps.sweep import sweep as swept

    problem = problem_to_study(file, changes, start, end)
    if of is not None and plot is None:
        raise OptionError("there is nowhere to draw", name="--of", location="--of", expected="--plot OUT beside it",
                          given=of)  # fmt: skip
    check_outputs(file, plot, *(each for each in out or () if each.suffix != ".zarr"))
    tolerances = numbers_of(rtol, "--rtol")
    several = tolerances if len(tolerances) > 1 else next(iter(tolerances), None)
    options = file_options(problem, method=method, rtol=several, atol=atol, step=step, count=count, record=record,
                           budget=budget, switches=switches)  # fmt: skip
    found = swept(problem, _values_of(over or []), options.pop("method", DEFAULT), folder=folder, on_interrupt="return",
                  methods=names_between_commas(methods) or None, measures=measure or (), **options)  # fmt: skip
    print(found)
    if out:
        from unhurried_heron.files.sweep_files import write_sweep

        for path in out:
            write_sweep(found, path)
            print_line(f"sweep: {path}")
    if plot is not None:
        from unhurried_heron.figures.sweep_figures import draw_sweep

        save(draw_sweep(found, of), plot)
    if found.left or (found.dataset["failure"] != "").any():
        raise typer.Exit(1)


def _values_of(over: list[str]) -> dict[str, Any]:
    """Return the values of ``--over`` by name.

    Raises
    ------
    OptionError
    """
    found: dict[str, Any] = {}
    for text in over:
        name, sign, values = (part.strip() for part in text.partition("="))
        if not (name and sign and values) or name in found:
            raise OptionError("this tells nothing that varies", name="--over", location="--over",
                              expected="NAME=VALUE,VALUE,… or NAME=FROM:TO:COUNT, each name once",
                              given=text)  # fmt: skip
        if ":" in values:
            ends = numbers_of(values.replace(":", ","), f"--over {name}")
            if len(ends) != 3 or ends[2] != int(ends[2]) or ends[2] < 1:
                raise OptionError("this is no range", name="--over", location=f"--over {name}",
                                  expected="FROM:TO:COUNT, such as 0.6:1:5", given=values)  # fmt: skip
            found[name] = np.linspace(ends[0], ends[1], int(ends[2]))
        else:
            found[name] = [value_of(each, f"--over {name}") for each in names_between_commas(values)]
    return found
