"""What varies in a sweep: parameters, starting values and ends of the interval, on axes of their own or together."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final, Literal, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, as_text, excerpt, listing, near_spelling
from unhurried_heron.formulas.notation import in_one_spelling
from unhurried_heron.input.rules import FINITE
from unhurried_heron.input.starting_values import initial_key
from unhurried_heron.input.values import finite_number
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.sweeps.draws import Draws

# The ends of the interval, by their indices.
ENDS: Final = {"start": 0, "end": 1}
# The dimension of members that are given one by one, or drawn.
MEMBER: Final = "member"
_WORD: Final = re.compile(r"\W+")
Kind = Literal["parameter", "state", "interval", "option"]
KINDS: Final[tuple[Kind, ...]] = ("parameter", "state", "interval", "option")


class Variation(NamedTuple):
    """What varies: its name, what it is, its values along its axis, and its unit."""

    name: str
    kind: Kind
    values: Any
    unit: str = ""

    @property
    def label(self) -> str:
        """What its coordinate is called: of a starting value otherwise than the state."""
        return ("initial_" if self.kind == "state" else "") + plain_name(self.name)


class Axis(NamedTuple):
    """An axis of a sweep, a dimension of its results, along which one or several things vary together."""

    dimension: str
    size: int
    variations: tuple[Variation, ...]


@dataclass(frozen=True)
class Axes:
    """The axes of a sweep; members are in the order of their indices, the last running fastest."""

    axes: tuple[Axis, ...]

    @property
    def shape(self) -> tuple[int, ...]:
        """How many there are along each axis."""
        return tuple(axis.size for axis in self.axes)

    @property
    def dimensions(self) -> tuple[str, ...]:
        """Their names."""
        return tuple(axis.dimension for axis in self.axes)

    @property
    def count(self) -> int:
        """How many members there are."""
        return math.prod(self.shape)

    def columns(self, *kinds: Kind, members: slice | None = None) -> dict[str, Any]:
        """Return the values of members of what varies, by name, arrays of shape (n_members,).

        Parameters
        ----------
        *kinds : str
            What is wanted.
        members : slice, optional
            By default all.

        Returns
        -------
        dict of str to ndarray
        """
        return {each.name: values for each, values in self._values(members) if each.kind in kinds}

    def flat(self, members: slice) -> Axes:
        """Return one axis of some members, along which everything varies together."""
        varies = tuple(each._replace(values=values) for each, values in self._values(members))
        return Axes((Axis(MEMBER, members.stop - members.start, varies),))

    def coordinates(self) -> dict[str, Any]:
        """Return the values of each member of all that varies, by label, arrays of shape (n_members,)."""
        return {each.label: values for each, values in self._values()}

    def _values(self, members: slice | None = None) -> Iterator[tuple[Variation, Any]]:
        wanted = np.arange(self.count) if members is None else np.arange(members.start, members.stop)
        indices = np.unravel_index(wanted, self.shape) if self.axes else ()
        for axis, index in zip(self.axes, indices, strict=True):
            yield from ((each, np.asarray(each.values)[index]) for each in axis.variations)


def plain_name(name: str) -> str:
    """Return a name of letters, digits and underscores, as dimensions and variables of files have it."""
    return _WORD.sub("_", name.replace("′", "'").replace("'", "_prime")).strip("_") or "_"


def read_axes(problem: Problem, over: Any, rows: Any, draws: Any) -> list[Axis]:
    """Return the axes of what varies in the problem.

    Parameters
    ----------
    problem : Problem
    over : mapping of str to sequence, or None
        Each an axis of its own.
    rows : DataFrame or mapping of str to sequence, or None
        Of equal lengths, each row a member.
    draws : Draws or None

    Returns
    -------
    list of Axis

    Raises
    ------
    OptionError
        A name means nothing, values are no numbers, or lengths differ.
    """
    if rows is not None and draws is not None:
        raise OptionError("rows and draws exclude each other", name="draws", location="sweep",
                          expected="either rows=… or draws=…", given="both")  # fmt: skip
    axes = []
    for name, values in _mapping(over, "over").items():
        each = _variation(problem, name, values, "over")
        if np.unique(each.values).size < len(each.values):
            raise OptionError(f"'{each.name}' has a value twice", name=each.name, location="over",
                              expected="values that differ; rows=… takes members one by one",
                              given=excerpt(values))  # fmt: skip
        axes.append(Axis(each.label, len(each.values), (each,)))
    together = _drawn(draws) if draws is not None else _mapping(rows, "rows")
    if together:
        found = tuple(_variation(problem, name, values, "rows") for name, values in together.items())
        lengths = {each.name: len(each.values) for each in found}
        if len({*lengths.values()}) > 1:
            raise OptionError("rows have different lengths", name="rows", location="rows",
                              expected="as many values of each",
                              given=", ".join(f"{name}: {length}" for name, length in lengths.items()))  # fmt: skip
        axes.append(Axis(MEMBER, next(iter(lengths.values())), found))
    names = [each.name for axis in axes for each in axis.variations]
    if len({*names}) < len(names) or len({axis.dimension for axis in axes}) < len(axes):
        raise OptionError("something varies on two axes", name="over", location="sweep",
                          expected="each name once", given=listing(names))  # fmt: skip
    return axes


def _mapping(given: Any, location: str) -> dict[str, Any]:
    """Return what was given by name."""
    if given is None:
        return {}
    # a table of pandas is a mapping of its columns
    pairs = list(given.items()) if hasattr(given, "items") else [(None, None)]
    if not all(isinstance(name, str) for name, _ in pairs):
        raise OptionError(f"{location} are values by name", name=location, location=location,
                          expected='a dict such as {"inflow": [0.5, 1.0]}', given=excerpt(given))  # fmt: skip
    return dict(pairs)


def _drawn(draws: Any) -> Mapping[str, Array]:
    if not isinstance(draws, Draws):
        raise OptionError("these are no draws", name="draws", location="draws",
                          expected="uh.Draws({name: a distribution of scipy.stats}, count)",
                          given=excerpt(draws))  # fmt: skip
    return draws.values


def _variation(problem: Problem, name: str, values: Any, location: str) -> Variation:
    """Return what varies under a name.

    Parameters
    ----------
    problem : Problem
    name : str
    values : sequence of float or str
    location : str
        Where this was said, for messages.

    Returns
    -------
    Variation

    Raises
    ------
    OptionError
    """
    name, model = in_one_spelling(name), problem.model
    kind: Kind
    if name in model.parameters:
        kind, unit = "parameter", problem.units.get(name, "")
    elif name not in ENDS or model.layout.slot(name) is not None:
        name = initial_key(name)
        if model.layout.slot(name) is None:
            known = [*model.parameters, *problem.states, *ENDS]
            raise OptionError(f"there is no parameter or state '{name}'{near_spelling(name, known)}", name=name,
                              location=location, expected="one of " + listing(known), given=as_text(name))  # fmt: skip
        kind, unit = "state", problem.units.get(name, "")
    else:
        kind, unit = "interval", problem.units.get("t", "")
    return Variation(name, kind, _numbers(problem, name, kind, values, location), unit)


def _numbers(problem: Problem, name: str, kind: Kind, values: Any, location: str) -> Array:
    """Return values as numbers in the unit of what varies.

    Parameters
    ----------
    problem : Problem
    name : str
    kind : str
    values : sequence of float or str
    location : str

    Returns
    -------
    ndarray, shape (n_values,)

    Raises
    ------
    OptionError
    """
    several = isinstance(values, Iterable) and not isinstance(values, str | bytes | Mapping)
    plain = isinstance(values, np.ndarray) and values.dtype == np.float64 and values.ndim == 1 and values.size
    if plain and np.isfinite(values).all():
        return np.array(values)
    listed = list(values) if several else []
    if not listed:
        raise OptionError(f"there are no values of '{name}'", name=name, location=location,
                          expected="a list of numbers, also with units", given=excerpt(values))  # fmt: skip
    wrong = f"a value of '{name}' is no finite number"
    found = [
        _in_words(problem, name, kind, each) if isinstance(each, str) else FINITE(each, name, location, message=wrong)
        for each in listed
    ]
    return np.array(found, dtype=np.float64)


def _in_words(problem: Problem, name: str, kind: Kind, value: str) -> float:
    """Return a value that is said with its unit, or as a formula, as the problem reads it.

    Parameters
    ----------
    problem : Problem
    name : str
    kind : str
    value : str

    Returns
    -------
    float
    """
    with quietly():
        if kind == "parameter":
            return finite_number(problem.with_(parameters={name: value}).parameters.get(name), name, "parameters")
        if kind == "state":
            changed = problem.with_(initial={name: value})
            return float(changed.start[changed.model.layout.slot(name) or 0])
        ends: list[Any] = [*problem.interval]
        ends[ENDS[name]] = value
        return problem.with_(interval=(ends[0], ends[1])).interval[ENDS[name]]
