"""Everything a problem's words come to: its model, the values of parameters and states, the interval, the units."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from typing import Any

import numpy as np

from unhurried_heron.errors import (
    NameClashError,
    UnusedValueError,
    ValueGivenError,
    excerpt,
    listing,
    near_spelling,
    printable,
)
from unhurried_heron.formulas.expression import TIME, names_in
from unhurried_heron.formulas.expression import name as named_node
from unhurried_heron.formulas.layout import Group, Layout, Values
from unhurried_heron.formulas.state_name import base_of, with_primes
from unhurried_heron.input.definitions import (
    Definition,
    initial_key,
    initial_values,
    parameter_values,
    read_initial,
    read_parameters,
)
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.names import check_name
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.input.values import refuse_unused
from unhurried_heron.model.action import Action, action_of, condition, modes_of
from unhurried_heron.model.closed_forms import misfits, refuse_misfits
from unhurried_heron.model.formulate import formulate
from unhurried_heron.model.function_model import rate_model
from unhurried_heron.model.functions import NamedFunction, try_value
from unhurried_heron.model.model import Model, Watched
from unhurried_heron.problem.invariants import refuse_unknown
from unhurried_heron.problem.known_times import known_times
from unhurried_heron.units.quantities import Quantities, read_quantities


@dataclass(frozen=True)
class AssembledProblem:
    """A model with the values that go into it."""

    model: Model
    values: dict[str, float]
    open: tuple[str, ...]
    initial: Values
    interval: tuple[float, float]
    units: Mapping[str, str]
    definitions: Mapping[str, Definition] = field(default_factory=dict)


def settle(user_input: ProblemInput, collector: ErrorCollector, model: Model | None = None) -> AssembledProblem:
    """Work out what was said.

    Parameters
    ----------
    model : Model, optional
        One made before of the same equations: it is used again if the sizes of indexed states are the same.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    _check_containers(user_input)
    parameters = read_parameters(user_input.parameters, collector)
    initial = read_initial(user_input.initial, collector)
    found = read_quantities(parameters, initial, user_input.interval, user_input.units, collector)
    known_values = parameter_values(found.parameters, collector)
    values = {name: known_values[name] for name in parameters if name in known_values}
    left_open = tuple(name for name, each in parameters.items() if each.is_open)
    for name, table in user_input.inputs.items():
        with collector.gathering():
            _check_input(name, table, found.interval)
    if model is not None and not all(values.get(name) == value for name, value in model.sizes.items()):
        model = None
    fresh = model is None
    if model is None:
        model = _model(user_input, values, tuple(parameters), found, collector)
    # an open parameter may be used, but has no value yet
    known = {**dict.fromkeys(parameters), **values}
    start, needed = initial_values(found.initial, model.layout, known, collector)
    definitions = {**found.parameters, **found.initial}
    units = _with_derivative_units(found.units, model.orders)
    assembled = AssembledProblem(
        model, values, left_open, Values(model.layout, start), found.interval, units, definitions
    )
    if _complete(assembled):
        assembled = replace(assembled, model=_tried(model, assembled, collector))
    watched = watched_events(user_input.events, assembled, collector)
    # a changed copy may leave a parameter without use
    if fresh and model.rates.written:
        used = _names_used(user_input, assembled.model, found, watched) | needed
        with collector.gathering():
            if not any(isinstance(each, NamedFunction) for each in watched) and not any(
                e.called for e in user_input.events
            ):
                suspected = [name for error in collector.wrong for name in getattr(error, "names", ())]
                misspelt = {near for name in suspected for near in get_close_matches(name, parameters, n=1)}
                refuse_unused(parameters, used | collector.suspected | misspelt)
    with collector.gathering():
        refuse_unknown(user_input, assembled.model)
    with collector.gathering():
        _check_units_belong(user_input, assembled.model)
    refuse_misfits(misfits(model.exact, model.layout, values, start, found.interval[0]), collector)
    return assembled


