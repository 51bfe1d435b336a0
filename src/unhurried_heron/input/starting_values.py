"""The starting values of states, as numbers, quantities, arrays or formulas."""

from __future__ import annotations

import cmath
import math
import numbers
import re
from collections.abc import Iterable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.errors import (
    ExpressionError,
    MissingInitialError,
    UnusedValueError,
    ValueGivenError,
    excerpt,
    listing,
    near_spelling,
)
from unhurried_heron.formulas.complex_parts import IMAGINARY_UNIT, Parts, asks_for_parts, parts_of
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import IMAGINARY, TIME, ZERO, Node
from unhurried_heron.formulas.layout import PART, Group, Layout
from unhurried_heron.formulas.notation import PRIMES, count_primes, in_one_spelling
from unhurried_heron.formulas.source import Formula
from unhurried_heron.formulas.state_name import StateName, base_of, group_of, with_primes
from unhurried_heron.input.definitions import Definition, read_definition, values_by_name
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_defined, check_name
from unhurried_heron.input.values import complex_array, has_complex, number_array

_INDEXED: Final = re.compile(r"(?P<name>\w+)(?P<primes>['′-‴]*)\s*\[(?P<inside>[^\[\]]*)\](?P<more>['′-‴]*)$")


def read_initial(raw: Any, collector: ErrorCollector) -> dict[str, Definition]:
    """Read the starting values by the names of states, indexed states or members of indexed states.

    Raises
    ------
    ValueGivenError, ExpressionError, NameClashError
    """
    found = {}
    for name, value in values_by_name(raw, "initial", collector).items():
        with collector.gathering():
            key = initial_key(str(name))
            if isinstance(value, list | tuple | np.ndarray):
                found[key] = Definition(_array(value, key))
            else:
                found[key] = _complex_number(value, key) or read_definition(value, key, "initial")
                if found[key].is_open:
                    raise ValueGivenError(
                        f"the value of '{key}' is not a number",
                        name=key,
                        location="initial",
                        expected="a number, or a formula of parameters, which may be open",
                        given=excerpt(value),
                    )
    return found


def _complex_number(value: Any, key: str) -> Definition | None:
    """Return what a complex number says; None of anything else."""
    if not isinstance(value, numbers.Complex) or isinstance(value, numbers.Real):
        return None
    if not cmath.isfinite(complex(value)):
        raise ValueGivenError(f"the value of '{key}' is not finite", name=key, location="initial",
                              expected="a finite number", given=excerpt(value))  # fmt: skip
    return Definition(complex(value))


def initial_key(name: str) -> str:
    """Return the name of a state with its primes and indices in our own way of writing."""
    name = in_one_spelling(name)
    part = PART.match(name)
    if part:
        return f"{part['part']}({initial_key(part['inside'])})"
    indexed = _INDEXED.match(name)
    if indexed:
        check_name(indexed["name"], "initial")
        primes = count_primes(indexed["primes"]) + count_primes(indexed["more"])
        return StateName(indexed["name"], primes, indexed["inside"].replace(" ", "")).text
    plain = PRIMES.sub("", name)
    check_name(plain, "initial")
    return with_primes(plain, count_primes(name))


def _array(value: Any, name: str) -> Any:
    array = complex_array(value) if has_complex(value) else number_array(value)
    if array is None or not array.ndim or not np.isfinite(array).all():
        raise ValueGivenError(
            f"the values of '{name}' are not all finite numbers",
            name=name,
            location="initial",
            expected="an array of finite numbers",
            given=excerpt(value),
        )
    return array


