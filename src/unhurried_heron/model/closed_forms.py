"""Closed forms of states: read, and held against the starting values that they must begin with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import UnusedValueError, ValueGivenError, as_text, excerpt, listing, near_spelling
from unhurried_heron.formulas.complex_parts import IMAGINARY_UNIT, Parts, parts_of, real_part_only
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import IMAGINARY, TIME, Node, name, number, replace_names
from unhurried_heron.formulas.layout import PART, Layout
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source
from unhurried_heron.formulas.state_name import StateName
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_defined

# A closed form and a starting value that were typed from the same numbers agree far better than this.
_CLOSE: Final = 1e-9


def starting_names(layout: Layout) -> dict[str, int]:
    """Return by which names closed forms may call starting values: ``level_0``, and ``z_prime_0`` for z'."""
    known = {**layout.scalars, **{part: index for pair in _pairs(layout).values() for part, index in pair.items()}}
    return {StateName.read(name).spoken + "_0": index for name, index in known.items()}


def _pairs(layout: Layout) -> dict[str, dict[str, int]]:
    """Return the parts of complex states that are no arrays, each with its index, by the name of the state."""
    alone = [group for group in layout.groups if group.complex and not group.value_box]
    return {group.name: {part: layout.offsets[group.name] + k for k, part in enumerate(group.members())}
            for group in alone}  # fmt: skip


def read_closed_forms(
    exact: Mapping[str, str] | None,
    layout: Layout,
    parameters: Mapping[str, Any] | tuple[str, ...],
    collector: ErrorCollector,
) -> dict[str, Node]:
    """Read closed forms of states in terms of time, parameters and starting values; of complex ones, of their parts.

    Parameters
    ----------
    exact : Mapping[str, str] or None
    layout : Layout
        Of the states.
    parameters : iterable of str
        Their names.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    dict[str, Node]

    Raises
    ------
    UnusedValueError, UndefinedNameError, ExpressionError, ValueGivenError
    """
    formulas = {}
    for key, text in (exact or {}).items():
        with collector.gathering():
            if not isinstance(key, str) or (layout.slot(key) is None and layout.pair(key) is None):
                raise UnusedValueError(
                    f"a closed form for '{key}', which is no state{near_spelling(str(key), layout.by_name)}",
                    name=str(key),
                    location="exact",
                    expected="closed forms of " + listing(layout.by_name),
                    given=as_text(key),
                )
            if not isinstance(text, str):
                raise ValueGivenError(
                    f"the closed form of '{key}' is no formula",
                    name=key,
                    location="exact",
                    expected='a text such as "level_0*exp(-k*t)"',
                    given=excerpt(text),
                )
            formulas[key] = read(Source(text, f"the closed form of '{key}'"))
    starts = {StateName.read(name).spoken + "_0": pair for name, pair in _pairs(layout).items()}
    unit = (IMAGINARY,) if layout.has_complex and IMAGINARY not in parameters else ()
    with collector.gathering():
        check_defined(formulas, [*parameters, *starting_names(layout), *starts, *unit], "closed forms")

    def parts(node: Node) -> Parts | None:
        named = str(node.args[0])
        if named in unit:
            return IMAGINARY_UNIT
        if named not in starts:
            return None
        real, imaginary = (name(f"{part}_0") for part in starts[named])
        return real, imaginary

    found: dict[str, Node] = {}
    for key, formula in formulas.items():
        with collector.gathering():
            if layout.pair(key) is None:
                found[key] = real_part_only(formula.node, parts, f"the closed form of '{key}'")
            else:
                found |= zip((f"re({key})", f"im({key})"), parts_of(formula.node, parts), strict=True)
    return found


def with_starting_values(node: Node, layout: Layout, parameters: Mapping[str, Any], start: Any) -> Node:
    """Put the starting values in place of their names.

    Parameters
    ----------
    node : Node
    layout : Layout
        Of the states.
    parameters : mapping of str to float
    start : ndarray, shape (n_states,)
        Starting values.

    Returns
    -------
    Node
    """
    names = {name: index for name, index in starting_names(layout).items() if name not in parameters}
    return replace_names(node, lambda text: number(start[names[text]]) if text in names else None, {})


def misfits(
    exact: Mapping[str, Node], layout: Layout, values: Mapping[str, float], start: Any, time: float
) -> dict[str, tuple[float, float]]:
    """Return the closed forms that do not begin with the starting value of their state: what both are, by state.

    Parameters
    ----------
    exact : Mapping[str, Node]
    layout : Layout
        Of the states.
    values : mapping of str to float
        Values of parameters by name.
    start : ndarray, shape (n_states,)
        Starting values.
    time : float
        In the unit of the problem's time.

    Returns
    -------
    dict[str, tuple[float, float]]
    """
    found = {}
    for key, node in exact.items():
        index = layout.slot(key)
        if index is None or not np.isfinite(start[index]):
            continue
        formula = with_starting_values(node, layout, values, start)
        try:
            with np.errstate(all="ignore"):
                begins = float(evaluate(formula, {**values, TIME: time}))
        except KeyError:
            # a parameter is still open
            continue
        size = max(abs(begins), abs(start[index]), 1e-300)
        if not abs(begins - start[index]) <= _CLOSE * size and not abs(begins - start[index]) < 1e-14:
            found[key] = (begins, float(start[index]))
    return found


def refuse_misfits(found: Mapping[str, tuple[float, float]], collector: ErrorCollector) -> None:
    """Refuse closed forms of another start.

    Raises
    ------
    ValueGivenError
    """
    for key, (begins, start) in found.items():
        part = PART.match(key)
        named = part["inside"] if part else key
        with collector.gathering():
            raise ValueGivenError(
                f"the closed form of '{key}' does not begin with its starting value",
                name=key,
                location=f"exact, '{key}'",
                expected=f"{start:.10g} at the start, its initial value (a closed form may name it: {named}_0)",
                given=f"{begins:.10g}",
            )
