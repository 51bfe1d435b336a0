"""A problem as a page of text: what was said, values and units, the interval, events."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from unhurried_heron.errors import printable
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.printing import value_text
from unhurried_heron.input.event import Event
from unhurried_heron.input.problem_input import FIELDS

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# Lines of one kind in the text of a problem,
_MAX_LINES = 24
# and characters of a line.
_LONGEST = 160


def in_text(problem: Problem) -> str:
    """Return a problem as a page of text."""
    units, user_input, (start, end) = problem.units, problem.user_input, problem.interval
    parts = [[problem.title] if problem.title else [], _equations(problem)]
    groups = problem.model.layout.groups
    layout = problem.model.layout
    first = [(f"{each.name}({start:.6g})", layout.take(each.name, problem.start)) for each in groups]
    values = [
        (left, _values(numbers), units.get(each.name, "")) for (left, numbers), each in zip(first, groups, strict=True)
    ]
    parts.append([f"{left} = {value} {unit}".rstrip() for left, value, unit in values])
    numbers = [f"{name} = {value:.10g} {units.get(name, '')}".rstrip() for name, value in problem.parameters.items()]
    parts.append(numbers + [f"{name} is open" for name in problem.open])
    parts.append([f"force along {name}: {force}" for name, force in user_input.forces.items()])
    parts.append([f"{name}: measured, {table.times.size} times" for name, table in problem.inputs.items()])
    parts.append([f"t from {start:.10g} to {end:.10g} {units.get(TIME, '')}".rstrip()])
    parts.append([_event(event) for event in problem.events])
    watched = {known.listed: getattr(user_input, name) for name, known in FIELDS.items() if known.listed}
    parts.append([f"{what}: {', '.join(map(str, names))}" for what, names in watched.items() if names])
    return "\n".join(_clipped(line) for part in parts for line in _shortened(part))


def _equations(problem: Problem) -> list[str]:
    if problem.user_input.form == "rates":
        name = getattr(problem.user_input.function, "__name__", "a function")
        return [f"rates by the function '{name}'", *_mass(problem)]
    lines = [line.strip() for line in problem.user_input.text.strip().splitlines() if line.strip()]
    return lines if problem.user_input.form == "equations" else [*lines, *problem.first_order().text.splitlines()]


def _mass(problem: Problem) -> list[str]:
    mass, n = problem.model.mass, problem.model.layout.size
    if mass is None:
        return []
    constraints = mass.constraints(n)
    held = f", {constraints} of zeros: constraints" if constraints else ""
    return [f"with a mass matrix, {n:,} rows{held}"]


def _values(numbers: object) -> str:
    flat = np.asarray(numbers).ravel()
    shown = ", ".join(value_text(value, 10) for value in flat[:4].tolist())
    return shown if flat.size == 1 else f"{shown}{', …' if flat.size > 4 else ''} ({flat.size} values)"


def _event(event: Event) -> str:
    rows = [event.when if isinstance(event.when, str) else ""]
    rows += [f"going {event.going}" if event.going != "either" else "", "stops the run" if event.stop else ""]
    rows += [f"only if {event.only_if}" if isinstance(event.only_if, str) else ""]
    rows += ["then " + event.assignments.replace("\n", "; ") if event.assignments else ""]
    parts = [part for part in rows if part and part != event.name]
    return f"event '{event.name}'" + (": " + ", ".join(parts) if parts else "")


def _shortened(lines: list[str]) -> list[str]:
    more = len(lines) - _MAX_LINES
    return lines if more <= 0 else [*lines[:_MAX_LINES], f"… {more:,} more"]


def _clipped(line: str) -> str:
    line = printable(line.replace("\n", " "))
    return line if len(line) <= _LONGEST else line[: _LONGEST - 1] + "…"