def settle_again(
    user_input: ProblemInput, before: AssembledProblem
) -> tuple[ProblemInput, AssembledProblem, dict[str, tuple[float, float]]]:
    """Work out changed words; closed forms that no longer begin as their states do are dropped, and told.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    exact = before.model.exact
    if not exact:
        return user_input, settle(user_input, ErrorCollector(), before.model), {}
    made = settle(replace(user_input, exact={}), ErrorCollector(), replace(before.model, exact={}))
    wrong = misfits(exact, made.model.layout, made.values, made.initial.array, made.interval[0])
    kept = {key: node for key, node in exact.items() if key not in wrong and made.model.layout.slot(key) is not None}
    user_input = replace(user_input, exact={key: text for key, text in user_input.exact.items() if key in kept})
    return user_input, replace(made, model=replace(made.model, exact=kept)), wrong


def exchange(
    user_input: ProblemInput, before: AssembledProblem, parameters: Mapping[str, Any], initial: Mapping[str, Any]
) -> AssembledProblem | None:
    """Exchange plain numbers for plain numbers, where nothing else depends on them; None where something may.

    This is what a sweep does thousands of times.
    """
    model = before.model
    derived = any(each.formula is not None or each.is_open for each in before.definitions.values())
    if derived or model.exact or any(event.called for event in user_input.events):
        return None
    values, start, definitions = dict(before.values), before.initial.array.copy(), dict(before.definitions)
    for name, value in parameters.items():
        if not (_is_plain(value) and _is_plain(user_input.parameters.get(name))) or name in model.sizes:
            return None
        values[name] = float(value)
        definitions[name] = Definition(values[name])
    for name, value in initial.items():
        if not (_is_plain(value) and _is_plain(user_input.initial.get(name)) and name in model.layout.scalars):
            return None
        start[model.layout.scalars[name]] = float(value)
        definitions[name] = Definition(float(value))
    return AssembledProblem(model, values, (), Values(model.layout, start), before.interval, before.units, definitions)


def _is_plain(value: Any) -> bool:
    return type(value) in (int, float) and abs(value) <= sys.float_info.max


def _with_derivative_units(units: Mapping[str, str], orders: Mapping[str, int]) -> dict[str, str]:
    """Add the units of derivatives that are states: z in m and t in s give z' in m/s."""
    found, time = dict(units), units.get(TIME, "")
    for base, order in orders.items():
        for k in range(1, order):
            if time and units.get(base):
                found.setdefault(with_primes(base, k), f"{units[base]}/{time}" + (f"^{k}" if k > 1 else ""))
    return found


def _complete(assembled: AssembledProblem) -> bool:
    # what has no value is told elsewhere
    valued = assembled.values.keys() >= set(assembled.model.parameters)
    return not assembled.open and valued and bool(np.isfinite(assembled.initial.array).all())


def _check_input(name: str, table: Any, interval: tuple[float, float]) -> None:
    check_name(name, "inputs")
    if not isinstance(table, Measured):
        raise ValueGivenError(
            f"the input '{name}' is no table",
            name=name,
            location="inputs",
            expected="Measured(times, values) or Measured.from_csv(…)",
            given=excerpt(table),
        )
    table.check_covers(name, interval)


def _model(
    user_input: ProblemInput,
    values: Mapping[str, float],
    parameters: tuple[str, ...],
    found: Quantities,
    collector: ErrorCollector,
) -> Model:
    if user_input.form != "rates":
        return formulate(user_input, values, parameters, found.initial, collector)
    if not found.initial:
        # the order of the states is that of the initial values, so there have to be some
        initial_values({}, Layout(()), {}, collector)
        collector.add(
            ValueGivenError(
                "there are no states",
                name="initial",
                location="initial",
                expected="a value for each state",
                given="none",
            )
        )
    groups: list[Group] = []
    for name, each in found.initial.items():
        shape = np.shape(each.value) if isinstance(each.value, np.ndarray) else ()
        groups.append(Group(name, tuple((1, length) for length in shape)))
    clash = [name for name in found.initial if name in parameters]
    if clash:
        raise NameClashError(
            f"'{clash[0]}' is used for two things",
            name=clash[0],
            location="parameter and state",
            expected="one meaning for each name",
            given="a parameter and a state",
        )
    return rate_model(user_input, parameters, Layout(tuple(groups)), collector)