def initial_values(
    definitions: Mapping[str, Definition],
    layout: Layout,
    values: Mapping[str, float | None],
    collector: ErrorCollector,
    *,
    imaginary: bool = False,
    constrained: IntArray | None = None,
    may_miss: int = 0,
) -> tuple[Any, set[str]]:
    """Return the starting values of all states, NaN where a parameter is still open, and the parameters they need.

    As many may be missing as there are constraints; they are NaN, too.

    Parameters
    ----------
    definitions : Mapping[str, Definition]
    layout : Layout
        Of the states.
    values : mapping of str to float or None
        Values of parameters; None where they are open.
    collector : ErrorCollector
        Gathers what is wrong.
    imaginary : bool, optional
        Whether ``i`` is the imaginary unit.
    constrained : ndarray of int64, optional
        Indices of the algebraic states.
    may_miss : int, optional
        How many constraints there are.

    Returns
    -------
    (ndarray, set of str)

    Raises
    ------
    MissingInitialError, UnusedValueError, UndefinedNameError, ValueGivenError
    """
    array, given = np.full(layout.size, np.nan), np.zeros(layout.size, dtype=bool)
    needed: set[str] = set()
    extra = []
    # what is said of a whole indexed state first, of single members afterwards
    for key in sorted(definitions, key=lambda key: key not in layout.by_name and "[" in key):
        definition = definitions[key]
        with collector.gathering():
            members, indices = _slice_of(key, layout)
            if members is None:
                extra.append(key)
                continue
            given[members] = True
            if definition.formula is None:
                array[members] = _fitted(definition.value, layout, key)
                continue
            unit = (IMAGINARY,) if imaginary and IMAGINARY not in indices else ()
            check_defined({key: definition.formula}, [*values, *indices, *_open(values), *unit], "initial values")
            mentions = set(definition.formula.mentions) - {*indices, *unit}
            needed |= mentions
            if TIME in mentions:
                raise ExpressionError(
                    f"the initial value of '{key}' depends on the time",
                    name=key,
                    location=definition.formula.source.location,
                    expected="a formula of parameters",
                    given=definition.formula.source.text[:80],
                )
            if mentions <= {name for name, value in values.items() if value is not None}:
                array[members] = _formula_value(definition.formula, key, layout, indices, values)
    with collector.gathering():
        if int((~given).sum()) > may_miss:
            if constrained is not None:
                given[constrained] = True
            _refuse_missing(layout, given, definitions)
    with collector.gathering():
        _refuse_extra(layout, extra, definitions)
    return array, needed


def told_by(keys: Iterable[str], layout: Layout) -> Any:
    """Return which states have a value by some keys, an array of booleans, shape (n_states,)."""
    found = np.zeros(layout.size, dtype=bool)
    for key in keys:
        members, _ = _slice_of(key, layout)
        if members is not None:
            found[members] = True
    return found


def _open(values: Mapping[str, Any]) -> Iterable[str]:
    return [name for name, value in values.items() if value is None]


def _slice_of(key: str, layout: Layout) -> tuple[slice | None, tuple[str, ...]]:
    """Return the indices a key speaks of, and the names of its indices."""
    index = layout.slot(key)
    if index is not None:
        return slice(index, index + 1), ()
    pair = layout.pair(key)
    if pair is not None:
        return slice(pair, pair + 2), ()
    if key in layout.by_name:
        return layout.slice_of(key), ()
    name, indices = group_of(key), StateName.read(key).indices
    group = layout.by_name.get(name)
    if (
        indices
        and group is not None
        and len(indices) == len(group.value_box)
        and all(i.isidentifier() for i in indices)
    ):
        return layout.slice_of(name), indices
    return None, ()


