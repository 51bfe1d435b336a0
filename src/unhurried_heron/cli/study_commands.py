"""One thin function for each verb by which something is learnt of a method, or of a run."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated, Any

import typer

from unhurried_heron.cli.arguments import (
    budget_of,
    check_outputs,
    file_options,
    names_between_commas,
    problem_to_study,
    save,
    steps_of,
    value_of,
    write_table,
)
from unhurried_heron.cli.options import (
    Atol,
    Changes,
    Count,
    Csv,
    End,
    File,
    Limit,
    Method,
    Methods,
    Plot,
    Rtol,
    Start,
    Step,
    Switches,
)
from unhurried_heron.errors import OptionError
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.problem.problem import Problem

# Seconds that an explanation may take,
_SECONDS = 10.0
# and that of a run that was interrupted.
_AFTER_INTERRUPT = 0.5


def convergence(
    file: File,
    methods: Methods = "classical-rk-4,adams-bashforth-4",
    steps: Annotated[str, typer.Option(metavar="H,…", help="Steps, also with units.")] = "",
    step: Annotated[
        str | None, typer.Option(metavar="H", help="The first step, to be halved, also with a unit.")
    ] = None,
    count: Annotated[
        int | None, typer.Option(metavar="N", help="The first step, as the number of steps over the interval.")
    ] = None,
    halvings: Annotated[int, typer.Option(metavar="N", help="How often.")] = 8,
    budget: Limit = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
    plot: Plot = None,
) -> None:
    """Observe the order of methods: errors as fixed steps are halved."""
    from unhurried_heron.accuracy.convergence import convergence as observed
    from unhurried_heron.study.attempts import Outcome

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv, plot)
    first = None if step is None else value_of(step, "--step")
    found = observed(problem, names_between_commas(methods), steps=steps_of(steps, "--steps"), step=first, count=count,
                        halvings=halvings, budget=budget_of(budget),
                        on_interrupt="return")  # fmt: skip
    print(found)
    write_table(found.frame(), csv)
    if plot is not None:
        from unhurried_heron.figures.accuracy_figures import draw_convergence

        save(draw_convergence(found), plot)
    if Outcome.INTERRUPTED in found.outcomes:
        raise typer.Exit(1)


def stability(
    methods: Annotated[list[str], typer.Argument(metavar="METHOD…", help="Methods.", show_default=False)],
    of_order: Annotated[int | None, typer.Option("--order", help="Of a method of variable order: which one.")] = None,
    stages: Annotated[int | None, typer.Option(help="Of a stabilised method: how many.")] = None,
    window: Annotated[
        str, typer.Option(metavar="L,R,B,T", help="The part of the plane to draw: left, right, bottom, top.")
    ] = "",
    order_star: Annotated[bool, typer.Option("--order-star", help="Draw order stars instead.")] = False,
    file: Annotated[
        Path | None, typer.Option("--for", metavar="FILE", help="Find the largest stable step on a problem, too.")
    ] = None,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    plot: Plot = None,
) -> None:
    """Tell where methods are stable, and draw their regions over each other."""
    from unhurried_heron.stability.regions import stability as stability_of

    check_outputs(Path(os.devnull), plot)
    if file is None and (changes or start is not None or end is not None):
        raise OptionError("there is no problem to change", name="--for", location="--set, --from, --to",
                          expected="--for FILE beside it", given="none")  # fmt: skip
    shown = _window(window) if window else None
    regions = [stability_of(name, order=of_order, stages=stages) for name in methods]
    for region in regions:
        print(region)
    if file is not None:
        from unhurried_heron.stability.largest_step import largest_step

        problem = problem_to_study(file, changes, start, end)
        for name in methods:
            print(largest_step(problem, name))
    if plot is not None:
        from unhurried_heron.figures.stability_figures import draw_stability

        save(draw_stability(regions, window=shown, order_star=order_star), plot)


def certify(
    file: File,
    digits: Annotated[int, typer.Option(metavar="N", help="Significant digits of every state.")] = 6,
    at: Annotated[str, typer.Option(metavar="T,…", help="Times besides the end, also with units.")] = "",
    seconds: Annotated[float, typer.Option(metavar="S", help="For everything.")] = 60.0,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
) -> None:
    """Find how many digits of the answer are certain, or say why not more."""
    from unhurried_heron.accuracy.certify import certify as certified

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv)
    found = certified(problem, digits, at=steps_of(at, "--at"), seconds=seconds, on_interrupt="return")
    print(found)
    write_table(found.frame(), csv)
    if not found.certified:
        raise typer.Exit(1)


def step_table(
    file: File,
    method: Method = None,
    rtol: Rtol = None,
    atol: Atol = None,
    step: Step = None,
    count: Count = None,
    steps: Annotated[int, typer.Option(metavar="N", help="How many steps to show.")] = 5,
    changes: Changes = None,
    start: Start = None,
    end: End = None,
    csv: Csv = None,
) -> None:
    """Work out the first steps of a method, stage by stage, as by hand."""
    from unhurried_heron.study.step_table import step_table as worked_out
    from unhurried_heron.text.answers import step_table_document

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, csv)
    given = file_options(problem, method=method, rtol=rtol, atol=atol, step=step, count=count)
    options = {name: given.get(name) for name in ("rtol", "atol", "step", "count")}
    found = worked_out(problem, str(given.get("method", DEFAULT)), steps=steps, **options)
    print(step_table_document(problem, found))
    write_table(found, csv)


def explain(
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
    plot: Annotated[
        Path | None, typer.Option(metavar="OUT", help="Draw the run in the stability region of its method.")
    ] = None,
) -> None:
    """Run the problem of a file and say what happened: what limited the steps, and which method would do better."""
    from unhurried_heron.diagnosis.explain import explain as explained
    from unhurried_heron.driver.integrate import integrate
    from unhurried_heron.quiet import quietly
    from unhurried_heron.run.ending import EndingReason

    problem = problem_to_study(file, changes, start, end)
    check_outputs(file, plot)
    options = file_options(problem, method=method, rtol=rtol, atol=atol, step=step, count=count, switches=switches,
                           budget=budget)  # fmt: skip
    options.pop("record", None)
    with quietly():
        run = integrate(problem, **options, ledger=True, on_interrupt="return")
    # After an interrupt the explanation makes no long runs.
    interrupted = run.ending.reason is EndingReason.INTERRUPTED
    seconds = _AFTER_INTERRUPT if interrupted else _SECONDS
    found = explained(run, seconds=seconds, on_interrupt="return")
    print(found)
    if plot is not None:
        from unhurried_heron.figures.stability_figures import draw_run_in_region

        save(draw_run_in_region(run), plot)
    if not run.ending.as_requested or found.about("interrupted"):
        raise typer.Exit(1)


def show_studies(out: Path) -> None:
    """Show on the demo problems how a method is known: why a run was slow, digits, order, stability, a step by hand."""
    from unhurried_heron.accuracy.certify import certify as certified
    from unhurried_heron.accuracy.convergence import convergence as observed
    from unhurried_heron.demo import demo_file
    from unhurried_heron.diagnosis.explain import explain as explained
    from unhurried_heron.driver.integrate import integrate
    from unhurried_heron.figures.accuracy_figures import draw_convergence
    from unhurried_heron.figures.stability_figures import draw_run_in_region, draw_stability
    from unhurried_heron.study.step_table import step_table as worked_out

    pond, chemistry = (Problem.from_file(demo_file(name)) for name in ("sluice-pond", "carbonate"))
    held = integrate(chemistry.with_(interval=(0, 0.5)), "dormand-prince-54", rtol=1e-6)
    print(explained(held))
    save(draw_run_in_region(held), out / "carbonate-in-region.png")
    print(f"\n{certified(pond, 9, at=[6, 24])}\n")
    orders = observed(pond.with_(interval=(0, 4)), ["heun-2", "classical-rk-4", "adams-bashforth-4"], step=0.5)
    print("\n".join(map(str, orders.orders)))
    save(draw_convergence(orders), out / "sluice-pond-order.png")
    save(draw_stability(["heun-2", "classical-rk-4", "adams-bashforth-4"]), out / "stability-regions.png")
    print(f"\n{worked_out(pond, 'heun-2', step=0.5, steps=2).to_string(index=False)}\n")


def _window(text: str) -> Any:
    try:
        sides = [float(part) for part in text.split(",")]
    except ValueError:
        sides = []
    if len(sides) != 4:
        raise OptionError("this is no window", name="--window", location="--window",
                          expected="left,right,bottom,top, such as -4,1,-3,3", given=text)  # fmt: skip
    return tuple(sides[:2]), tuple(sides[2:])