def _tried(model: Model, assembled: AssembledProblem, collector: ErrorCollector) -> Model:
    """Call every function once at the start, if that was not done before."""
    time, start = assembled.interval[0], assembled.initial
    numbers = [assembled.values[name] for name in model.parameters]
    rates = model.rates.tried(time, start, numbers, collector)
    if rates is model.rates:
        return model
    for function in model.functions.values():
        with collector.gathering():
            try_value(function, time, start, numbers)
    return replace(model, rates=rates)


def watched_events(events: tuple[Event, ...], assembled: AssembledProblem, collector: ErrorCollector) -> list[Watched]:
    """Check the events one by one; return what is compiled of each.

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
            if printable(event.name.replace("\n", " ")) != event.name.replace("\n", " "):
                raise _of_another_kind("the name of an event", "a text without control characters", event.name)
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
            if _complete(assembled):
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


def _names_used(user_input: ProblemInput, model: Model, found: Quantities, watched: list[Watched]) -> set[str]:
    trees = [each for each in watched if not isinstance(each, NamedFunction)]
    used = names_in(*trees, *model.exact.values()) | set(model.sizes)
    for statement in model.statements:
        sides = [statement.left, statement.right, *(end for r in statement.ranges for end in (r.first, r.last))]
        used |= {mention for side in sides for mention in side.mentions}
    used |= {mention for each in found.parameters.values() if each.formula for mention in each.formula.mentions}
    if user_input.forces:
        used |= model.rates.names()
    return used


def _check_units_belong(user_input: ProblemInput, model: Model) -> None:
    known = [TIME, *model.layout.by_name, *model.derived_layout.by_name, *model.functions, *model.parameters]
    known += [*model.inputs, *model.orders]
    for named in user_input.units:
        if named not in known and base_of(named) not in model.orders:
            raise UnusedValueError(
                f"a unit for '{named}', which is nothing known{near_spelling(named, known)}",
                name=named,
                location="units",
                expected="units of " + listing(known),
                given=named,
            )


def merged_initial(old: Any, new: Mapping[str, Any] | None) -> Any:
    """Return starting values with some of them replaced, whichever way their names are written."""
    if not new:
        return old
    merged = {initial_key(str(key)): value for key, value in (old or {}).items()}
    return {**merged, **{initial_key(str(key)): value for key, value in new.items()}}


def _check_containers(user_input: ProblemInput) -> None:
    """Refuse what is not even of the right kind, before it is looked into.

    Raises
    ------
    ValueGivenError
    """
    by_name: dict[str, Any] = {
        "exact": user_input.exact,
        "units": user_input.units,
        "inputs": user_input.inputs,
        "forces": user_input.forces,
    }
    by_name |= {"derived": user_input.derived}
    for what, given in by_name.items():
        if not isinstance(given, Mapping) or not all(isinstance(name, str) for name in given):
            raise _of_another_kind(what, 'a dict by name, such as {"level": …}', given)
    for what, given in {"units": user_input.units, "forces": user_input.forces}.items():
        for name, text in given.items():
            if not isinstance(text, str) or printable(text) != text:
                raise _of_another_kind(what, f"a plain text for '{name}'", text)
    texts = {
        "title": user_input.title,
        "equations" if user_input.form == "equations" else "the energies": user_input.text,
    }
    for what, given in texts.items():
        if not isinstance(given, str):
            raise _of_another_kind(what, "a text", given)
    if printable(user_input.title) != user_input.title:
        raise _of_another_kind("title", "a text on one line, without control characters", user_input.title)
    if user_input.form == "rates" and not callable(user_input.function):
        raise _of_another_kind("rates", "a function of t, y, p or named states and parameters", user_input.function)
    if user_input.jacobian is not None and not callable(user_input.jacobian):
        raise _of_another_kind("jacobian", "a function", user_input.jacobian)


def _of_another_kind(what: str, expected: str, given: Any) -> ValueGivenError:
    return ValueGivenError(f"{what} cannot be this", name=what, location=what, expected=expected, given=excerpt(given))
