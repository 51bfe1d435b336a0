"""Terminal tables."""

from __future__ import annotations

import math
import shutil
import sys
from collections.abc import Iterable
from textwrap import indent
from typing import TYPE_CHECKING, Any

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from unhurried_heron.accuracy.comparison import Comparison, comparison_table
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.methods.method import Method
from unhurried_heron.run.run import Run
from unhurried_heron.study.methods_table import facts_of
from unhurried_heron.study.text_table import TextTable, number

if TYPE_CHECKING:
    # the checks know units, whose library takes long to import
    import pandas as pd

    from unhurried_heron.checks.report import Report

# Columns of text that is not written to a terminal.
_PLAIN_WIDTH = 180
# Events that did not happen and are listed.
_MAX_EVENTS = 12
# an indexed state with more members than this is told by its range
_MAX_MEMBERS = 8


def console(*, error: bool = False) -> Console:
    """Return a console as wide as the terminal, or as ``COLUMNS`` says; else wide enough for every table."""
    width = None if (sys.stderr if error else sys.stdout).isatty() else shutil.get_terminal_size((_PLAIN_WIDTH, 50))[0]
    # names are shown as they are, whatever they would mean to a terminal's markup
    return Console(stderr=error, highlight=False, markup=False, emoji=False, width=width)


def _table(columns: Iterable[tuple[str, str]], title: str = "") -> TextTable:
    return TextTable(columns, title)


def methods_table(methods: Iterable[Method], why: str = "") -> RenderableType:
    """A table for each family: orders, work, whether methods adapt and suit stiff problems, stability, source."""
    parts: list[RenderableType] = [Text(why)] if why else []
    families: dict[str, TextTable] = {}
    pile: list[TextTable] = []
    for method in methods:
        if method.family not in families:
            families[method.family] = TextTable(
                [("method", "left"), ("order", "right"), ("embedded", "right"), ("between", "right")]
                + [("stages", "right"), ("rates", "right"), ("adapts", "left"), ("stable", "right"), ("stiff", "left")]
                + [("real", "right"), ("imaginary", "right"), ("carries", "left"), ("source", "left")],
                method.family,
                pile,
            )
        facts = facts_of(method)
        families[method.family].add_row(
            method.name,
            str(method.order),
            str(method.embedded_order or "–"),
            str(method.interpolant_order),
            str(method.stages),
            str(method.evaluations),
            _ADAPTS[facts["error estimate"]],
            _stability(facts),
            "yes" if method.stiff else "no",
            _limit(facts["real limit"]),
            _limit(facts["imaginary limit"]),
            facts["carries"] or "–",
            method.source,
        )
    return Group(*parts, *families.values(), Text(_LEGEND, style="dim"))


_LEGEND = (
    "embedded: order of the second solution. between: order between the steps. rates: evaluations a step, of implicit "
    "methods in one iteration. stable: A, L, or the angle of the wedge. real, imaginary: how far h lambda may go."
)
_ADAPTS = {"none": "no", "step doubling": "doubling", "second solution": "yes"}


def _stability(facts: dict[str, Any]) -> str:
    if facts["L-stable"]:
        return "L"
    if facts["A-stable"]:
        return "A"
    return f"{facts['angle']:.4g}°" if facts["angle"] else "–"


def _limit(value: float) -> str:
    return "∞" if math.isinf(value) else f"{value:.4g}"


def run_report(run: Run) -> RenderableType:
    """What a run came to: ending, work, events and final values."""
    tally, options = run.tally, run.options
    if options["step"] is not None:
        setting = f"step {options['step']:g}"
    else:
        setting = f"rtol {_tolerance(options['rtol'])}, atol {_tolerance(options['atol'])}"
    if options.get("linear", "dense") != "dense":
        setting += f", {options['linear']} factors"
    work = f"{tally.accepted:,} steps accepted, {tally.refused:,} refused; {tally.rate_evaluations:,} rate evaluations"
    if tally.jacobians:
        work += f", {tally.jacobians:,} Jacobians, {tally.factorisations:,} factorisations, {tally.solves:,} solves"
    parts: list[RenderableType] = [
        Text(run.problem.title or "Problem", style="bold"),
        Text(f"{run.method}, {setting}"),
        Text(str(run.ending), style="" if run.ending.as_requested else "bold red"),
        Text(f"{work}; {tally.seconds:.3g} s"),
    ]
    if run.method_selection:
        parts.insert(2, Text(f"{run.method} {run.method_selection}"))
    landed: Any = run.switches["switch"].value_counts(sort=False) if run.data.switch_log.times.size else {}
    if len(landed):
        sentence = "; ".join(f"{text} ({count:,} time{'s' * (count > 1)})" for text, count in landed.items())
        parts.append(Text(f"landed on switches: {sentence}"))
    if run.data.occurrences:
        parts.append(_events_table(run))
    parts += [Text(each) for each in _never_happened(run)]
    table = _table([("at the end", "left"), ("value", "right"), ("unit", "left")])
    for name, value in _final_rows(run):
        table.add_row(name, value, run.problem.units.get(group_of(name), ""))
    parts.append(table)
    return Group(*parts)


