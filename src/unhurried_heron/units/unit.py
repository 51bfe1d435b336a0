"""Units: reading them (by Pint), reckoning with them, and finding one coherent set among those declared.

Imported only where a unit has to be understood.
"""

from __future__ import annotations

import functools
import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import pint

from unhurried_heron.errors import UnitError, near_spelling

_TOKEN: Final = re.compile(r"\s+|[^\W\d]\w*|°\w*|%|\d+(?:\.\d+)?|\*\*|[*/^()·-]|.")
# The largest exponent of a unit.
_LARGEST_EXPONENT: Final = 20.0
# Characters of a unit.
_LONGEST: Final = 80
_OUT_OF_RANGE: Final = "too large or too small a unit"
_COMMON: Final = ("m", "mm", "cm", "km", "h", "min", "s", "d", "kg", "g", "mol", "mmol", "degC", "K", "l", "m^2", "m^3")


@dataclass(frozen=True)
class Unit:
    """A unit as a factor and an offset to the basic units of the SI and the powers of those.

    Attributes
    ----------
    factor, offset : float
        A value x in this unit is ``factor*x + offset`` in basic units.
    powers : tuple of (str, float)
        Powers of the basic units, sorted, zeros left out.
    """

    factor: float
    powers: tuple[tuple[str, float], ...]
    offset: float = 0.0

    def __mul__(self, other: Unit) -> Unit:
        powers = dict(self.powers)
        for base, power in other.powers:
            powers[base] = powers.get(base, 0.0) + power
        return Unit(self.factor * other.factor, _sorted(powers))

    def __pow__(self, exponent: float) -> Unit:
        return Unit(self.factor**exponent, _sorted({base: power * exponent for base, power in self.powers}))

    def __truediv__(self, other: Unit) -> Unit:
        return self * other**-1.0

    def same_kind(self, other: Unit) -> bool:
        """Whether values in both units can be compared at all."""
        return self.powers == other.powers

    def same(self, other: Unit) -> bool:
        """Whether numbers in both units can be added as they are."""
        return self.powers == other.powers and math.isclose(self.factor, other.factor, rel_tol=1e-9)


def _sorted(powers: Mapping[str, float]) -> tuple[tuple[str, float], ...]:
    return tuple(sorted((base, round(power, 9)) for base, power in powers.items() if abs(power) > 1e-9))


PLAIN: Final = Unit(1.0, ())
PLAIN_WORDS: Final = "a plain number"


@functools.cache
def _registry() -> Any:
    return pint.UnitRegistry(cache_folder=None, autoconvert_offset_to_baseunit=False)


@functools.lru_cache(maxsize=1024)
def read_unit(text: str, location: str = "units") -> Unit:
    """Read a unit such as ``m^3/h``.

    Raises
    ------
    UnitError
        It is no unit.
    """
    words = _checked(text, location)
    if not words:
        return PLAIN
    registry = _registry()
    try:
        zero, one = (registry.Quantity(value, words).to_base_units() for value in (0.0, 1.0))
    except pint.OffsetUnitCalculusError:
        words = re.sub(r"\b(degC|degF|celsius|fahrenheit)\b|°C|°F", lambda found: f"delta_{_plain(found[0])}", words)
        zero, one = (registry.Quantity(value, words).to_base_units() for value in (0.0, 1.0))
    except OverflowError:
        raise _refusal(text, location, _OUT_OF_RANGE) from None
    except Exception as error:
        raise _refusal(text, location, str(error)) from None
    # an angle is a plain number, of radians
    powers = {str(base): float(power) for base, power in one.unit_items() if str(base) != "radian"}
    unit = Unit(float(one.magnitude - zero.magnitude), _sorted(powers), float(zero.magnitude))
    if not (math.isfinite(unit.factor) and unit.factor > 0):
        raise _refusal(text, location, _OUT_OF_RANGE)
    return unit


def without_angles(text: str) -> str:
    """Return a unit with its angles in radians: ``deg/s`` becomes ``rad/s``."""

    def angle(found: re.Match[str]) -> str:
        try:
            plain = not read_unit(found[0]).powers and found[0] not in ("%", "percent", "ppm", "permille")
        except UnitError:
            return found[0]
        return "rad" if plain else found[0]

    return re.sub(r"[^\W\d]\w*|°(?![CF])", angle, text)


def _plain(name: str) -> str:
    return {"°C": "degC", "°F": "degF", "celsius": "degC", "fahrenheit": "degF"}.get(name, name)


def _checked(text: str, location: str) -> str:
    """Refuse anything but names, products, quotients and small powers before it goes any further."""
    if len(text) > _LONGEST:
        raise _refusal(text, location, f"{len(text)} characters")
    # within an exponent, and within its parentheses
    before, raised, inside = "", False, False
    for token in _TOKEN.findall(text):
        if token.isspace():
            continue
        number = token[0].isdigit()
        if number and not (raised and float(token) <= _LARGEST_EXPONENT) and not (token == "1" and not raised):
            raise _refusal(text, location, f"the number {token}")
        if not (number or token[0].isalpha() or token[0] in "°%*/^()·-_"):
            raise _refusal(text, location, token)
        if token == "-" and not raised:
            raise _refusal(text, location, "-")
        inside = (inside or (token == "(" and raised)) and token != ")"
        raised = token in ("^", "**") or inside or (token == "-" and raised)
        before = token
    if before in ("^", "**", "*", "/", "-"):
        raise _refusal(text, location, text)
    return text.replace("·", "*").strip()


