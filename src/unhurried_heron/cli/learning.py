"""One thin function for each verb by which something is learnt of a method, or of a run."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated, Any

import typer

from unhurried_heron.cli.asked import Changes, File, changed, check_outputs, file_options, save, say, value_of, words
from unhurried_heron.errors import OptionError
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.problem.problem import Problem

Plot = Annotated[Path | None, typer.Option(metavar="OUT", help="Draw it (png, svg, pdf).")]
Csv = Annotated[Path | None, typer.Option(metavar="OUT", help="Write the table.")]
Method = Annotated[str | None, typer.Option(help="Method; see 'heron methods'.")]


def order(
    file: File,
    methods: Annotated[str, typer.Option(metavar="A,B,…", help="Methods.")] = "classical-rk-4,adams-bashforth-4",
    steps: Annotated[str, typer.Option(metavar="H,…", help="Steps, also with units.")] = "",
    step: Annotated[str | None, typer.Option(metavar="H", help="The first step, to be halved.")] = None,
    halvings: Annotated[int, typer.Option(help="How often.")] = 8,
    changes: Changes = None,
    csv: Csv = None,
    plot: Plot = None,
) -> None:
    """Observe the order of methods: errors as fixed steps are halved."""
    from unhurried_heron.study.convergence import convergence

    problem = changed(Problem.from_file(file), changes or [])
    check_outputs(file, csv, plot)
    first = None if step is None else value_of(step, "--step")
    listed = [value_of(each, "--steps") for each in words(steps)] or None
    found = convergence(problem, words(methods), steps=listed, step=first, halvings=halvings)
    print(found)
    _write(found.frame(), csv)
    if plot is not None:
        from unhurried_heron.show.learnt import draw_order

        save(draw_order(found), plot)


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
    plot: Plot = None,
) -> None:
    """Tell where methods are stable, and draw their regions over each other."""
    from unhurried_heron.study.stability import stability as stability_of

    check_outputs(Path(os.devnull), plot)
    shown = _window(window) if window else None
    regions = [stability_of(name, order=of_order, stages=stages) for name in methods]
    for region in regions:
        print(region)
    if file is not None:
        from unhurried_heron.study.largest_step import largest_step

        problem = Problem.from_file(file)
        for name in methods:
            print(largest_step(problem, name))
    if plot is not None:
        from unhurried_heron.show.region import draw_stability

        save(draw_stability(regions, window=shown, order_star=order_star), plot)


def certify(
    file: File,
    digits: Annotated[int, typer.Option(help="Significant digits of every state.")] = 6,
    at: Annotated[str, typer.Option(metavar="T,…", help="Times besides the end, also with units.")] = "",
    seconds: Annotated[float, typer.Option(help="For everything.")] = 60.0,
    changes: Changes = None,
    csv: Csv = None,
) -> None:
    """Find how many digits of the answer are certain, or say why not more."""
    from unhurried_heron.study.certify import certify as certified

    problem = changed(Problem.from_file(file), changes or [])
    check_outputs(file, csv)
    times: list[Any] = [value_of(part, "--at") for part in words(at)]
    found = certified(problem, digits, at=times or None, seconds=seconds)
    print(found)
    _write(found.frame(), csv)
    if not found.certified:
        raise typer.Exit(1)


def table(
    file: File,
    method: Method = None,
    step: Annotated[str | None, typer.Option(metavar="H", help="The fixed step, also with a unit.")] = None,
    count: Annotated[int | None, typer.Option(metavar="N", help="The same as so many over the interval.")] = None,
    steps: Annotated[int, typer.Option(help="How many steps to show.")] = 5,
    changes: Changes = None,
    csv: Csv = None,
) -> None:
    """Work out the first steps of a method, stage by stage, as by hand."""
    from unhurried_heron.study.sheet import Sheet, as_text, number
    from unhurried_heron.study.worked import worked

    problem = changed(Problem.from_file(file), changes or [])
    check_outputs(file, csv)
    chosen = method or str(problem.integrate_options.get("method", DEFAULT))
    size: Any = None if step is None else value_of(step, "--step")
    found = worked(problem, chosen, step=size, count=count, steps=steps)
    sheet = Sheet([(str(name), "left" if name == "row" else "right") for name in found.columns], problem.title)
    for row in found.itertuples(index=False):
        sheet.add_row(*(str(value) if isinstance(value, str | int) else number(value, 9) for value in row))
    print(as_text(sheet))
    _write(found, csv)


def explain(
    file: File,
    method: Method = None,
    rtol: Annotated[float | None, typer.Option(help="Relative tolerance.")] = None,
    atol: Annotated[float | None, typer.Option(help="Absolute tolerance.")] = None,
    step: Annotated[float | None, typer.Option(help="A fixed step instead of tolerances.")] = None,
    changes: Changes = None,
    plot: Annotated[
        Path | None, typer.Option(metavar="OUT", help="Draw the run in the stability region of its method.")
    ] = None,
) -> None:
    """Run the problem of a file and say what happened: what limited the steps, and which method would do better."""
    from unhurried_heron.march.integrate import integrate
    from unhurried_heron.quiet import quietly
    from unhurried_heron.study.explain import explain as explained

    problem = changed(Problem.from_file(file), changes or [])
    check_outputs(file, plot)
    options = file_options(problem, {"method": method, "rtol": rtol, "atol": atol, "step": step})
    options.pop("record", None)
    with quietly():
        run = integrate(problem, **options, ledger=True, on_interrupt="return")
    print(explained(run))
    if plot is not None:
        from unhurried_heron.show.region import draw_run_in_region

        save(draw_run_in_region(run), plot)
    if not run.ending.as_asked:
        raise typer.Exit(1)


def show_what_is_learnt(out: Path) -> None:
    """Show on the demo problems how a method is known: why a run was slow, digits, order, stability, a step by hand."""
    from unhurried_heron.demo import demo_file
    from unhurried_heron.march.integrate import integrate
    from unhurried_heron.show.learnt import draw_order
    from unhurried_heron.show.region import draw_run_in_region, draw_stability
    from unhurried_heron.study.certify import certify as certified
    from unhurried_heron.study.convergence import convergence
    from unhurried_heron.study.explain import explain as explained
    from unhurried_heron.study.worked import worked

    pond, chemistry = (Problem.from_file(demo_file(name)) for name in ("sluice-pond", "carbonate"))
    held = integrate(chemistry.with_(interval=(0, 0.5)), "dormand-prince-54", rtol=1e-6)
    print(explained(held))
    save(draw_run_in_region(held), out / "carbonate-in-region.png")
    print(f"\n{certified(pond, 9, at=[6, 24])}\n")
    orders = convergence(pond.with_(interval=(0, 4)), ["heun-2", "classical-rk-4", "adams-bashforth-4"], step=0.5)
    print("\n".join(map(str, orders.orders)))
    save(draw_order(orders), out / "sluice-pond-order.png")
    save(draw_stability(["heun-2", "classical-rk-4", "adams-bashforth-4"]), out / "stability-regions.png")
    print(f"\n{worked(pond, 'heun-2', step=0.5, steps=2).to_string(index=False)}\n")


def _write(frame: Any, csv: Path | None) -> None:
    if csv is None:
        return
    from unhurried_heron.disk import write_text

    write_text(csv, frame.to_csv(index=False, lineterminator="\n"))
    say(f"table: {csv}")


def _window(text: str) -> Any:
    try:
        sides = [float(part) for part in text.split(",")]
    except ValueError:
        sides = []
    if len(sides) != 4:
        raise OptionError("this is no window", name="--window", place="--window",
                          expected="left,right,bottom,top, such as -4,1,-3,3", given=text)  # fmt: skip
    return tuple(sides)
