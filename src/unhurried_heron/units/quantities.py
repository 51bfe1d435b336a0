"""Numbers with units as text, brought to the units that the states and the time are reckoned in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from unhurried_heron.errors import OptionError, UnitError, excerpt
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.state_name import StateName, group_of
from unhurried_heron.input.definitions import QUANTITY, Definition
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.rules import FINITE
from unhurried_heron.input.values import finite_number, interval_ends


@dataclass(frozen=True)
class Quantities:
    """Definitions whose numbers are in the units of the problem, and those units by name."""

    parameters: Mapping[str, Definition]
    initial: Mapping[str, Definition]
    interval: tuple[float, float]
    units: Mapping[str, str] = field(default_factory=dict)


def read_quantities(
    parameters: Mapping[str, Definition],
    initial: Mapping[str, Definition],
    interval: Any,
    units: Mapping[str, str],
    collector: ErrorCollector,
) -> Quantities:
    """Convert every quantity to the unit declared for its name, or to the set of units the states belong to.

    Parameters
    ----------
    parameters : Mapping[str, Definition]
    initial : Mapping[str, Definition]
    interval : (float or str, float or str)
    units : mapping of str to str
        Units by name.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Quantities

    Raises
    ------
    UnitError
        A unit is none, or of another kind than the one declared.
    IntervalError, ValueGivenError
    """
    found = dict(units)
    ends = _Ends((0.0, 1.0))
    with collector.gathering():
        ends = _read_ends(interval)
    if ends.unit:
        found.setdefault(TIME, ends.unit)
    with collector.gathering():
        _adopt_units(initial, found)
    if not any(each.unit for each in (*parameters.values(), *initial.values())) and not ends.units:
        return Quantities(parameters, initial, _checked_ends(ends.values, collector), found)
    known = dict(found)
    start = {
        name: _converted(name, each, known.get(group_of(name), ""), "initial", collector)
        for name, each in initial.items()
    }
    base = {key: text for key, text in known.items() if key == TIME or key in _plain_names(initial)} or known
    constants = {}
    for name, each in parameters.items():
        constants[name] = each
        with collector.gathering():
            if each.unit and name not in units:
                found[name] = _coherent_label(each.unit, base, f"parameters, '{name}'")
        constants[name] = _converted(name, each, found.get(name, ""), "parameters", collector)
    values = ends.values
    with collector.gathering():
        converted = [
            _in_unit(value, unit, found[TIME], "the interval") if unit else value
            for value, unit in zip(ends.values, ends.units or ("", ""), strict=True)
        ]
        values = (converted[0], converted[1])
    return Quantities(constants, start, _checked_ends(values, collector), found)


def _adopt_units(initial: Mapping[str, Definition], units: dict[str, str]) -> None:
    """Give states without a declared unit one that fits the others: the first of each kind is taken as it was said."""
    given = {group_of(name): each.unit for name, each in initial.items() if each.unit}
    if given:
        from unhurried_heron.units.unit import read_unit, without_angles

        for name, unit in given.items():
            read_unit(unit, f"initial, '{name}'")
        given = {name: without_angles(unit) for name, unit in given.items()}
    for name in sorted(given, key=lambda name: StateName.read(name).primes):
        root, order, _ = StateName.read(name)
        if name in units:
            continue
        if order and units.get(root) and units.get(TIME):
            units[name] = f"{units[root]}/{units[TIME]}" + (f"^{order}" if order > 1 else "")
        else:
            known = {key: text for key, text in units.items() if key == TIME or key in given}
            units[name] = _coherent_label(given[name], known, f"initial, '{name}'", new=True)


def _plain_names(initial: Mapping[str, Definition]) -> set[str]:
    return set(map(group_of, initial))


@dataclass(frozen=True)
class _Ends:
    values: tuple[float, float]
    units: tuple[str, ...] = ()

    @property
    def unit(self) -> str:
        return next((unit for unit in self.units if unit), "")


def _read_ends(interval: Any) -> _Ends:
    """Read the ends of an interval as numbers and their units."""
    if not isinstance(interval, tuple | list) or len(interval) != 2 or not any(isinstance(e, str) for e in interval):
        return _Ends(interval)
    values, units = [], []
    for name, end in zip(("from", "to"), interval, strict=True):
        match = QUANTITY.match(end) if isinstance(end, str) and len(end) < 200 else None
        units.append(match["unit"].strip() if match else "")
        values.append(finite_number(float(match["number"]) if match else end, name, "the interval"))
    return _Ends((values[0], values[1]), tuple(units))


def _checked_ends(interval: Any, collector: ErrorCollector) -> tuple[float, float]:
    with collector.gathering():
        return interval_ends(interval)
    return 0.0, 1.0


def _converted(name: str, each: Definition, wanted: str, location: str, collector: ErrorCollector) -> Definition:
    """Return a value in the unit that is declared for its name.

    Parameters
    ----------
    name : str
    each : Definition
    wanted : str
    location : str
        Where this was said, for messages.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Definition
    """
    if not each.unit or each.unit == wanted:
        return each
    with collector.gathering():
        return replace(each, value=_in_unit(each.value, each.unit, wanted, f"{location}, '{name}'"), unit=wanted)
    return each


def _in_unit(value: float, given: str, wanted: str, location: str) -> float:
    """Return a value in another unit.

    Parameters
    ----------
    value : float
    given : str
        Its unit.
    wanted : str
        The other.
    location : str
        Where this was said, for messages.

    Returns
    -------
    float

    Raises
    ------
    UnitError
        They are of different kinds.
    """
    from unhurried_heron.units.unit import convert, read_unit

    unit, target = read_unit(given, location), read_unit(wanted, location)
    if not unit.same_kind(target):
        raise UnitError(
            f"the unit of this value is of another kind than '{wanted or 'a plain number'}'",
            name=given,
            location=location,
            expected=f"a value in {wanted or 'no unit'}, or in a unit of the same kind",
            given=f"{value:g} {given}",
        )
    return finite_number(convert(value, unit, target), location, location)


def _coherent_label(given: str, declared: Mapping[str, str], location: str, *, new: bool = False) -> str:
    """Return the unit of the set that the declared units form, or the one given where that has no name.

    With ``new`` a unit is kept as it was given if the declared units say nothing about one of its dimensions.

    Parameters
    ----------
    given : str
        What was given.
    declared : Mapping[str, str]
    location : str
        Where this was said, for messages.
    new : bool, optional

    Returns
    -------
    str

    Raises
    ------
    UnitError
        It is no unit.
    """
    from unhurried_heron.units.unit import PLAIN, coherent_set, read_unit

    unit = read_unit(given, location)
    if unit.powers == PLAIN.powers:
        return given if unit == PLAIN and new else ""
    together = coherent_set(declared)
    wanted = together.unit(unit.powers)
    if wanted.same(unit) or (new and not all(base in together.factors for base, _ in unit.powers)):
        return given
    label = together.describe(wanted)
    try:
        named = read_unit(label).same(wanted)
    except UnitError:
        named = False
    if not named and not new:
        # Taken as it is, the number would have another unit than all others.
        raise UnitError(
            f"'{given}' cannot be converted: the unit that fits those of the states has no name",
            name=given,
            location=location,
            expected="states and interval in units that fit together, or units={…} for this name",
            given=f"{given}, where {label} would fit",
        )
    return label if named else given


def number_for(
    value: float, unit: str, beside: str, units: Mapping[str, str], states: set[str], location: str
) -> float:
    """Return a quantity in an event as a plain number: in the unit of the name beside it, else in the common set.

    Parameters
    ----------
    value : float
    unit : str
        Empty for none.
    beside : str
    units : mapping of str to str
        Units by name.
    states : set[str]
    location : str
        Where this was said, for messages.

    Returns
    -------
    float

    Raises
    ------
    UnitError
    """
    wanted = units.get(beside, "")
    if not wanted:
        base = {key: text for key, text in units.items() if key == TIME or key in states} or dict(units)
        wanted = _coherent_label(unit, base, location)
    return _in_unit(value, unit, wanted, location)


def in_unit_of(value: Any, unit: str, location: str) -> Any:
    """Return an option that may be said with a unit as a plain number in a unit; anything else as it is.

    Parameters
    ----------
    value : float, str or object
    unit : str
        Empty for none.
    location : str
        Where this was said, for messages.

    Returns
    -------
    float or object

    Raises
    ------
    UnitError
        It is of another kind, or nothing is known of the unit it should be in.
    """
    match = QUANTITY.match(value) if isinstance(value, str) and len(value) < 200 else None
    if match is None:
        return value
    given = match["unit"].strip()
    if not unit:
        raise UnitError(
            "this has a unit, and what it is measured by has none",
            name=given,
            location=location,
            expected="a plain number, or a problem whose interval and states have units",
            given=value,
        )
    return _in_unit(float(match["number"]), given, unit, location)


def number_in(value: Any, unit: str, location: str) -> float:
    """Return an option that may be said with a unit as a plain number in a unit.

    Parameters
    ----------
    value : float, str or object
    unit : str
        Empty for none.
    location : str
        Where this was said, for messages.

    Returns
    -------
    float

    Raises
    ------
    UnitError
        It is of another kind, or nothing is known of the unit it should be in.
    OptionError
        It is no finite number.
    """
    found = in_unit_of(value, unit, location)
    if FINITE.holds(found):
        return float(found)
    also = f", or a quantity of the kind of {unit}" if unit else ""
    raise OptionError(
        "this is no number", name=location, location=location, expected=f"a number{also}", given=excerpt(value)
    )


def keep_kinds(units: Mapping[str, str], new_units: Mapping[str, str], changed: Mapping[str, Any]) -> None:
    """Refuse a changed value in a unit of another kind than the value before it had.

    Parameters
    ----------
    units : mapping of str to str
        Units by name.
    new_units : mapping of str to str
        Units of the changed problem.
    changed : mapping of str to object
        What was changed.

    Raises
    ------
    UnitError
    """
    for name, value in changed.items():
        quantity = QUANTITY.match(value) if isinstance(value, str) and len(value) < 200 else None
        named = group_of(str(name))
        if quantity and units.get(named) and units[named] != new_units.get(named, ""):
            _in_unit(float(quantity["number"]), quantity["unit"].strip(), units[named], f"with_, '{name}'")