def _refusal(text: str, location: str, given: str) -> UnitError:
    """Return the error that refuses a unit.

    Parameters
    ----------
    text : str
        As the user wrote it.
    location : str
        Where this was said, for messages.
    given : str
        What was given.

    Returns
    -------
    UnitError
    """
    return UnitError(
        f"'{text[:40]}' is no unit{near_spelling(text, _COMMON)}",
        name=text[:40],
        location=location,
        expected="a unit such as m, h, m^3/h, mmol/m^3 or degC",
        given=given[:80],
    )


def convert(value: float, given: Unit, wanted: Unit) -> float:
    """Return a value in another unit of the same kind.

    Parameters
    ----------
    value : float
    given : Unit
    wanted : Unit

    Returns
    -------
    float
    """
    if given == wanted:
        return value
    # 3.6 and not 3.6000000000000005: the factors of units are short decimal numbers
    factor = given.factor / wanted.factor
    decimal = f"{factor:.14g}"
    if len(decimal.replace(".", "").lstrip("0").split("e")[0]) < 13:
        factor = float(decimal)
    # 1/60 is not a floating-point number, 60 is: dividing by it gives the nearest result
    if given.offset == wanted.offset == 0.0:
        turned = wanted.factor / given.factor
        whole = turned > 1 and math.isclose(turned, round(turned), rel_tol=1e-12)
        return value / round(turned) if whole else value * factor
    return (value * given.factor + given.offset - wanted.offset) / wanted.factor


@dataclass(frozen=True)
class CoherentSet:
    """One unit for each kind of basic quantity, as far as the declared units tell.

    Attributes
    ----------
    factors : dict of str to float
        Size of the unit for each basic unit of the SI.
    labels : dict of str to str
        How it is called.
    declared : tuple of str
        The units that this was found from, as they were written.
    """

    factors: Mapping[str, float]
    labels: Mapping[str, str]
    declared: tuple[str, ...] = ()

    def unit(self, powers: Iterable[tuple[str, float]]) -> Unit:
        """Return the unit of a quantity in this set."""
        powers = tuple(powers)
        return Unit(math.prod(self.factors.get(base, 1.0) ** power for base, power in powers), powers)

    def describe(self, unit: Unit) -> str:
        """Write a unit by the names of this set; a rate of a declared unit as people write it, in mm/h say."""
        factor = unit.factor / self.unit(unit.powers).factor
        parts = {sign: [(base, sign * p) for base, p in unit.powers if sign * p > 0] for sign in (1, -1)}
        above, below = ([self._power(base, p) for base, p in parts[sign]] for sign in (1, -1))
        text = "*".join(above) or ("1" if below else PLAIN_WORDS)
        text += "/" + "/".join(below) if below else ""
        fits = math.isclose(factor, 1.0, rel_tol=1e-9)
        rate = "" if fits and "(" not in text else self._as_rate(unit)
        return rate or (text if fits else f"{factor:.6g} {text}")

    def _as_rate(self, unit: Unit) -> str:
        """Return a declared unit by one of time, if that is what a unit is."""
        time = self.labels.get("second", "")
        for rate in (f"{text}/{time}{power}" for text in self.declared for power in ("", "^2")):
            # a unit of time without a name of its own makes no name
            if time.isidentifier() and len(rate) <= _LONGEST and read_unit(rate).same(unit):
                return rate
        return ""

    def _power(self, base: str, power: float) -> str:
        label = self.labels.get(base) or str(_SHORT.get(base, base))
        return label if power == 1.0 else f"{label}^{power:g}"


_SHORT: Final = {"meter": "m", "second": "s", "kilogram": "kg", "kelvin": "K", "mole": "mol", "ampere": "A"}
# where a declared unit leaves several sizes open, these are taken from the SI first
_SETTLED_FIRST: Final = ("meter", "second", "kelvin", "ampere", "candela", "radian", "kilogram", "mole")


def coherent_set(declared: Mapping[str, str]) -> CoherentSet:
    """Find the unit of each basic quantity such that the declared units belong together.

    Where they do not (lengths in m and in cm), the first declared counts; `units_of_terms` then tells what disagrees.

    Raises
    ------
    UnitError
        A declared unit is none.
    """
    units = {text: read_unit(text) for text in declared.values() if text}
    factors: dict[str, float] = {}
    labels: dict[str, str] = {}
    # simple units first: those of one basic quantity settle it, products follow
    for text, unit in sorted(units.items(), key=lambda item: len(item[1].powers)):
        unknown = [base for base, _ in unit.powers if base not in factors]
        unknown.sort(key=lambda base: _SETTLED_FIRST.index(base) if base in _SETTLED_FIRST else 99)
        for base in unknown[:-1]:
            factors[base] = 1.0
        if unknown:
            rest = unit.factor / math.prod(factors[base] ** p for base, p in unit.powers if base in factors)
            power = dict(unit.powers)[unknown[-1]]
            factors[unknown[-1]] = float(np.exp(np.log(rest) / power))
            if len(unit.powers) == 1 and power == 1.0:
                labels[unknown[-1]] = text
            else:
                labels[unknown[-1]] = _name_of(unknown[-1], factors[unknown[-1]], text)
    return CoherentSet(factors, labels, tuple(units))


def _name_of(base: str, factor: float, text: str) -> str:
    """Look for the name of a basic unit of this size among the words of the declared one.

    Parameters
    ----------
    base : str
    factor : float
    text : str

    Returns
    -------
    str
    """
    for word in re.findall(r"[^\W\d]\w*", text):
        unit = read_unit(word)
        if unit.powers == ((base, 1.0),) and math.isclose(unit.factor, factor, rel_tol=1e-9):
            return str(word)
    return "" if math.isclose(factor, 1.0) else f"({factor:.6g} {_SHORT.get(base, base)})"