def _fitted(value: Any, layout: Layout, key: str) -> Any:
    """Return what was given for a state in its shape.

    Parameters
    ----------
    value : float or array_like
    layout : Layout
        Of the states.
    key : str
        How the user named it.

    Returns
    -------
    float or ndarray

    Raises
    ------
    ValueGivenError
        It has another shape, or is no number.
    """
    group: Group | None = layout.by_name.get(key)
    is_complex = layout.slot(key) is None and layout.by_name[group_of(key)].complex
    if isinstance(value, np.ndarray):
        wanted = group.value_shape if group else ()
        if value.shape != wanted and value.shape != (math.prod(wanted),):
            raise ValueGivenError(
                f"the array of '{key}' has another shape than the indexed state",
                name=key,
                location="initial",
                expected=str(wanted) if wanted else "one number",
                given=str(value.shape),
            )
    values = np.asarray(value, dtype=np.complex128 if is_complex else np.float64).ravel()
    members = layout.slice_of(key) if group else None
    if is_complex and members is not None and values.size == 1:
        values = np.repeat(values, (members.stop - members.start) // 2)
    return values.view(np.float64)


def _formula_value(
    formula: Formula, key: str, layout: Layout, indices: tuple[str, ...], values: Mapping[str, Any]
) -> Any:
    """Return the starting values that a formula gives.

    Parameters
    ----------
    formula : Formula
    key : str
        How the user named it.
    layout : Layout
        Of the states.
    indices : tuple of str
        Names of the loop indices.
    values : mapping of str to float or ndarray
        Values by name.

    Returns
    -------
    float or ndarray

    Raises
    ------
    ValueGivenError
        It has no finite value.
    """
    group = layout.by_name.get(group_of(key))
    grids: dict[str, Any] = {}
    if indices and group is not None:
        ranges = [np.arange(first, last + 1.0) for first, last in group.value_box]
        grids = dict(zip(indices, np.meshgrid(*ranges, indexing="ij"), strict=True))
    known = {**values, **grids}
    is_complex = layout.slot(key) is None and group is not None and group.complex

    def unit(node: Node) -> Parts | None:
        return IMAGINARY_UNIT if node.args[0] == IMAGINARY and IMAGINARY not in known else None

    parts = parts_of(formula.node, unit) if is_complex or asks_for_parts(formula.node) else (formula.node, ZERO)
    found = np.asarray(evaluate(parts[0], known), dtype=np.float64)
    if is_complex:
        found = found + 1j * np.asarray(evaluate(parts[1], known), dtype=np.float64)
    if not np.isfinite(found).all():
        raise ValueGivenError(
            f"the initial value of '{key}' is not finite",
            name=key,
            location=formula.source.location,
            expected="a formula with a finite value",
            given=formula.source.text[:80],
        )
    if group is not None and layout.slot(key) is None:
        wanted = group.value_shape if layout.pair(key) is None else ()
        found = np.broadcast_to(found, wanted).ravel()
    return found.view(np.float64) if is_complex else found


def _refuse_missing(layout: Layout, given: Any, definitions: Mapping[str, Definition]) -> None:
    """Refuse states without a starting value.

    Parameters
    ----------
    layout : Layout
        Of the states.
    given : iterable of str
        What was given.
    definitions : Mapping[str, Definition]

    Raises
    ------
    MissingInitialError
        All of them are named.
    """
    if given.all():
        return
    indices = np.flatnonzero(~given)
    intervals = {group.name: (layout.offsets[group.name], group.size) for group in layout.groups}
    missing = [
        name for name, (begin, size) in intervals.items() if ((indices >= begin) & (indices < begin + size)).any()
    ]
    extra = [key for key in definitions if _slice_of(key, layout)[0] is None]
    hint = near_spelling(missing[0], extra)
    shown = [f"{name}[…]" if layout.by_name[name].box else name for name in missing]
    raise MissingInitialError(
        "no initial value for " + listing(shown, quoted=True) + hint,
        name=listing(missing),
        location="initial",
        expected="one value for each state: " + listing(group.name for group in layout.groups),
        given=listing(definitions) or "none",
    )


def _refuse_extra(layout: Layout, extra: list[str], definitions: Mapping[str, Definition]) -> None:
    """Refuse starting values of what is no state.

    Parameters
    ----------
    layout : Layout
        Of the states.
    extra : list of str
        Their names.
    definitions : Mapping[str, Definition]

    Raises
    ------
    UnusedValueError
        All of them are named.
    """
    if not extra:
        return
    known = [group.name for group in layout.groups]
    derivatives = [name for name in known if base_of(name) == base_of(extra[0])]
    hint = f"; the states are {', '.join(derivatives)}" if derivatives else near_spelling(extra[0], known)
    raise UnusedValueError(
        "an initial value for " + listing(extra, quoted=True) + f", which is no state{hint}",
        name=listing(extra),
        location="initial",
        expected="values for the states only: " + listing(known),
        given=listing(definitions),
    )
