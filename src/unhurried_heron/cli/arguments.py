"""What is asked on the command line: problems, values, options, and files to write; and how answers leave it."""

from __future__ import annotations

import os
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

from unhurried_heron.driver.budget import Budget
from unhurried_heron.errors import OptionError, listing, near_spelling, printable
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run


def problem_to_study(file: Path, changes: list[str] | None, start: str | None, end: str | None) -> Problem:
    """Return the problem of a file with the values of ``--set`` and other ends of the interval.

    Parameters
    ----------
    file : Path
        A problem file.
    changes : list of str, or None
        What ``--set`` says, NAME=VALUE or NAME~VALUE.
    start : str or None
        What ``--from`` says.
    end : str or None
        What ``--to`` says.

    Returns
    -------
    Problem
    """
    # what reads files is loaded only when one is read
    from unhurried_heron.input.file_reader import read_document

    near = [each for each in changes or [] if "~" in each.partition("=")[0]]
    user_input = _with_guesses(read_document(file), near)
    problem = changed(Problem.from_content(user_input), [each for each in changes or [] if each not in near])
    return problem if start is None and end is None else problem.with_(interval=interval_of(problem, start, end))


def file_options(problem: Problem, **given: Any) -> dict[str, Any]:
    """Options of the command line over those of the file; a step and tolerances exclude each other."""
    chosen = {key: value for key, value in given.items() if value is not None}
    for name in {"step", "atol"} & chosen.keys():
        chosen[name] = value_of(chosen[name], f"--{name}")
    if "budget" in chosen:
        chosen["budget"] = budget_of(chosen["budget"])
    kept = dict(problem.integrate_options)
    if chosen.keys() & {"step", "count"}:
        for name in ("rtol", "atol", "step", "count"):
            kept.pop(name, None)
    if chosen.keys() & {"rtol", "atol"}:
        kept.pop("step", None)
        kept.pop("count", None)
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
        state = bool(model.layout.indices_of(name)) or name in model.layout.by_name
        if not sign or not (state or name in known):
            raise OptionError(
                f"cannot set '{name}'{near_spelling(name, known)}",
                name=name,
                location="--set",
                expected="NAME=VALUE with a name among " + listing(known),
                given=change,
            )
        (initial if state else parameters)[name] = value_of(text, f"--set {name}")
    return problem.with_(parameters=parameters, initial=initial) if changes else problem


def _with_guesses(user_input: ProblemInput, changes: list[str]) -> ProblemInput:
    """Return what a file says, with values near which others are looked for, NAME~VALUE.

    Parameters
    ----------
    user_input : ProblemInput
    changes : list of str

    Returns
    -------
    ProblemInput

    Raises
    ------
    OptionError
        It has a value already.
    """
    guess = {}
    for change in changes:
        name, _, text = (part.strip() for part in change.partition("~"))
        has = {**(user_input.parameters or {}), **user_input.initial}
        if name in has:
            expected = f"{name}=VALUE, or NAME~VALUE of what constraints determine"
            raise OptionError(f"'{name}' has a value, and is not looked for", name=name, location="--set",
                              expected=expected, given=change)  # fmt: skip
        guess[name] = value_of(text, f"--set {name}")
    return replace(user_input, guess={**user_input.guess, **guess})


def value_of(text: str, location: str) -> float | str:
    """Return a number, or a quantity or formula as it was typed."""
    try:
        return float(text)
    except ValueError:
        if text.strip():
            return text
    raise OptionError(
        "this is no number", name=location, location=location, expected="a number, a quantity or a formula", given=text
    )


def counts_of(text: str, location: str) -> list[Any] | None:
    """Return the whole numbers between commas, what is none as it is; None where there are none."""
    return [int(each) if each.is_integer() else each for each in numbers_of(text, location)] or None


def steps_of(text: str, location: str) -> list[Any] | None:
    """Return the quantities between commas; None where there are none."""
    return [value_of(each, location) for each in names_between_commas(text)] or None


def numbers_of(text: str, location: str) -> list[float]:
    """Return the numbers between commas."""
    try:
        numbers = [float(part) for part in text.split(",")] if text.strip() else []
    except ValueError:
        raise OptionError(
            "this is no number", name=location, location=location, expected="a number such as 1e-6", given=text
        ) from None
    return numbers


def up_to(run: Run, times: Any) -> list[float]:
    """Return the times that a run came to, and that of its end."""
    sign = 1.0 if run.problem.interval[1] > run.problem.interval[0] else -1.0
    reached = [time for time in times.tolist() if sign * time < sign * run.ending.time]
    return [*reached, run.ending.time]


def interval_of(problem: Problem, start: str | None, end: str | None) -> tuple[Any, Any]:
    """Return the interval with other ends.

    Parameters
    ----------
    problem : Problem
    start : str or None
        What ``--from`` says.
    end : str or None
        What ``--to`` says.

    Returns
    -------
    (float or str, float or str)
    """
    first, last = problem.interval
    return (first if start is None else value_of(start, "--from")), (last if end is None else value_of(end, "--to"))


def budget_of(text: str | None) -> Budget | None:
    """Read ``20s``, ``5000steps`` or ``1e6rates``."""
    if text is None:
        return None
    found = re.fullmatch(r"\s*(?P<number>\d+(?:\.\d*)?(?:[eE]\d{1,2})?)\s*(?P<what>s|steps|rates)\s*", text)
    if found is None or float(found["number"]) <= 0:
        raise OptionError(
            "this is no budget", name="--budget", location="--budget", expected="20s, 5000steps or 1e6rates", given=text
        )
    number = float(found["number"])
    name = {"s": "seconds", "steps": "steps", "rates": "rate_evaluations"}[found["what"]]
    return Budget(**{name: number if name == "seconds" else int(number)})  # type: ignore[arg-type]  # as it checks


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
                location=str(path),
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
            location=str(path),
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
            location=str(path),
            expected="a name that ends in ." + ", .".join(sorted(kinds)),
            given=path.suffix or "no ending",
        )
    write_whole(path, lambda file: figure.savefig(file, format=kind))
    print_line(f"figure: {path}")


def write_table(frame: Any, path: Path | None) -> None:
    """Write a table as CSV, where a file was asked for."""
    from unhurried_heron.disk import write_whole

    if path is not None:
        write_whole(path, lambda file: frame.to_csv(file, index=False, lineterminator="\n", encoding="utf-8"))
        print_line(f"table: {path}")


def print_line(line: str) -> None:
    """Print a line."""
    from unhurried_heron.text.terminal import console

    console().print(printable(line), soft_wrap=True)


def names_between_commas(text: str) -> list[str]:
    """Return what stands between commas."""
    return [part.strip() for part in text.split(",") if part.strip()]
