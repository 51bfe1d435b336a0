"""Physical coordinates of indexed states, in place of their indices."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, excerpt, listing
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.formulas.layout import Group
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source
from unhurried_heron.input.values import number_array
from unhurried_heron.run.run import Run

_INDICES = "ijkl"


def coordinates_of(run: Run, group: Group, along: Mapping[str, Any] | None) -> list[tuple[str, Array]]:
    """Return label and coordinates of an indexed state along each of its indices: the indices, unless others are given.

    Parameters
    ----------
    run : Run
    group : Group
        The indexed state.
    along : mapping of str to str or array, or None
        Coordinates of indexed states by name, as `coordinates_of` takes them.

    Returns
    -------
    list[tuple[str, ndarray]]

    Raises
    ------
    OptionError
        What is said is no coordinate of the indexed state.
    """
    plain = ["index"] if len(group.value_box) == 1 else ["first index", "second index"]
    indices = [np.arange(first, last + 1.0) for first, last in group.value_box]
    coordinate = (along or {}).get(group.name)
    if coordinate is None:
        return list(zip(plain, indices, strict=False))
    each = list(coordinate) if isinstance(coordinate, tuple) and len(group.value_box) > 1 else [coordinate]
    if len(each) != len(group.value_box):
        raise _misfit(group, coordinate, f"one coordinate for each of its {len(group.value_box)} indices")
    return [
        _coordinate(run, group, given, k, index) for k, (given, index) in enumerate(zip(each, indices, strict=True))
    ]


def _coordinate(run: Run, group: Group, coordinate: Any, which: int, index: Array) -> tuple[str, Array]:
    """Return label and values of a coordinate that the user gave.

    Parameters
    ----------
    run : Run
    group : Group
    coordinate : str or array_like
    which : int
        Of which index.
    index : ndarray of int64
        The values of that index.

    Returns
    -------
    tuple[str, ndarray]

    Raises
    ------
    OptionError
        It is no coordinate of the indexed state.
    """
    units = run.problem.units
    if isinstance(coordinate, str) and coordinate in run.problem.model.derived_layout.by_name:
        values = np.asarray(run[coordinate], dtype=np.float64)
        values = values[0] if values.ndim == 2 else values
        label = f"{coordinate} [{units[coordinate]}]" if units.get(coordinate) else coordinate
    elif isinstance(coordinate, str):
        written = read(Source(coordinate, f"along, '{group.name}'"))
        name = _INDICES[which]
        unknown = names_in(written.node) - {*run.problem.parameters, name}
        if unknown:
            raise _misfit(group, coordinate, f"an indexed derived quantity, or a formula of {name} and parameters")
        values = np.broadcast_to(evaluate(written.node, {**run.problem.parameters, name: index}), index.shape)
        label = coordinate
    else:
        numbers, label = number_array(coordinate), ""
        if numbers is None:
            raise _misfit(group, coordinate, "a name, a formula, or numbers")
        values = numbers
    way = np.diff(values) if values.ndim == 1 else np.zeros(1)
    if values.shape != index.shape or not np.isfinite(values).all() or not ((way > 0).all() or (way < 0).all()):
        raise _misfit(group, coordinate, f"{index.size} numbers that follow each other")
    return label, values


def _misfit(group: Group, coordinate: Any, expected: str) -> OptionError:
    """Return the error that refuses a coordinate.

    Parameters
    ----------
    group : Group
    coordinate : object
        What was given.
    expected : str
        What was expected.

    Returns
    -------
    OptionError
    """
    return OptionError(f"this is no coordinate of '{group.name}'", name=group.name, location="along", expected=expected,
                       given=excerpt(coordinate))  # fmt: skip


def refuse_unknown(run: Run, along: Any) -> None:
    """Refuse coordinates of what is no indexed state.

    Raises
    ------
    OptionError
    """
    model = run.problem.model
    indexed = [group.name for group in (*model.layout.groups, *model.derived_layout.groups) if group.value_box]
    if along is not None and (not isinstance(along, Mapping) or not set(along) <= set(indexed)):
        raise OptionError("coordinates are given to indexed states by name", name="along", location="draw_states",
                          expected='along={"name": "coordinate"} of ' + (listing(indexed) or "no indexed states"),
                          given=excerpt(along))  # fmt: skip
