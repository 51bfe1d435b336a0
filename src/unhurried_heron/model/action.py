"""What an event changes: states and parameters, by formulas that are all taken before anything changes."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.deadline import check_deadline
from unhurried_heron.errors import NameClashError, RateFunctionError, UnusedValueError, excerpt, listing, near_spelling
from unhurried_heron.formulas.expression import ONE, ZERO, Node, number, replace_names
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.formulas.state_name import StateName, with_primes
from unhurried_heron.input.definitions import QUANTITY
from unhurried_heron.input.equation_lines import EquationLine, read_statements
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.names import check_defined
from unhurried_heron.model.functions import NamedFunction, match_arguments
from unhurried_heron.model.indices import affine
from unhurried_heron.model.model import Model
from unhurried_heron.units.quantities import number_for

# Members that one assignment over an index may change.
_MAX_CHANGES: Final = 100_000


@dataclass(frozen=True)
class Action:
    """Assignments in words, resolved.

    Attributes
    ----------
    states : tuple of int
        Places of the states that change.
    parameters : tuple of str
        The parameters that change.
    nodes : tuple of Node
        Their new values, states first.
    """

    states: tuple[int, ...]
    parameters: tuple[str, ...]
    nodes: tuple[Node, ...]


@dataclass(frozen=True)
class FunctionAction:
    """A function that returns a dict of what changes.

    ``function`` returns an array instead: all states and all parameters, NaN where one stays as it is.
    """

    function: NamedFunction


Acting = Action | FunctionAction
_ASSIGNMENT: Final = re.compile(r"(?m)^(?P<left>[^=\n]*)=(?P<right>[^=\n]*?)(?P<loop>\s+for\b[^=\n]*)?$")


def action_of(model: Model, event: Event, units: Mapping[str, str]) -> Acting | None:
    """Return what an event changes; None where it changes nothing.

    Parameters
    ----------
    model : Model
    event : Event
    units : mapping of str to str
        Units by name.

    Returns
    -------
    Acting or None

    Raises
    ------
    ExpressionError, UndefinedNameError, UnusedValueError, NameClashError, RateFunctionError
    """
    if event.then is None:
        return None
    if callable(event.then):
        return _function_action(event.then, model)
    if event.called:
        # its functions may have no hash
        return _read(model, event, units)
    found: Acting = model.remembered(("then", event, *units.items()), lambda: _read(model, event, units))
    return found


def _read(model: Model, event: Event, units: Mapping[str, str]) -> Action:
    """Read the assignments of an event.

    Parameters
    ----------
    model : Model
    event : Event
    units : mapping of str to str
        Units by name.

    Returns
    -------
    Action

    Raises
    ------
    NameClashError
        An assignment is of no state or parameter.
    """
    location = f"what the event '{event.name}' changes"
    states: dict[int, Node] = {}
    parameters: dict[str, Node] = {}
    for statement in assignments(event, units, model):
        check_deadline()
        check_defined(
            {location: statement.right}, [*model.known, *(each.index for each in statement.ranges)], "an event"
        )
        for target, node in _written_out(model, statement, location):
            known: dict[Any, Node] = states if isinstance(target, int) else parameters
            if target in known:
                raise NameClashError("an event changes the same thing twice", name=statement.text, location=location,
                                     expected="one new value for each", given=statement.text)  # fmt: skip
            known[target] = node
    return Action(tuple(states), tuple(parameters), (*states.values(), *parameters.values()))


def assignments(event: Event, units: Mapping[str, str], model: Model) -> list[EquationLine]:
    """Read the assignments of an event, quantities on their right sides turned into plain numbers.

    Parameters
    ----------
    event : Event
    units : mapping of str to str
        Units by name.
    model : Model

    Returns
    -------
    list[EquationLine]
    """
    text, location = event.assignments, f"what the event '{event.name}' changes"
    indexed = {group.name for group in model.layout.groups}

    def plain(match: re.Match[str]) -> str:
        quantity = QUANTITY.match(match["right"])
        if quantity is None:
            return match[0]
        value = number_for(float(quantity["number"]), quantity["unit"].strip(), match["left"].strip(), units, indexed,
                           location)  # fmt: skip
        return f"{match['left']}= {value!r}{match['loop'] or ''}"

    return read_statements(_ASSIGNMENT.sub(plain, text), ErrorCollector(), location, timed=True)


def condition(model: Model, event: Event) -> Node | NamedFunction | None:
    """Return the condition under which an event happens, nonzero where it holds; None where there is none.

    Raises
    ------
    ExpressionError, UndefinedNameError, RateFunctionError
    """
    if event.only_if is None:
        return None
    if callable(event.only_if):
        return match_arguments(event.only_if, model.layout, model.parameters)
    location = f"the condition of the event '{event.name}'"
    written = read(Source(event.only_if, location))
    check_defined({location: written}, model.known, "an event")
    return Node("where", model.written_out(written.node, location), ONE, ZERO)


def modes_of(model: Model, events: tuple[Event, ...], units: Mapping[str, str]) -> tuple[str, ...]:
    """Return the parameters that events change; of a function it is not known beforehand: all of them.

    Parameters
    ----------
    model : Model
    events : tuple[Event, ...]
    units : mapping of str to str
        Units by name.

    Returns
    -------
    tuple of str
    """
    found: dict[str, None] = {}
    for event in events:
        action = action_of(model, event, units)
        if action is not None:
            found |= dict.fromkeys(model.parameters if isinstance(action, FunctionAction) else action.parameters)
    return tuple(name for name in model.parameters if name in found)


def _written_out(model: Model, statement: EquationLine, location: str) -> list[tuple[int | str, Node]]:
    """Return the indices of states, or the parameter, that a statement changes, each with its formula.

    Parameters
    ----------
    model : Model
    statement : EquationLine
        The assignment.
    location : str
        Where this was said, for messages.

    Returns
    -------
    list[tuple[int | str, Node]]

    Raises
    ------
    UnusedValueError
        It names no state, or one twice.
    """
    target = statement.target
    if target is None:
        raise UnusedValueError("an event changes a state or a parameter", name=statement.text, location=location,
                               expected='"name = formula"', given=statement.text)  # fmt: skip
    label = with_primes(target.name, target.primes)
    if label in model.parameters and not target.indices:
        if label in model.sizes:
            raise UnusedValueError(f"'{label}' is the size of an indexed state, which cannot change during a run",
                                   name=label, location=location, expected="another parameter, or a state",
                                   given=label)  # fmt: skip
        return [(label, _single(model, statement.right, {}, location))]
    group = model.layout.by_name.get(label)
    if group is None or len(group.value_box) != len(target.indices):
        known = [*model.layout.by_name, *model.parameters]
        indexed = f" ({label} is an indexed state: say {label}[1], or {label}[i] … for i in 1..n)" if group else ""
        raise UnusedValueError(f"an event cannot change '{label}'{near_spelling(label, known)}{indexed}", name=label,
                               location=location, expected="a state or a parameter: " + listing(known[:20]),
                               given=statement.text)  # fmt: skip
    spans = [_ends(model, each.first.node, each.last.node, location) for each in statement.ranges]
    if math.prod(map(len, spans)) > _MAX_CHANGES:
        raise UnusedValueError("an event changes too much in one line", name=label, location=location,
                               expected=f"at most {_MAX_CHANGES:,} members, or a function that returns an array",
                               given=statement.text)  # fmt: skip
    out: list[tuple[int | str, Node]] = []
    for turn in itertools.product(*spans):
        indices = {each.index: number(float(value)) for each, value in zip(statement.ranges, turn, strict=True)}
        members = [
            affine(replace_names(index, indices.get, {}), model.resolver.constants, location)[0]
            for index in target.indices
        ]
        name = f"{label}[{','.join(map(str, members))}]" if members else label
        slots = model.layout.indices_of(name)
        if not slots:
            raise UnusedValueError(f"there is no '{name}' to change", name=name, location=location,
                                   expected=listing([*group.values()][:8]), given=statement.text)  # fmt: skip
        if len(slots) == 1:
            out.append((slots[0], _single(model, statement.right, indices, location)))
        else:
            node = replace_names(statement.right.node, indices.get, {})
            out += zip(slots, model.parts_written_out(node, location), strict=True)
    return out


def _ends(model: Model, first: Node, last: Node, location: str) -> range:
    """Return the range that the ends of an index span.

    Parameters
    ----------
    model : Model
    first : Node
    last : Node
    location : str
        Where this was said, for messages.

    Returns
    -------
    range
    """
    constants = model.resolver.constants
    return range(affine(first, constants, location)[0], affine(last, constants, location)[0] + 1)


def _single(model: Model, written: Formula, indices: Mapping[str, Node], location: str) -> Node:
    """Return the right side of an assignment, its indices replaced.

    Parameters
    ----------
    model : Model
    written : Formula
    indices : mapping of str to Node
        The value of each loop index.
    location : str
        Where this was said, for messages.

    Returns
    -------
    Node
    """
    node = replace_names(written.node, indices.get, {}) if indices else written.node
    return model.written_out(node, location)


def _function_action(given: Callable[..., Any], model: Model) -> FunctionAction:
    """Return a function whose answers are arrays, of one whose answers are dicts."""
    matched = match_arguments(given, model.layout, model.parameters)
    label, layout = matched.label, model.layout
    size = layout.size + len(model.parameters)
    indices = {name: layout.size + index for index, name in enumerate(model.parameters)}
    # z' cannot be said as a keyword: it may be called z_prime, as among the arguments
    primed = {StateName.read(name).spoken: name for name in layout.by_name if StateName.read(name).primes}

    def changed(*arguments: Any) -> Any:
        answer = given(*arguments)
        values = np.full(size, np.nan)
        if answer is None:
            return values
        if not isinstance(answer, Mapping):
            raise _unusable(label, "a dict of what changes, or None", excerpt(answer))
        for name, value in answer.items():
            key = primed.get(str(name), str(name))
            own = layout.indices_of(key)
            index: Any = indices.get(key, own[0] if len(own) == 1 else layout.slice_of(key))
            index = slice(own[0], own[-1] + 1) if index is None and own else index
            is_complex = len(own) == 2 or (key in layout.by_name and layout.by_name[key].complex)
            if index is None or key in model.sizes:
                raise _unusable(label, "states and parameters by name: "
                                + listing([*list(layout.by_name)[:12], *model.parameters]), repr(name))  # fmt: skip
            try:
                kind = np.complex128 if is_complex else np.float64
                numbers = np.asarray(value, dtype=kind).ravel().view(np.float64)
                values[index] = numbers if isinstance(index, slice) else numbers.item()
            except (TypeError, ValueError):
                raise _unusable(label, f"a number for '{name}'", excerpt(value)) from None
            if not np.isfinite(values[index]).all():
                raise _unusable(label, f"a finite number for '{name}'", excerpt(value))
        return values

    changed.__name__ = getattr(given, "__name__", "then")
    return FunctionAction(NamedFunction(changed, matched.arguments, matched.layout, matched.parameters))


def _unusable(label: str, expected: str, given: str) -> RateFunctionError:
    """Return the error that refuses what a function returned.

    Parameters
    ----------
    label : str
        Of the function.
    expected : str
        What was expected.
    given : str
        What was given.

    Returns
    -------
    RateFunctionError
    """
    return RateFunctionError(f"{label} returned something that an event cannot do", name=label, location=label,
                             expected=expected, given=given)  # fmt: skip
