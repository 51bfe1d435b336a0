"""What is asked on the command line: problems, values, options, and files to write; and how answers leave it."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Annotated, Any

import typer

from unhurried_heron.errors import OptionError, listing, near_spelling, printable
from unhurried_heron.problem.problem import Problem

File = Annotated[Path, typer.Argument(metavar="FILE", help="A problem file (TOML).", show_default=False)]
Changes = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        help="Another value for a parameter or an initial value, also with a unit; repeatable.",
    ),
]


def file_options(problem: Problem, given: dict[str, Any]) -> dict[str, Any]:
    """Options of the command line over those of the file; a step and tolerances drive each other out."""
    chosen = {key: value for key, value in given.items() if value is not None}
    kept = dict(problem.integrate_options)
    if "step" in chosen:
        kept.pop("rtol", None)
        kept.pop("atol", None)
    if "rtol" in chosen or "atol" in chosen:
        kept.pop("step", None)
    return {**kept, **chosen}


def changed(problem: Problem, changes: list[str]) -> Problem:
    """Return a problem with the values of ``--set``."""
    parameters: dict[str, Any] = {}
    initial: dict[str, Any] = {}
    model = problem.model
    for change in changes:
        name, sign, text = change.partition("=")
        name = name.strip()
        known = [*model.parameters, *model.layout.by_name]
        state = model.layout.slot(name) is not None or name in model.layout.by_name
        if not sign or not (state or name in known):
            raise OptionError(
                f"cannot set '{name}'{near_spelling(name, known)}",
                name=name,
                place="--set",
                expected="NAME=VALUE with a name among " + listing(known),
                given=change,
            )
        (initial if state else parameters)[name] = value_of(text, f"--set {name}")
    return problem.with_(parameters=parameters, initial=initial) if changes else problem


def value_of(text: str, place: str) -> float | str:
    """Return a number, or a quantity or formula as it was typed."""
    try:
        return float(text)
    except ValueError:
        if text.strip():
            return text
    raise OptionError(
        "this is no number", name=place, place=place, expected="a number, a quantity or a formula", given=text
    )


def numbers_of(text: str, place: str) -> list[float]:
    """Return the numbers between commas."""
    try:
        numbers = [float(part) for part in text.split(",")] if text.strip() else []
    except ValueError:
        raise OptionError(
            "this is no number", name=place, place=place, expected="a number such as 1e-6", given=text
        ) from None
    return numbers


def interval_of(problem: Problem, start: str | None, end: str | None) -> tuple[Any, Any]:
    """Return the interval with other ends."""
    first, last = problem.interval
    return (first if start is None else value_of(start, "--from")), (last if end is None else value_of(end, "--to"))


def budget_of(text: str) -> dict[str, Any]:
    """Read ``20s``, ``5000steps`` or ``1e6rates``."""
    found = re.fullmatch(r"\s*(?P<number>\d+(?:\.\d*)?(?:[eE]\d{1,2})?)\s*(?P<what>s|steps|rates)\s*", text)
    if found is None or float(found["number"]) <= 0:
        raise OptionError(
            "this is no budget", name="--budget", place="--budget", expected="20s, 5000steps or 1e6rates", given=text
        )
    number = float(found["number"])
    name = {"s": "seconds", "steps": "steps", "rates": "rate_evaluations"}[found["what"]]
    return {name: number if name == "seconds" else int(number)}


def check_outputs(file: Path, *outputs: Path | None) -> None:
    """Refuse what cannot be written to before anything is computed, and paths that would destroy something."""
    seen: dict[str, str] = {os.path.realpath(file): "the problem file"}
    for path in outputs:
        if path is None:
            continue
        check_writable(path)
        other = seen.get(os.path.realpath(path))
        if other is not None and (path.is_file() or not path.exists()):
            raise OptionError(
                f"{path} would be written over {other}",
                name=str(path),
                place=str(path),
                expected="a file of its own for each output",
                given=str(path),
            )
        seen[os.path.realpath(path)] = f"another output, {path}"


def check_writable(path: Path) -> None:
    """Refuse a file that cannot be written."""
    if "\0" in str(path) or not path.absolute().parent.is_dir() or path.is_dir():
        raise OptionError(
            f"{path} is a folder" if path.is_dir() else f"there is no folder {path.absolute().parent}",
            name=str(path),
            place=str(path),
            expected="a file in a folder that exists",
            given=str(path),
        )


def save(figure: Any, path: Path) -> None:
    """Write a figure, of the kind that its ending says."""
    from unhurried_heron.disk import write_whole

    kinds = figure.canvas.get_supported_filetypes()
    kind = path.suffix.removeprefix(".").lower()
    if kind not in kinds:
        raise OptionError(
            "cannot draw into this kind of file",
            name=str(path),
            place=str(path),
            expected="a name that ends in ." + ", .".join(sorted(kinds)),
            given=path.suffix or "no ending",
        )
    write_whole(path, lambda file: figure.savefig(file, format=kind))
    say(f"figure: {path}")


def say(line: str) -> None:
    """Print a line."""
    from unhurried_heron.show.tables import console

    console().print(printable(line), soft_wrap=True)


def words(text: str) -> list[str]:
    """Return what stands between commas."""
    return [part.strip() for part in text.split(",") if part.strip()]
