"""One thin function for each verb."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from unhurried_heron.cli.arguments import (
    budget_of,
    changed,
    check_outputs,
    check_writable,
    counts_of,
    file_options,
    names_between_commas,
    numbers_of,
    print_line,
    problem_to_study,
    save,
    steps_of,
    up_to,
    value_of,
    write_table,
)
from unhurried_heron.cli.options import (
    TWO,
    Atol,
    Changes,
    Count,
    Counts,
    Csv,
    End,
    File,
    Limit,
    Method,
    Methods,
    Rtol,
    Rtols,
    Start,
    Step,
    Steps,
    Switches,
)
from unhurried_heron.cli.pictures import Draw, Overlay, Phase, overlaid, picture, save_states
from unhurried_heron.cli.query_options import Crossings, Extremes, Integral, Mean, Period, Where, questions_of
from unhurried_heron.cli.study_commands import show_studies
from unhurried_heron.errors import OptionError, RunError, excerpt
from unhurried_heron.methods.catalogue import COMPARED
from unhurried_heron.problem.problem import Problem
from unhurried_heron.study.methods_table import PURPOSES, chosen_for, document_of


def run(
    file: File,
    method: Method = None,
    rtol: Rtol = None,
    atol: Atol = None,
    step: Step = None,
    count: Count = None,
    switches: Switches = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    budget: Limit = None,
    record: Annotated[
        str | None, typer.Option(metavar="N|TIME", help="Keep N equally spaced times, or a spacing: '30 min'.")
    ] = None,
    into: Annotated[
        Path | None, typer.Option(metavar="OUT", help="With --record: send states into a file as they come (nc, zarr).")
    ] = None,
    csv: Annotated[
        Path | None, typer.Option(metavar="OUT", help="Write the table of states and derived values.")
    ] = None,
    exact: Annotated[bool, typer.Option("--exact", help="With --csv: exact values and errors beside them.")] = False,
    json: Annotated[Path | None, typer.Option(metavar="OUT", help="Write a summary.")] = None,
    plot: Annotated[Path | None, typer.Option(metavar="OUT", help="Draw the states (png, svg, pdf).")] = None,
    draw: Draw = None,
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
    from unhurried_heron.diagnosis.explain import worth_saying
    from unhurried_heron.driver.integrate import integrate
    from unhurried_heron.driver.recorded_times import record_times
    from unhurried_heron.quiet import quietly
    from unhurried_heron.text.answers import answers_document
    from unhurried_heron.text.terminal import console, show

    if exact and csv is None:
        raise OptionError("there is no table to put exact values into", name="--exact", location="--exact",
                          expected="--csv OUT beside it", given="none")  # fmt: skip
    problem = problem_to_study(file, changes, start, end)
    kept: Any = int(record) if record is not None and record.strip().isdecimal() else record
    options = file_options(problem, method=method, rtol=rtol, atol=atol, step=step, count=count, switches=switches,
                           budget=budget, record=kept)  # fmt: skip
    queries = questions_of(
        problem, crossings=crossings, extremes=extremes, integral=integral, mean=mean, period=period, where=where
    )
    # Questions are answered from every step, whatever rows the table has.
    wanted = options.pop("record", "steps") if queries else "steps"
    check_outputs(file, csv, json, plot, into)
    if plot is None and (phase is not None or overlay is not None or draw is not None):
        raise OptionError("there is nowhere to draw", name="--plot", location="--phase, --overlay, --draw",
                          expected="--plot OUT beside it", given="none")  # fmt: skip
    others = overlaid(problem, overlay, changed)
    with quietly():
        # the ending is printed below
        outcome = integrate(problem, **options, into=into, on_interrupt="return")
    show(outcome.document())
    message = worth_saying(outcome)
    if message:
        print_line(message)
    if queries:
        show(answers_document(outcome, queries))

    def drawn(path: Path) -> None:
        with quietly():
            plain = {key: value for key, value in options.items() if key != "record"}
            runs = [integrate(each, **plain) for _, each in others] or [outcome]
        save(picture(runs, [label for label, _ in others] or None, phase, draw), path)

    # the picture is of all steps
    kept = outcome
    if wanted != "steps":
        rows = outcome.recorded(up_to(outcome, record_times(problem, wanted)))
        kept = replace(rows, options={**rows.options, "record": wanted})
    _keep(kept, csv, json, None if plot is None else lambda: drawn(plot), exact=exact)
    if not outcome.ending.as_requested:
        console(error=True).print(f"heron: the run did not end as asked: {outcome.ending.reason}")
        raise typer.Exit(1)


def compare(
    file: File,
    methods: Methods = TWO,
    everything: Annotated[bool, typer.Option("--all", help="Every method that fits, 5 s for each run.")] = False,
    rtol: Rtols = "",
    atol: Atol = None,
    step: Steps = "",
    count: Counts = "",
    budget: Limit = None,
    reference: Annotated[
        str | None, typer.Option(metavar="taylor", help="Measure against the Taylor series, in 30 digits.")
    ] = None,
    best: Annotated[
        float | None, typer.Option(metavar="ERROR", help="Rank the methods by their work for this error.")
    ] = None,
    by: Annotated[
        str | None, typer.Option(metavar="COLUMN", help="What counts as work.", show_default="rate evaluations")
    ] = None,
    sort: Annotated[str | None, typer.Option(metavar="COLUMN", help="Sort the rows, smallest first.")] = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
    plot: Annotated[Path | None, typer.Option(metavar="OUT", help="Draw error against work (png, svg, pdf).")] = None,
) -> None:
    """Run several methods on the problem of a file and print errors, work and stability side by side."""
    from unhurried_heron.accuracy.compare import ALL
    from unhurried_heron.accuracy.compare import compare as compare_methods
    from unhurried_heron.text.comparison_document import ranking_document
    from unhurried_heron.text.terminal import show

    problem = problem_to_study(file, changes, start, end)
    if by is not None and best is None:
        raise OptionError("nothing is ranked", name="--by", location="--by", expected="--best ERROR beside it",
                          given=by)  # fmt: skip
    check_outputs(file, csv, plot)
    names: Any = ALL if everything else names_between_commas(methods)
    tolerance: Any = None if atol is None else value_of(atol, "--atol")
    outcome = compare_methods(
        problem, names, rtol=numbers_of(rtol, "--rtol") or None, atol=tolerance, count=counts_of(count, "--count"),
        step=steps_of(step, "--step"), budget=budget_of(budget), on_interrupt="return",
        reference=reference,  # type: ignore[arg-type]  # it is looked at there
    )  # fmt: skip
    shown, mistake = outcome, None
    try:
        shown = outcome if sort is None else outcome.sorted(sort)
    except RunError as error:
        # The table is shown although the column to sort by does not exist.
        mistake = error
    show(shown.document())
    write_table(shown.frame(), csv)
    if plot is not None:
        from unhurried_heron.figures.work_figures import draw_work

        save(draw_work(outcome), plot)
    if mistake is not None:
        raise mistake
    if best is not None:
        show(ranking_document(outcome.best(best, **({} if by is None else {"by": by})), best))
    if outcome.failures:
        raise typer.Exit(1)


def methods(
    purpose: Annotated[
        str | None, typer.Option("--for", metavar="PURPOSE", help="Only those for it: " + ", ".join(PURPOSES) + ".")
    ] = None,
) -> None:
    """List the methods: orders, work, whether they adapt their steps and suit stiff problems, their stability."""
    from unhurried_heron.text.terminal import show

    show(document_of(*chosen_for(purpose)))


def check(
    file: File,
    latex: Annotated[
        bool, typer.Option("--latex", help="Print the first-order system in LaTeX, and nothing else.")
    ] = False,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
) -> None:
    """Look a problem over before it runs: names, units, starting values, switches, order, stiffness, size."""
    from unhurried_heron.checks.check import check as check_problem
    from unhurried_heron.checks.check import check_file
    from unhurried_heron.text.terminal import show

    report, problem = check_file(file)
    if problem is not None and (changes or start is not None or end is not None):
        problem = problem_to_study(file, changes, start, end)
        report = check_problem(problem)
    if latex and problem is not None:
        print(problem.first_order().latex)
    else:
        show(report.document())
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
            location="NAME",
            expected="letters, digits, - and _",
            given=excerpt(name),
        )
    path = Path(name).parent / f"{stem}.toml"
    check_writable(path)
    try:
        with open(path, "x", encoding="utf-8") as file:
            file.write(starter(path.stem))
    except FileExistsError:
        raise OptionError(
            f"there is a file {path} already", name=name, location="NAME", expected="a new name", given=name
        ) from None
    print_line(f"problem file: {path}")


def demo(
    out: Annotated[Path, typer.Option(metavar="DIR", help="Folder to write into.")] = Path("heron-demo"),
) -> None:
    """Run the demo problems of Mirror Fen, compare methods on them, and write files, tables and figures."""
    from unhurried_heron.accuracy.compare import compare as compare_methods
    from unhurried_heron.cli.demo_studies import show_long_run, show_sweeps
    from unhurried_heron.demo import ACTING, NAMES, copy_demo_files, demo_file
    from unhurried_heron.driver.integrate import integrate
    from unhurried_heron.figures.work_figures import draw_steps, draw_work
    from unhurried_heron.text.terminal import console, show

    out.mkdir(parents=True, exist_ok=True)
    copy_demo_files(out)
    for name in (*NAMES, *ACTING):
        problem = Problem.from_file(demo_file(name))
        outcome = integrate(problem, **file_options(problem), ledger=True)
        show(outcome.document())
        shown: Callable[[], None] = functools.partial(save_states, outcome, out / f"{name}-states.png")
        _keep(outcome, out / f"{name}.csv", out / f"{name}.json", shown, exact=False)
        if name in ACTING:
            console().print()
            continue
        save(draw_steps(outcome), out / f"{name}-steps.png")
        table = compare_methods(problem, COMPARED, rtol=[1e-4, 1e-6, 1e-8])
        show(table.document())
        write_table(table.frame(), out / f"{name}-comparison.csv")
        save(draw_work(table), out / f"{name}-work.png")
        console().print()
    show_studies(out)
    show_sweeps(out)
    show_long_run(out)
    print_line(f"All of it is in the folder {out}, the problem files too: try heron check {out / 'mistakes.toml'}")


def prepare() -> None:
    """Compile what every run needs ahead of its first use: for images, clusters, and homes that cannot be written."""
    from unhurried_heron.kernels.machine_code.loading import is_kept
    from unhurried_heron.kernels.machine_code.prepare import KERNELS, lasting_folder, load_kernels

    missing = [name for name in KERNELS if not is_kept(name)]
    load_kernels(*KERNELS)
    folder = lasting_folder()
    if folder is None or not all(map(is_kept, KERNELS)):
        print_line("nothing could be kept; set UNHURRIED_HERON_CACHE to a folder that can be written")
        raise typer.Exit(1)
    print_line(f"{len(missing)} kernels compiled, {len(KERNELS) - len(missing)} were there: {folder}")


def _keep(outcome: Any, csv: Path | None, json: Path | None, draw: Callable[[], None] | None, *, exact: bool) -> None:
    """Write each of the files that are asked for, whatever becomes of the others; what failed first is raised."""
    from unhurried_heron.files.write import write_csv, write_summary

    def table(path: Path) -> None:
        write_csv(outcome, path, exact=exact)
        print_line(f"table: {path}")

    def summary(path: Path) -> None:
        write_summary(outcome, path)
        print_line(f"summary: {path}")

    failed: list[Exception] = []
    writers = [(csv, table), (json, summary), (draw, lambda draws: draws())]
    for queries, write in writers:
        try:
            if queries is not None:
                write(queries)
        except Exception as error:
            failed.append(error)
    if failed:
        raise failed[0]
