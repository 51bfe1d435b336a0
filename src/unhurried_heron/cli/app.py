"""`heron`: the verbs, and how errors leave the tool."""

from __future__ import annotations

import io
import os
import sys
from typing import Annotated

import typer

from unhurried_heron.cli.commands import check, compare, demo, methods, new, prepare, run
from unhurried_heron.cli.dynamics_commands import cycle, exponents, rest
from unhurried_heron.cli.study_commands import certify, convergence, explain, stability, step_table
from unhurried_heron.cli.sweep_command import sweep
from unhurried_heron.errors import HeronError, printable

app = typer.Typer(
    help="Integrate initial-value problems written as TOML files, and compare methods on them.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
for verb in (
    demo,
    new,
    check,
    run,
    compare,
    sweep,
    explain,
    certify,
    convergence,
    stability,
    rest,
    cycle,
    exponents,
    step_table,
    methods,
    prepare,
):
    app.command()(verb)


_UNFORESEEN = (
    "this should not happen. What was written before it is whole. Please report it, with the problem file, the command "
    "and what --debug shows: "
)


@app.callback()
def _options(
    debug: Annotated[
        bool, typer.Option("--debug", help="Show the traceback of an error (anywhere on the line).")
    ] = False,
) -> None:
    """Integrate initial-value problems written as TOML files, and compare methods on them."""


def main() -> None:
    """Run the tool: 0 where a run ended as asked, 1 where it did not, 2 for a mistake in what was asked, 3 for ours."""
    # If a stream is closed, its output is discarded.
    sys.stdout = sys.stdout or open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115  # it stays open to the end
    sys.stderr = sys.stderr or open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115  # likewise
    for stream in (sys.stdout, sys.stderr):
        # a terminal that knows few letters shows question marks in place of others
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    debug = "--debug" in sys.argv
    sys.argv = [argument for argument in sys.argv if argument != "--debug"]
    try:
        try:
            app()
        finally:
            # Buffered output is written here, where a closed pipe can still be reported.
            sys.stdout.flush()
    except BrokenPipeError:
        # The reader of the pipe has ended.
        _leave(1)
    except HeronError as error:
        if debug:
            raise
        print(f"heron: {error}", file=sys.stderr)
        _leave(2)
    except OSError as error:
        if debug:
            raise
        file = f": {error.filename}" if error.filename else ""
        print(printable(f"heron: {error.strerror or error}{file}"), file=sys.stderr)
        _leave(2)
    except Exception as error:
        if debug:
            raise
        print(printable(f"heron: {_UNFORESEEN}{type(error).__name__}: {error}"), file=sys.stderr)
        _leave(3)


def _leave(code: int) -> None:
    """End with a code; what cannot be written any more is not tried again by Python at its end."""
    try:
        sys.stdout.flush()
    except OSError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)
