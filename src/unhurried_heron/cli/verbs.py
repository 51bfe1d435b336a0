"""One thin function for each verb."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Annotated, Any

import typer

from unhurried_heron.cli.pictures import Overlay, Phase, overlaid, picture
from unhurried_heron.cli.questions import Crossings, Extremes, Integral, Mean, Period, Where, questions_of
from unhurried_heron.errors import OptionError, near_spelling, printable
from unhurried_heron.methods.catalogue import COMPARED, DEFAULT, FOR_STIFF
from unhurried_heron.problem.problem import Problem
from unhurried_heron.study.methods_table import PURPOSES, chosen_for

File = Annotated[Path, typer.Argument(metavar="FILE", help="A problem file (TOML).", show_default=False)]
Changes = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        help="Another value for a parameter or an initial value, also with a unit; repeatable.",
    ),
]


def run(
    file: File,
    method: Annotated[str | None, typer.Option(help="Method; see 'heron methods'.")] = None,
    rtol: Annotated[float | None, typer.Option(help="Relative tolerance.")] = None,
    atol: Annotated[float | None, typer.Option(help="Absolute tolerance.")] = None,
    step: Annotated[float | None, typer.Option(help="A fixed step instead of tolerances.")] = None,
    switches: Annotated[
        bool | None, typer.Option("--switches/--no-switches", help="Land on jumps and kinks, or step over them.")
    ] = None,
    changes: Changes = None,
    start: Annotated[str | None, typer.Option("--from", metavar="TIME", help="Begin at another time.")] = None,
    end: Annotated[
        str | None, typer.Option("--to", metavar="TIME", help="End at another time, also with a unit.")
    ] = None,
    budget: Annotated[
        str | None, typer.Option(metavar="LIMIT", help="The most to use: 20s, 5000steps or 1e6rates.")
    ] = None,
    record: Annotated[int | None, typer.Option(metavar="N", help="Keep N equally spaced times.")] = None,
    csv: Annotated[
        Path | None, typer.Option(metavar="OUT", help="Write the table of states and derived values.")
    ] = None,
    json: Annotated[Path | None, typer.Option(metavar="OUT", help="Write a summary.")] = None,
    plot: Annotated[Path | None, typer.Option(metavar="OUT", help="Draw the states (png, svg, pdf).")] = None,
    phase: Phase = None,
    overlay: Overlay = None,
    crossings: Crossings = None,
    extremes: Extremes = None,
    integral: Integral = None,
    mean: Mean = None,
    period: Period = None,
    where: Where = None,
) -> None:
    """Integrate the problem of a file and print what came out."""
    from unhurried_heron.march.integrate import integrate
    from unhurried_heron.march.quiet import quietly
    from unhurried_heron.show.answers import answers_report
    from unhurried_heron.show.tables import console, run_report

    problem = _changed(Problem.from_file(file), changes or [])
    if start is not None or end is not None:
        problem = problem.with_(interval=_interval(problem, start, end))
    options = _options(
        problem, {"method": method, "rtol": rtol, "atol": atol, "step": step, "record": record, "switches": switches}
    )
    if budget is not None:
        options["budget"] = _budget(budget)
    asked = questions_of(
        problem, crossings=crossings, extremes=extremes, integral=integral, mean=mean, period=period, where=where
    )
    # questions are answered from every step, whatever the table is to have
    wanted = options.pop("record", "steps") if asked else "steps"
    _check_outputs(file, csv, json, plot)
    if plot is None and (phase is not None or overlay is not None):
        raise OptionError("there is nowhere to draw", name="--plot", place="--phase, --overlay",
                          expected="--plot OUT beside it", given="none")  # fmt: skip
    others = overlaid(problem, overlay, _changed)
    with quietly():
        # the ending is printed below
        outcome = integrate(problem, **options, on_interrupt="return")
    console().print(run_report(outcome))
    if asked:
        console().print(answers_report(outcome, asked))
    _keep(outcome if wanted == "steps" else outcome.recorded(wanted), csv, json, None)
    if plot is not None:
        with quietly():
            drawn = {key: value for key, value in options.items() if key != "record"}
            runs = [integrate(each, **drawn) for _, each in others] or [outcome]
        _save(picture(runs, [label for label, _ in others] or None, phase), plot)
    if not outcome.ending.as_asked:
        console(error=True).print(f"heron: the run did not end as asked: {outcome.ending.reason}")
        raise typer.Exit(1)


def compare(
    file: File,
    methods: Annotated[str, typer.Option(metavar="A,B,…", help="Methods to compare.")] = f"{DEFAULT},{FOR_STIFF}",
    rtol: Annotated[str, typer.Option(metavar="R,…", help="Tolerances; 1e-4,1e-6,1e-8 if nothing is said.")] = "",
    atol: Annotated[float | None, typer.Option(help="Absolute tolerance.")] = None,
    step: Annotated[str, typer.Option(metavar="H,…", help="Fixed steps, for all methods.")] = "",
    changes: Changes = None,
    csv: Annotated[Path | None, typer.Option(metavar="OUT", help="Write the table.")] = None,
    plot: Annotated[Path | None, typer.Option(metavar="OUT", help="Draw error against work (png, svg, pdf).")] = None,
) -> None:
    """Run several methods on the problem of a file and print errors and work side by side."""
    from unhurried_heron.disk import write_text
    from unhurried_heron.show.tables import comparison_report, console
    from unhurried_heron.study.compare import compare as compare_methods

    problem = _changed(Problem.from_file(file), changes or [])
    _check_outputs(file, csv, plot)
    names = [name.strip() for name in methods.split(",") if name.strip()]
    tolerances, steps = _numbers(rtol, "--rtol") or None, _numbers(step, "--step") or None
    outcome = compare_methods(problem, names, rtol=tolerances, atol=atol, step=steps)
    console().print(comparison_report(outcome))
    if csv is not None:
        write_text(csv, outcome.frame().to_csv(index=False, lineterminator="\n"))
        _say(f"table: {csv}")
    if plot is not None:
        from unhurried_heron.show.figures import draw_work

        _save(draw_work(outcome), plot)
    if any(row["ending"] != "reached the end" for row in outcome.rows):
        raise typer.Exit(1)


def methods(
    purpose: Annotated[
        str | None, typer.Option("--for", metavar="PURPOSE", help="Only those for it: " + ", ".join(PURPOSES) + ".")
    ] = None,
) -> None:
    """List the methods: orders, work, whether they adapt their steps and suit stiff problems, their stability."""
    from unhurried_heron.show.tables import console, methods_table

    console().print(methods_table(*chosen_for(purpose)))


def check(
    file: File,
    latex: Annotated[
        bool, typer.Option("--latex", help="Print the first-order system in LaTeX, and nothing else.")
    ] = False,
) -> None:
    """Look a problem over before it runs: names, units, starting values, switches, order, stiffness, size."""
    from unhurried_heron.show.tables import check_report, console
    from unhurried_heron.study.check import check_file

    report, problem = check_file(file)
    if latex and problem is not None:
        print(problem.first_order().latex)
    else:
        console().print(check_report(report))
    if not report.ok:
        raise typer.Exit(1)


def new(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What to call it.", show_default=False)],
) -> None:
    """Write a commented problem file NAME.toml to begin with."""
    from unhurried_heron.demo import starter

    stem = Path(name).name.removesuffix(".toml")
    if not stem.replace("-", "").replace("_", "").isalnum():
        raise OptionError(
            "this cannot be the name of a problem",
            name=name,
            place="NAME",
            expected="letters, digits, - and _",
            given=repr(name),
        )
    path = Path(name).parent / f"{stem}.toml"
    _check_writable(path)
    try:
        with open(path, "x", encoding="utf-8") as file:
            file.write(starter(path.stem))
    except FileExistsError:
        raise OptionError(
            f"there is a file {path} already", name=name, place="NAME", expected="a new name", given=name
        ) from None
    _say(f"problem file: {path}")


def demo(
    out: Annotated[Path, typer.Option(metavar="DIR", help="Folder to write into.")] = Path("heron-demo"),
) -> None:
    """Run the demo problems of Mirror Fen, compare methods on them, and write files, tables and figures."""
    from unhurried_heron.demo import ACTING, NAMES, copy_demo_files, demo_file
    from unhurried_heron.disk import write_text
    from unhurried_heron.march.integrate import integrate
    from unhurried_heron.show.figures import draw_steps, draw_work
    from unhurried_heron.show.tables import comparison_report, console, run_report
    from unhurried_heron.study.compare import compare as compare_methods

    out.mkdir(parents=True, exist_ok=True)
    copy_demo_files(out)
    for name in (*NAMES, *ACTING):
        problem = Problem.from_file(demo_file(name))
        outcome = integrate(problem, **_options(problem, {}), ledger=True)
        console().print(run_report(outcome))
        _keep(outcome, out / f"{name}.csv", out / f"{name}.json", out / f"{name}-states.png")
        if name in ACTING:
            console().print()
            continue
        _save(draw_steps(outcome), out / f"{name}-steps.png")
        table = compare_methods(problem, COMPARED, rtol=[1e-4, 1e-6, 1e-8])
        console().print(comparison_report(table))
        write_text(out / f"{name}-comparison.csv", table.frame().to_csv(index=False, lineterminator="\n"))
        _say(f"table: {out / f'{name}-comparison.csv'}")
        _save(draw_work(table), out / f"{name}-work.png")
        console().print()
    _say(f"All of it is in the folder {out}, the problem files too: try heron check {out / 'mistakes.toml'}")


def _options(problem: Problem, given: dict[str, Any]) -> dict[str, Any]:
    """Options of the command line over those of the file; a step and tolerances drive each other out."""
    chosen = {key: value for key, value in given.items() if value is not None}
    kept = dict(problem.integrate_options)
    if "step" in chosen:
        kept.pop("rtol", None)
        kept.pop("atol", None)
    if "rtol" in chosen or "atol" in chosen:
        kept.pop("step", None)
    return {**kept, **chosen}


def _changed(problem: Problem, changes: list[str]) -> Problem:
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
                expected="NAME=VALUE with a name among " + ", ".join(known),
                given=change,
            )
        (initial if state else parameters)[name] = _value(text, name)
    return problem.with_(parameters=parameters, initial=initial) if changes else problem


def _value(text: str, name: str) -> float | str:
    """Return a number, or a quantity or formula as it was typed."""
    try:
        return float(text)
    except ValueError:
        if text.strip():
            return text
    raise OptionError(
        "this is no number", name=name, place=f"--set {name}", expected="a number, a quantity or a formula", given=text
    )


def _numbers(text: str, place: str) -> list[float]:
    try:
        numbers = [float(part) for part in text.split(",")] if text.strip() else []
    except ValueError:
        raise OptionError(
            "this is no number", name=place, place=place, expected="a number such as 1e-6", given=text
        ) from None
    return numbers


def _interval(problem: Problem, start: str | None, end: str | None) -> tuple[Any, Any]:
    """Return the interval with other ends."""
    first, last = problem.interval
    return (first if start is None else _value(start, "--from")), (last if end is None else _value(end, "--to"))


def _budget(text: str) -> dict[str, Any]:
    """Read ``20s``, ``5000steps`` or ``1e6rates``."""
    found = re.fullmatch(r"\s*(?P<number>\d+(?:\.\d*)?(?:[eE]\d{1,2})?)\s*(?P<what>s|steps|rates)\s*", text)
    if found is None or float(found["number"]) <= 0:
        raise OptionError(
            "this is no budget", name="--budget", place="--budget", expected="20s, 5000steps or 1e6rates", given=text
        )
    number = float(found["number"])
    name = {"s": "seconds", "steps": "steps", "rates": "rate_evaluations"}[found["what"]]
    return {name: number if name == "seconds" else int(number)}


def _check_outputs(file: Path, *outputs: Path | None) -> None:
    """Refuse what cannot be written to before anything is computed, and paths that would destroy something."""
    seen: dict[str, str] = {os.path.realpath(file): "the problem file"}
    for path in outputs:
        if path is None:
            continue
        _check_writable(path)
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


def _check_writable(path: Path) -> None:
    if "\0" in str(path) or not path.absolute().parent.is_dir() or path.is_dir():
        raise OptionError(
            f"{path} is a folder" if path.is_dir() else f"there is no folder {path.absolute().parent}",
            name=str(path),
            place=str(path),
            expected="a file in a folder that exists",
            given=str(path),
        )


def prepare() -> None:
    """Compile what every run needs ahead of its first use: for images, clusters, and homes that cannot be written."""
    from unhurried_heron.kernels.machine_code.loading import is_ready
    from unhurried_heron.kernels.machine_code.prepare import KERNELS, lasting_folder, load_kernels

    missing = [name for name in KERNELS if not is_ready(name)]
    load_kernels(*KERNELS)
    folder = lasting_folder()
    if folder is None or not all((folder / f"{name}.machine-code").exists() for name in KERNELS):
        _say("nothing could be kept; set UNHURRIED_HERON_CACHE to a folder that can be written")
        raise typer.Exit(1)
    _say(f"{len(missing)} kernels compiled, {len(KERNELS) - len(missing)} were there: {folder}")


def _keep(outcome: Any, csv: Path | None, json: Path | None, plot: Path | None) -> None:
    from unhurried_heron.files.write import write_csv, write_summary

    if csv is not None:
        write_csv(outcome, csv)
        _say(f"table: {csv}")
    if json is not None:
        write_summary(outcome, json)
        _say(f"summary: {json}")
    if plot is not None:
        from unhurried_heron.show.figures import draw_states

        _save(draw_states(outcome), plot)


def _save(figure: Any, path: Path) -> None:
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
    _say(f"figure: {path}")


def _say(line: str) -> None:
    from unhurried_heron.show.tables import console

    console().print(printable(line), soft_wrap=True, markup=False)
