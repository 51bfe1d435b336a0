"""What a run came to: ending, work, events and final values."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.formulas.printing import value_text
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.text.document import Cell, Column, Document, Statement, Table, Tone
from unhurried_heron.text.numbers import counted

if TYPE_CHECKING:
    from unhurried_heron.run.run import Run

# Events that are listed, and events that did not happen.
_MAX_EVENTS: Final = 12
# What preconditions iterations, by the word in the options; others have a name of the user's.
_PRECONDITIONED: Final = {
    "incomplete": "incomplete factors",
    "cells": "factors of the cells",
    "multigrid": "multigrid",
    "none": "no preconditioner",
}
# Members of an indexed state above which it is shown by its range.
_MAX_MEMBERS: Final = 8


def run_document(run: Run) -> Document:
    """Return what a run came to."""
    tone = Tone.PLAIN if run.ending.as_requested else Tone.WRONG
    parts: list[Statement | Table] = [Statement("method", f"{run.method}, {_setting(run)}")]
    if run.method_selection:
        parts.append(Statement("method", f"{run.method} {run.method_selection}"))
    parts.append(Statement("ending", str(run.ending), {"time": run.ending.time}, tone))
    parts.append(_work(run))
    landed: Any = run.switches["switch"].value_counts(sort=False) if run.data.switch_log.times.size else {}
    if len(landed):
        switches = "; ".join(f"{text} ({counted(count, 'time')})" for text, count in landed.items())
        parts.append(Statement("switches", f"landed on switches: {switches}"))
    if run.data.occurrences:
        parts.append(_events(run))
    parts += [Statement("events", sentence) for sentence in _never_happened(run)]
    parts.append(_final_values(run))
    return Document(run.problem.title or "Problem", tuple(parts))


def _setting(run: Run) -> str:
    options = run.options
    if options["step"] is not None:
        setting = f"step {options['step']:g}"
    else:
        setting = f"rtol {_tolerance(options['rtol'])}, atol {_tolerance(options['atol'])}"
    if options.get("linear", "dense") == "krylov":
        setting += f", GMRES, {_PRECONDITIONED.get(options['preconditioner'], options['preconditioner'])}"
        setting += f", for which {options['stood_in']} stood in" if "stood_in" in options else ""
    elif options.get("linear", "dense") != "dense":
        setting += f", {options['linear']} factors"
    return setting


def _tolerance(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else ", ".join(f"{key} {part:g}" for key, part in value.items())


def _work(run: Run) -> Statement:
    tally = run.tally
    figures: dict[str, Any] = {
        "accepted": tally.accepted,
        "refused": tally.refused,
        "rate evaluations": tally.rate_evaluations,
        "seconds": tally.seconds,
    }
    text = f"{counted(tally.accepted, 'step')} accepted, {tally.refused:,} refused"
    text += f"; {counted(tally.rate_evaluations, 'rate evaluation')}"
    if tally.jacobians:
        figures |= {"jacobians": tally.jacobians, "factorisations": tally.factorisations, "solves": tally.solves}
        counts = {"Jacobian": tally.jacobians, "factorisation": tally.factorisations, "solve": tally.solves}
        text += "".join(f", {counted(count, noun)}" for noun, count in counts.items())
    if tally.linear_iterations:
        figures |= {"linear iterations": tally.linear_iterations}
        text += f" by {counted(tally.linear_iterations, 'linear iteration')}"
    return Statement("work", f"{text}; {tally.seconds:.3g} s", figures)


def _final_values(run: Run) -> Table:
    units = run.problem.units
    columns = (Column("at the end", "name"), Column("value"), Column("unit", "words"))
    rows = tuple((name, value, units.get(group_of(name), "")) for name, value in _final_rows(run))
    return Table(columns, rows)


def _final_rows(run: Run) -> Iterator[tuple[str, str]]:
    """Yield states and derived quantities at the end; a large indexed state as its smallest and largest value."""
    model, final = run.problem.model, list(run.final.items())
    begin = 0
    for group in (*model.layout.groups, *model.derived_layout.groups):
        count = math.prod(group.value_shape)
        rows = final[begin : begin + count]
        begin += count
        if count > _MAX_MEMBERS:
            # of complex numbers, the range of their sizes
            values = [abs(value) if group.complex else value for _, value in rows]
            ends = ",".join(f"{first}..{last}" for first, last in group.value_box)
            name = f"{group.name}[{ends}]"
            yield f"abs({name})" if group.complex else name, f"{min(values):.6g} … {max(values):.6g}"
        else:
            yield from ((name, value_text(value, 8)) for name, value in rows)
    yield from ((name, value_text(value, 8)) for name, value in final[begin:])


def _never_happened(run: Run) -> Iterable[str]:
    """Yield for each event that did not happen how near it came."""
    seen = set(run.data.event_log.which.tolist())
    never = [event for index, event in enumerate(run.data.events) if index not in seen]
    unit = run.problem.units.get("t", "")
    for event in never[:_MAX_EVENTS]:
        closest, at = run.closest_approach(event)
        sentence = f"event '{event.name}' did not happen"
        if math.isfinite(at):
            sentence += f"; nearest at t = {f'{at:.6g} {unit}'.rstrip()}, where left less right is {closest:.4g}"
        yield sentence
    if len(never) > _MAX_EVENTS:
        yield f"nor did {len(never) - _MAX_EVENTS:,} more: see run.watched"


def _events(run: Run) -> Table:
    layout, found = run.problem.model.layout, run.data.event_log
    shown = list(layout.scalars.items())[:_MAX_MEMBERS]
    modes, levels = run.modes[:_MAX_MEMBERS], found.levels
    names = [*(state for state, _ in shown), *modes]
    units = run.problem.units
    columns = (
        Column("event", "name"),
        Column("time", digits=8, unit=units.get("t", "")),
        *(Column(name, unit=units.get(name, "")) for name in names),
    )
    rows: list[tuple[Cell, ...]] = []
    for row, (name, time, state) in enumerate(run.data.occurrences[:_MAX_EVENTS]):
        cells = [_change(state[index], found.after[row, index]) for _, index in shown]
        cells += [_change(levels[row, k], levels[row + 1, k]) for k in range(len(modes))]
        rows.append((name, time, *cells))
    more = len(run.data.occurrences) - _MAX_EVENTS
    caption = (
        f"{more} more event{'s' * (more != 1)}: see run.events, or the summary written with --json" if more > 0 else ""
    )
    return Table(columns, tuple(rows), caption=caption)


def _change(before: float, after: float) -> str:
    return f"{before:.8g}" if before == after else f"{before:.6g} → {after:.6g}"
