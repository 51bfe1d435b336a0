"""Everything a problem's words come to: its model, the values of parameters and states, the interval, the units."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from typing import Any

import numpy as np

from unhurried_heron.errors import (
    NameClashError,
    ValueGivenError,
)
from unhurried_heron.formulas.expression import TIME, names_in
from unhurried_heron.formulas.layout import Group, Layout, Values
from unhurried_heron.formulas.state_name import group_of, with_primes
from unhurried_heron.input.definitions import Definition, parameter_values, read_parameters
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.input_field import by_name
from unhurried_heron.input.problem_input import FIELDS, ProblemInput
from unhurried_heron.input.starting_values import initial_key, initial_values, read_initial
from unhurried_heron.input.values import refuse_unused
from unhurried_heron.model.closed_forms import misfits, refuse_misfits
from unhurried_heron.model.complex_states import complex_starts
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.formulate import formulate
from unhurried_heron.model.function_model import rate_model
from unhurried_heron.model.function_trials import try_value
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.model.model import Model, Watched
from unhurried_heron.problem.input_checks import check_input, check_units_belong
from unhurried_heron.problem.invariants import refuse_unknown
from unhurried_heron.problem.starting_state import meeting_constraints
from unhurried_heron.problem.watched_events import is_complete, watched_events
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


def assemble(user_input: ProblemInput, collector: ErrorCollector, model: Model | None = None) -> AssembledProblem:
    """Work out what was said.

    Parameters
    ----------
    user_input : ProblemInput
    collector : ErrorCollector
        Gathers what is wrong.
    model : Model, optional
        One made before of the same equations: it is used again if the sizes of indexed states are the same.

    Returns
    -------
    AssembledProblem

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    user_input.check_kinds()
    parameters = read_parameters(user_input.parameters, collector)
    initial = read_initial(user_input.initial, collector)
    guess = {key: each for key, each in read_initial(user_input.guess, collector).items() if key not in initial}
    found = read_quantities(parameters, {**initial, **guess}, user_input.interval, user_input.units, collector)
    known_values = parameter_values(found.parameters, collector)
    values = {name: known_values[name] for name in parameters if name in known_values}
    left_open = tuple(name for name, each in parameters.items() if each.is_open)
    for name, table in user_input.inputs.items():
        with collector.gathering():
            check_input(name, table, found.interval)
    copied = model is not None
    if model is not None and not all(values.get(name) == value for name, value in model.sizes.items()):
        model = None
    if model is None:
        model = _model(user_input, values, tuple(parameters), found, collector)
    # an open parameter may be used, but has no value yet
    known = {**dict.fromkeys(parameters), **values}
    solved, n = (model.made_by(Constraints) or Constraints()).solved, model.layout.size
    held = np.flatnonzero(model.mass.sizes(n) == 0.0) if model.mass is not None else np.empty(0, dtype=np.int64)
    start, needed = initial_values(
        {key: each for key, each in found.initial.items() if key not in solved},
        model.layout,
        known,
        collector,
        imaginary=model.complex_states.imaginary,
        constrained=held,
        may_miss=held.size + model.n_manifold,
    )
    definitions = {**found.parameters, **found.initial}
    units = _with_derivative_units(found.units, model.orders, model.layout)
    assembled = AssembledProblem(
        model, values, left_open, Values(model.layout, start), found.interval, units, definitions
    )
    # what a function returns is known from its first call, which is the trial
    tried = is_complete(assembled) and not model.rates.written
    if tried:
        assembled = replace(assembled, model=_after_first_calls(model, assembled, collector))
    if is_complete(assembled) or ((held.size or model.manifold) and not left_open):
        with collector.gathering():
            assembled = meeting_constraints(user_input, assembled, initial.keys(), guess.keys())
    if is_complete(assembled) and not tried:
        assembled = replace(assembled, model=_after_first_calls(model, assembled, collector))
    watched = watched_events(user_input.events, assembled, collector)
    # A changed copy may leave a parameter unused.
    if not copied and model.rates.written:
        used = _names_used(user_input, assembled.model, found.parameters, watched) | needed
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
        check_units_belong(user_input, assembled.model)
    refuse_misfits(misfits(model.exact, model.layout, values, start, found.interval[0]), collector)
    return assembled