def _final_rows(run: Run) -> Iterable[tuple[str, str]]:
    """States and derived quantities at the end; a large indexed state as its smallest and largest value."""
    model, final = run.problem.model, list(run.final.items())
    begin = 0
    for group in (*model.layout.groups, *model.derived_layout.groups):
        rows = final[begin : begin + group.size]
        begin += group.size
        if group.size > _MAX_MEMBERS:
            values = [value for _, value in rows]
            ends = ",".join(f"{first}..{last}" for first, last in group.box)
            yield f"{group.name}[{ends}]", f"{min(values):.6g} … {max(values):.6g}"
        else:
            yield from ((name, f"{value:.8g}") for name, value in rows)
    yield from ((name, f"{value:.8g}") for name, value in final[begin:])


def _tolerance(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else ", ".join(f"{key} {part:g}" for key, part in value.items())


def _jump(before: float, after: float) -> str:
    return f"{before:.8g}" if before == after else f"{before:.6g} → {after:.6g}"


def _never_happened(run: Run) -> Iterable[str]:
    """Say of each event that did not happen how near it came."""
    seen = set(run.data.event_log.which.tolist())
    never = [index for index in range(len(run.data.events)) if index not in seen]
    unit = run.problem.units.get("t", "")
    for index in never[:_MAX_EVENTS]:
        closest, at = run.closest_approach(run.data.events[index])
        sentence = f"event '{run.data.events[index].name}' did not happen"
        if math.isfinite(at):
            sentence += f"; nearest at t = {f'{at:.6g} {unit}'.rstrip()}, where left less right is {closest:.4g}"
        yield sentence
    if len(never) > _MAX_EVENTS:
        yield f"nor did {len(never) - _MAX_EVENTS:,} more: see run.watched"


def _events_table(run: Run) -> TextTable:
    layout = run.problem.model.layout
    shown = list(layout.scalars.items())[:_MAX_MEMBERS]
    modes, found = run.modes[:_MAX_MEMBERS], run.data.event_log
    columns = [*(state for state, _ in shown), *modes]
    table = _table([("event", "left"), ("time", "right"), *((column, "right") for column in columns)])
    levels = found.levels
    for row, (name, time, state) in enumerate(run.data.occurrences[:_MAX_EVENTS]):
        cells = [_jump(state[index], found.after[row, index]) for _, index in shown]
        cells += [_jump(levels[row, k], levels[row + 1, k]) for k in range(len(modes))]
        table.add_row(name, f"{time:.8g}", *cells)
    if len(run.data.occurrences) > _MAX_EVENTS:
        more = len(run.data.occurrences) - _MAX_EVENTS
        table.caption = f"{more} more events: see run.events, or the summary written with --json"
    return table


_COLOURS = {"wrong": "bold red", "doubtful": "yellow", "note": "dim"}


def check_report(report: Report) -> RenderableType:
    """Everything a check found, what is wrong first, and the reduced system."""
    grid = Table.grid(padding=(0, 2))
    grid.add_column(no_wrap=True)
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for each in report.findings:
        colour = _COLOURS[each.weight]
        grid.add_row(Text(each.weight, style=colour), Text(each.about, style="bold"), Text(each.message))
        if each.weight == "wrong":
            grid.add_row("")
    parts: list[RenderableType] = [Text(report.title or "Problem", style="bold"), grid]
    if report.first_order:
        parts += [Text("as a first-order system", style="bold"), Text(indent(report.first_order, "  "))]
    count = len(report.wrong)
    sentence = f"{count} thing{'s' * (count != 1)} wrong" if count else "nothing wrong"
    parts.append(Text(sentence, style="bold red" if count else "bold green"))
    return Group(*parts)


def comparison_report(comparison: Comparison) -> RenderableType:
    """Errors and work side by side; below the table, what the errors are measured against and what failed."""
    return Group(*comparison_table(comparison))


def ranking_table(ranking: pd.DataFrame, error: float) -> RenderableType:
    """Methods by the work they need for one error."""
    names = list(ranking.columns)
    table = TextTable(
        [(name, "left" if name in ("method", "how") else "right") for name in names], f"for an error of {error:g}"
    )
    for row in ranking.to_dict("records"):
        work, times = (number(float(row[name]), 4) for name in names[2:4])
        table.add_row(str(row["rank"]) if row["times the best"] >= 1.0 else "–", row["method"], work, times, row["how"])
    return table
