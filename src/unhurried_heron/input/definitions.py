"""Values of parameters, states and ends of the interval: numbers, quantities with units, formulas, or left open."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import (
    ExpressionError,
    MissingInitialError,
    UnusedValueError,
    ValueGivenError,
    excerpt,
    listing,
    near_spelling,
)
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.layout import Group, Layout
from unhurried_heron.formulas.notation import PRIMES, count_primes, in_one_spelling
from unhurried_heron.formulas.parser import Formula, Source, read
from unhurried_heron.formulas.state_name import StateName, base_of, group_of, with_primes
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_defined, check_name, in_order
from unhurried_heron.input.values import finite_number, number_array

OPEN: Final = "open"
# a number followed by something that begins like a unit
QUANTITY: Final = re.compile(
    r"\s*(?P<number>[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?+)(?:\s+|(?=[^\s\d]))(?P<unit>[^\W\d][^()]*|[%°][^()]*|1\s*/[^()]*)\s*$"
)
_INDEXED: Final = re.compile(r"(?P<name>\w+)(?P<primes>['′-‴]*)\s*\[(?P<inside>[^\[\]]*)\](?P<more>['′-‴]*)$")


@dataclass(frozen=True)
class Definition:
    """A value as it was given: a number (or array), perhaps with a unit, or a formula; none of them: left open."""

    value: Any = None
    formula: Formula | None = None
    unit: str = ""

    @property
    def is_open(self) -> bool:
        """Whether the value was left open on purpose."""
        return self.value is None and self.formula is None


def read_definition(raw: Any, name: str, location: str) -> Definition:
    """Read a number, a text such as ``"1800 m^2"`` or ``"depth/n"``, or ``None`` or ``"open"`` for a value to come.

    Raises
    ------
    ValueGivenError, ExpressionError
    """
    if raw is None or (isinstance(raw, str) and raw.strip() == OPEN):
        return Definition()
    if not isinstance(raw, str):
        return Definition(finite_number(raw, name, location))
    quantity = QUANTITY.match(raw) if len(raw) < 200 else None
    if quantity:
        return Definition(finite_number(float(quantity["number"]), name, location), unit=quantity["unit"].strip())
    return Definition(formula=_formula(raw, f"{location}, '{name}'"))


@functools.lru_cache(maxsize=512)
def _formula(text: str, location: str) -> Formula:
    # a problem that is changed and run again and again has the same formulas
    return read(Source(text, location))


def read_parameters(raw: Any, collector: ErrorCollector) -> dict[str, Definition]:
    """Read the parameters by name.

    Raises
    ------
    ValueGivenError, ExpressionError, NameClashError
    """
    found = {}
    for name, value in _by_name(raw, "parameters", collector).items():
        with collector.gathering():
            name = in_one_spelling(name)
            check_name(name, "parameters")
            found[name] = Definition()
            found[name] = read_definition(value, name, "parameters")
    return found


def _by_name(raw: Any, location: str, collector: ErrorCollector) -> dict[str, Any]:
    if raw is None:
        return {}
    if isinstance(raw, Mapping) and all(isinstance(name, str) for name in raw):
        return dict(raw)
    collector.add(
        ValueGivenError(
            f"{location} must be given by name",
            name=location,
            location=location,
            expected='a dict such as {"level": 0.4}',
            given=excerpt(raw),
        )
    )
    return {}


def parameter_values(definitions: Mapping[str, Definition], collector: ErrorCollector) -> dict[str, float]:
    """Return the values of all parameters that are known: formulas are computed, open ones left out.

    Raises
    ------
    UndefinedNameError, CircularDerivedError, ExpressionError, ValueGivenError
    """
    formulas = {name: each.formula for name, each in definitions.items() if each.formula is not None}
    values = {name: float(each.value) for name, each in definitions.items() if each.value is not None}
    with collector.gathering():
        check_defined(formulas, definitions, "the parameters")
        for name, formula in formulas.items():
            if TIME in formula.mentions:
                raise ExpressionError(
                    f"the parameter '{name}' depends on the time",
                    name=name,
                    location=formula.source.point(formula.mentions[TIME]),
                    expected="parameters that do not change; write a derived quantity in the equations",
                    given=formula.source.text[:80],
                )
        for name in in_order({name: formula.node for name, formula in formulas.items()}, "parameters"):
            with collector.gathering():
                _compute(name, formulas[name], values)
    return values


def _compute(name: str, formula: Formula, values: dict[str, float]) -> None:
    if all(mention in values for mention in formula.mentions):
        found = evaluate(formula.node, values)
        if not np.isfinite(found):
            raise ValueGivenError(
                f"the value of '{name}' is not finite",
                name=name,
                location=formula.source.location,
                expected="a formula with a finite value",
                given=f"{formula.source.text} = {found}"[:80],
            )
        values[name] = float(found)


def read_initial(raw: Any, collector: ErrorCollector) -> dict[str, Definition]:
    """Read the starting values by the names of states, indexed states or members of indexed states.

    Raises
    ------
    ValueGivenError, ExpressionError, NameClashError
    """
    found = {}
    for name, value in _by_name(raw, "initial", collector).items():
        with collector.gathering():
            key = initial_key(str(name))
            if isinstance(value, list | tuple | np.ndarray):
                found[key] = Definition(_array(value, key))
            else:
                found[key] = read_definition(value, key, "initial")
                if found[key].is_open:
                    raise ValueGivenError(
                        f"the value of '{key}' is not a number",
                        name=key,
                        location="initial",
                        expected="a number, or a formula of parameters, which may be open",
                        given=excerpt(value),
                    )
    return found


def initial_key(name: str) -> str:
    """Return the name of a state with its primes and indices in our own way of writing."""
    name = in_one_spelling(name)
    indexed = _INDEXED.match(name)
    if indexed:
        check_name(indexed["name"], "initial")
        primes = count_primes(indexed["primes"]) + count_primes(indexed["more"])
        return StateName(indexed["name"], primes, indexed["inside"].replace(" ", "")).text
    plain = PRIMES.sub("", name)
    check_name(plain, "initial")
    return with_primes(plain, count_primes(name))


def _array(value: Any, name: str) -> Any:
    array = number_array(value)
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
    definitions: Mapping[str, Definition], layout: Layout, values: Mapping[str, float | None], collector: ErrorCollector
) -> tuple[Any, set[str]]:
    """Return the starting values of all states, NaN where a parameter is still open, and the parameters they need.

    Raises
    ------
    MissingInitialError, UnusedValueError, UndefinedNameError, ValueGivenError
    """
    array, given = np.full(layout.size, np.nan), np.zeros(layout.size, dtype=bool)
    needed: set[str] = set()
    extra = []
    # what is said of a whole indexed state first, of single members afterwards
    for key in sorted(definitions, key=lambda key: (layout.slot(key) is not None, 0)):
        definition = definitions[key]
        with collector.gathering():
            stretch, indices = _stretch(key, layout)
            if stretch is None:
                extra.append(key)
                continue
            given[stretch] = True
            if definition.formula is None:
                array[stretch] = _fitted(definition.value, layout, key)
                continue
            check_defined({key: definition.formula}, [*values, *indices, *_open(values)], "initial values")
            mentions = set(definition.formula.mentions) - set(indices)
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
                array[stretch] = _formula_value(definition.formula, key, layout, indices, values)
    with collector.gathering():
        _refuse_missing(layout, given, definitions)
    with collector.gathering():
        _refuse_extra(layout, extra, definitions)
    return array, needed


def _open(values: Mapping[str, Any]) -> Iterable[str]:
    return [name for name, value in values.items() if value is None]


def _stretch(key: str, layout: Layout) -> tuple[slice | None, tuple[str, ...]]:
    """Return the indices a key speaks of, and the names of its indices."""
    index = layout.slot(key)
    if index is not None:
        return slice(index, index + 1), ()
    if key in layout.by_name:
        return layout.stretch(key), ()
    name, indices = group_of(key), StateName.read(key).indices
    group = layout.by_name.get(name)
    if indices and group is not None and len(indices) == len(group.box) and all(i.isidentifier() for i in indices):
        return layout.stretch(name), indices
    return None, ()


def _fitted(value: Any, layout: Layout, key: str) -> Any:
    group: Group | None = layout.by_name.get(key)
    if isinstance(value, np.ndarray):
        wanted = group.shape if group else ()
        if value.shape != wanted and value.shape != (group.size if group else 1,):
            raise ValueGivenError(
                f"the array of '{key}' has another shape than the indexed state",
                name=key,
                location="initial",
                expected=str(wanted) if wanted else "one number",
                given=str(value.shape),
            )
        return value.ravel()
    return value


def _formula_value(
    formula: Formula, key: str, layout: Layout, indices: tuple[str, ...], values: Mapping[str, Any]
) -> Any:
    group = layout.by_name.get(group_of(key))
    grids: dict[str, Any] = {}
    if indices and group is not None:
        ranges = [np.arange(first, last + 1.0) for first, last in group.box]
        grids = dict(zip(indices, np.meshgrid(*ranges, indexing="ij"), strict=True))
    found = np.asarray(evaluate(formula.node, {**values, **grids}), dtype=np.float64)
    if not np.isfinite(found).all():
        raise ValueGivenError(
            f"the initial value of '{key}' is not finite",
            name=key,
            location=formula.source.location,
            expected="a formula with a finite value",
            given=formula.source.text[:80],
        )
    return np.broadcast_to(found, group.shape).ravel() if grids and group is not None else found


def _refuse_missing(layout: Layout, given: Any, definitions: Mapping[str, Definition]) -> None:
    if given.all():
        return
    indices = np.flatnonzero(~given)
    stretches = {group.name: (layout.offsets[group.name], group.size) for group in layout.groups}
    missing = [
        name for name, (begin, size) in stretches.items() if ((indices >= begin) & (indices < begin + size)).any()
    ]
    extra = [key for key in definitions if _stretch(key, layout)[0] is None]
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