def reassemble(
    user_input: ProblemInput, before: AssembledProblem, changed: Collection[str]
) -> tuple[ProblemInput, AssembledProblem, dict[str, tuple[float, float]]]:
    """Work out changed words; closed forms that no longer begin as their states do are dropped, and told.

    Where the structure changes, closed forms belong to it, and are refused where they do not fit.

    Parameters
    ----------
    user_input : ProblemInput
        As changed.
    before : AssembledProblem
    changed : collection of str
        The fields that changed.

    Returns
    -------
    (ProblemInput, AssembledProblem, dict)
        The words without closed forms that were dropped, what they come to, and of each of those dropped with what it
        begins and with what its state does.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    exact = before.model.exact
    structure = any(FIELDS[name].structure for name in changed)
    if structure or not exact:
        return user_input, assemble(user_input, ErrorCollector(), None if structure else before.model), {}
    made = assemble(replace(user_input, exact={}), ErrorCollector(), replace(before.model, exact={}))
    wrong = misfits(exact, made.model.layout, made.values, made.initial.array, made.interval[0])
    kept = {key: node for key, node in exact.items() if key not in wrong and made.model.layout.slot(key) is not None}
    user_input = replace(user_input, exact={key: text for key, text in user_input.exact.items() if key in kept})
    return user_input, replace(made, model=replace(made.model, exact=kept)), wrong


def _with_derivative_units(units: Mapping[str, str], orders: Mapping[str, int], layout: Layout) -> dict[str, str]:
    """Add the units of derivatives that are states, z in m and t in s give z' in m/s, and of parts of complex ones.

    Parameters
    ----------
    units : mapping of str to str
        Units by name.
    orders : mapping of str to int
        How many derivatives of each are states, itself included.
    layout : Layout

    Returns
    -------
    dict of str to str
    """
    found, time = dict(units), units.get(TIME, "")
    for group in layout.groups:
        if group.complex and units.get(group.name):
            found |= dict.fromkeys(group.members(), units[group.name])
    for base, order in orders.items():
        for k in range(1, order):
            if time and units.get(base):
                found.setdefault(with_primes(base, k), f"{units[base]}/{time}" + (f"^{k}" if k > 1 else ""))
    return found


def _model(
    user_input: ProblemInput,
    values: Mapping[str, float],
    parameters: tuple[str, ...],
    found: Quantities,
    collector: ErrorCollector,
) -> Model:
    """Formulate the model of what was said.

    Parameters
    ----------
    user_input : ProblemInput
    values : mapping of str to float
        Values of parameters by name.
    parameters : tuple of str
        Their names.
    found : Quantities
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Model

    Raises
    ------
    NameClashError
        One of its subclasses.
    """
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
    complex_states = complex_starts(found.initial, parameters)
    groups: list[Group] = []
    for name, each in found.initial.items():
        shape = np.shape(each.value) if isinstance(each.value, np.ndarray) else ()
        box = tuple((1, length) for length in shape)
        groups.append(Group(name, (*box, (1, 2)), complex=True) if name in complex_states else Group(name, box))
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


def _after_first_calls(model: Model, assembled: AssembledProblem, collector: ErrorCollector) -> Model:
    """Call every function once at the start, if that was not done before.

    Parameters
    ----------
    model : Model
    assembled : AssembledProblem
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Model
    """
    time, start = assembled.interval[0], assembled.initial
    numbers = [assembled.values[name] for name in model.parameters]
    rates = model.rates.tried(time, start, numbers, collector)
    if rates is model.rates:
        return model
    for function in model.functions.values():
        with collector.gathering():
            try_value(function, time, start, numbers)
    return replace(model, rates=rates)


def without_unused(user_input: ProblemInput, assembled: AssembledProblem) -> ProblemInput:
    """Return the words without parameters that nothing uses any more, as a changed copy may have some."""
    model, definitions = assembled.model, assembled.definitions
    watched = watched_events(user_input.events, assembled, ErrorCollector())
    called = any(event.called for event in user_input.events) or any(
        isinstance(each, NamedFunction) for each in watched
    )
    if not model.rates.written or called:
        return user_input
    written, labels = by_name(user_input.parameters), by_name(user_input.units)
    left = {name: definitions[name] for name in written}
    starts = [definitions[name].formula for name in definitions.keys() - left.keys()]
    needed = {mention for formula in starts if formula for mention in formula.mentions}
    while unused := left.keys() - needed - _names_used(user_input, model, left, watched):
        left = {name: each for name, each in left.items() if name not in unused}
    gone = written.keys() - left.keys()
    parameters, units = (
        {name: each for name, each in values.items() if name not in gone} for values in (written, labels)
    )
    return replace(user_input, parameters=parameters, units=units) if gone else user_input


def _names_used(
    user_input: ProblemInput, model: Model, parameters: Mapping[str, Definition], watched: list[Watched]
) -> set[str]:
    """Return the names that equations, events and questions use.

    Parameters
    ----------
    user_input : ProblemInput
    model : Model
    parameters : mapping of str to Definition
    watched : list[Watched]

    Returns
    -------
    set[str]
    """
    trees = [each for each in watched if not isinstance(each, NamedFunction)]
    used = names_in(*trees, *model.exact.values()) | set(model.sizes)
    for statement in model.statements:
        sides = [statement.left, statement.right, *(end for r in statement.ranges for end in (r.first, r.last))]
        used |= {mention for side in sides for mention in side.mentions}
    used |= {mention for each in parameters.values() if each.formula for mention in each.formula.mentions}
    if user_input.forces:
        used |= model.rates.names()
    if user_input.constraints:
        used |= names_in(*(each.node for each in model.manifold))
    return used


def merged_initial(old: Any, new: Mapping[str, Any] | None) -> Any:
    """Return starting values with some of them replaced, whichever way their names are written."""
    if not new:
        return old
    given = {initial_key(str(key)): value for key, value in new.items()}
    before = {initial_key(str(key)): value for key, value in (old or {}).items()}
    # of an array, later values are laid over earlier ones, and values of single indices over the whole
    kept = {key: value for key, value in before.items() if key not in given and group_of(key) not in given}
    return {**kept, **given}
