"""What verbs can be asked for, declared once each: a method, steps and tolerances, ends of the interval, values."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from unhurried_heron.methods.catalogue import DEFAULT, FOR_STIFF

File = Annotated[Path, typer.Argument(metavar="FILE", help="A problem file (TOML).", show_default=False)]
Changes = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        help="Another value for a parameter or an initial value, also with a unit, or NAME~VALUE: one near which what "
        "constraints tell is looked for; repeatable.",
    ),
]
Start = Annotated[str | None, typer.Option("--from", metavar="TIME", help="Begin at another time, also with a unit.")]
End = Annotated[str | None, typer.Option("--to", metavar="TIME", help="End at another time, also with a unit.")]

Method = Annotated[str | None, typer.Option(metavar="NAME", help="Method; see 'heron methods'.")]
Rtol = Annotated[float | None, typer.Option(metavar="R", help="Relative tolerance.")]
Atol = Annotated[str | None, typer.Option(metavar="A", help="Absolute tolerance, also with a unit.")]
Step = Annotated[str | None, typer.Option(metavar="H", help="A fixed step instead of tolerances, also with a unit.")]
Count = Annotated[int | None, typer.Option(metavar="N", help="The number of fixed steps over the interval.")]
Limit = Annotated[
    str | None, typer.Option("--budget", metavar="LIMIT", help="The most each run may use: 20s, 5000steps or 1e6rates.")
]
Switches = Annotated[
    bool | None, typer.Option("--switches/--no-switches", help="Land on jumps and kinks, or step over them.")
]

# The same options where several values can be given.
Methods = Annotated[str, typer.Option(metavar="A,B,…", help="Methods, by their names.")]
Rtols = Annotated[str, typer.Option("--rtol", metavar="R,…", help="Relative tolerances; 1e-4,1e-6,1e-8 without any.")]
Steps = Annotated[str, typer.Option("--step", metavar="H,…", help="Fixed steps, also with units.")]
Counts = Annotated[str, typer.Option("--count", metavar="N,…", help="The number of fixed steps over the interval.")]
TWO = f"{DEFAULT},{FOR_STIFF}"

Csv = Annotated[Path | None, typer.Option(metavar="OUT", help="Write the table.")]
Plot = Annotated[Path | None, typer.Option(metavar="OUT", help="Draw it (png, svg, pdf).")]
