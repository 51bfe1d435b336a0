"""The events of a problem, checked one by one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from unhurried_heron.errors import (
    NameClashError,
    ValueGivenError,
    excerpt,
)
from unhurried_heron.formulas.expression import name as named_node
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.input_field import LINE
from unhurried_heron.model.action import Action, action_of, condition, modes_of
from unhurried_heron.model.function_trials import try_value
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.model.model import Watched
from unhurried_heron.problem.known_times import known_times

if TYPE_CHECKING:
    from unhurried_heron.problem.assembly import AssembledProblem


def watched_events(events: tuple[Event, ...], assembled: AssembledProblem, collector: ErrorCollector) -> list[Watched]:
    """Check the events one by one; return what is compiled of each.

    Parameters
    ----------
    events : tuple[Event, ...]
    assembled : AssembledProblem
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    list[Watched]

    Raises
    ------
    FormulationError
        One of its subclasses, unless the mistakes gather what is wrong.
    """
    seen: set[str] = set()
    watched = []
    for event in events:
        with collector.gathering():
            if not isinstance(event, Event):
                raise ValueGivenError(
                    "events are given as Event objects",
                    name="events",
                    location="events",
                    expected='Event("level = 1.2")',
                    given=excerpt(event),
                )
            LINE.check(event.name.replace("\n", " "), "the name of an event")
            if event.name in seen:
                raise NameClashError(
                    f"two events are called '{event.name}'",
                    name=event.name,
                    location="events",
                    expected="a name for each event",
                    given=event.name,
                )
            seen.add(event.name)
            parts = _parts(event, assembled)
            if is_complete(assembled):
                numbers = [assembled.values[name] for name in assembled.model.parameters]
                for part in parts:
                    if isinstance(part, NamedFunction):
                        try_value(part, assembled.interval[0], assembled.initial, numbers)
            watched += parts
    return watched


def _parts(event: Event, assembled: AssembledProblem) -> list[Watched]:
    """Check what an event looks at, its condition, its times and what it changes; return what is compiled of it."""
    model = assembled.model
    known_times(event, assembled.interval, assembled.units)
    action, only_if = action_of(model, event, assembled.units), condition(model, event)
    changed = modes_of(model, (event,), assembled.units) if isinstance(action, Action) else ()
    for name, each in assembled.definitions.items():
        needed = {*changed} & {*(each.formula.mentions if each.formula else ())}
        if needed and name in model.parameters:
            raise ValueGivenError(
                f"the parameter '{name}' is a formula of '{min(needed)}', and would stay when that is changed",
                name=name,
                location=f"what the event '{event.name}' changes",
                expected=f"'{name}' as an equation, {name} = …, which follows",
                given=event.assignments,
            )
    nodes: list[Watched] = [*action.nodes, *map(named_node, action.parameters)] if isinstance(action, Action) else []
    return [model.watch(event, assembled.units), *([only_if] if only_if is not None else []), *nodes]


def is_complete(assembled: AssembledProblem) -> bool:
    """Whether every parameter and starting value has a value; missing ones are told elsewhere."""
    valued = assembled.values.keys() >= set(assembled.model.parameters)
    return not assembled.open and valued and bool(np.isfinite(assembled.initial.array).all())
