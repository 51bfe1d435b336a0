"""What the user said, kept as it was said: from it a problem is made, changed and written again."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Final, Literal, TypedDict

from unhurried_heron.equality import ByValue
from unhurried_heron.errors import ValueGivenError, excerpt, listing, near_spelling
from unhurried_heron.formulas.notation import in_one_spelling
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured

Form = Literal["equations", "lagrangian", "hamiltonian", "rates"]


class SharedInput(TypedDict, total=False):
    """The keywords that all constructors of a problem share.

    Attributes
    ----------
    parameters : mapping of str to float, str or None
        A value for every constant: a number, a quantity, a formula of others, or None where it is left open.
    events : iterable of Event
        What to look for in every run.
    exact : mapping of str to str
        Closed forms of states in terms of ``t`` and parameters, used to measure errors.
    units : mapping of str to str
        Units by name (``t`` for the time), to which the equations are held.
    conserved : iterable of str
        Derived quantities, states or formulas that should keep their value: comparisons tell how far they drift.
    never_negative : iterable of str
        States, indexed ones too, that are never negative: adaptive steps keep them so, comparisons tell how low fixed
        ones let them fall.
    title : str
        What figures and tables call the problem.
    check_units : bool
        Whether units that disagree are refused; `check_units` tells of them in any case.
    """

    parameters: Mapping[str, Any] | None
    events: Iterable[Event]
    exact: Mapping[str, str] | None
    units: Mapping[str, str] | None
    conserved: Iterable[str]
    never_negative: Iterable[str]
    title: str
    check_units: bool


class WrittenInput(SharedInput, total=False):
    """The keywords that the constructors from written formulas share.

    Attributes
    ----------
    inputs : mapping of str to Measured
        Measured quantities, by the names they have in the formulas.
    """

    inputs: Mapping[str, Measured] | None


_MAPPINGS: Final = ("exact", "units", "inputs")
_LISTS: Final = ("events", "conserved", "never_negative")


def shared_fields(given: Mapping[str, Any], known: Iterable[str], location: str) -> dict[str, Any]:
    """Return shared keywords as the fields of a `ProblemInput`.

    Parameters
    ----------
    given : mapping of str to object
    known : iterable of str
        The keywords that there are.
    location : str
        The constructor.

    Returns
    -------
    dict[str, Any]

    Raises
    ------
    ValueGivenError
        A keyword is unknown, or several things are not given as a list.
    """
    known = tuple(known)
    for name in given:
        if name not in known:
            raise ValueGivenError(
                f"there is no argument '{name}'{near_spelling(name, known)}",
                name=name,
                location=location,
                expected="one of " + listing(known),
                given=excerpt(given[name]),
            )
    found = dict(given)
    found |= {name: by_name(given[name]) for name in _MAPPINGS if name in given}
    found |= {name: as_tuple(given[name], name) for name in _LISTS if name in given}
    return found


def by_name(given: Any) -> Any:
    """Return a copy of a mapping, its names in one spelling; anything else is returned as it is, and refused later."""
    if not isinstance(given, Mapping):
        return {} if given is None else given
    return {in_one_spelling(name) if isinstance(name, str) else name: value for name, value in given.items()}


def as_tuple(given: Any, what: str) -> tuple[Any, ...]:
    """Return several things as a tuple.

    Raises
    ------
    ValueGivenError
        It is one thing, not several.
    """
    try:
        if isinstance(given, str):
            raise TypeError
        return tuple(given)
    except TypeError:
        raise ValueGivenError(
            f"{what} are given as a list", name=what, location=what, expected=f"a list of {what}", given=excerpt(given)
        ) from None


def refuse_unnamed(given: Mapping[str, Any], location: str) -> None:
    """Refuse values that are not given by name.

    Raises
    ------
    ValueGivenError
    """
    for what, values in given.items():
        if values is not None and not isinstance(values, Mapping):
            raise ValueGivenError(
                f"{what} must be given by name",
                name=what,
                location=location,
                expected='a dict such as {"level": 0.4}',
                given=excerpt(values),
            )


@dataclass(frozen=True, eq=False)
class ProblemInput(ByValue):
    """Every word of a problem; the attributes are the arguments of the constructors of `Problem`."""

    form: Form
    text: str = ""
    function: Callable[..., Any] | None = None
    initial: Any = None
    parameters: Any = None
    interval: Any = None
    events: tuple[Event, ...] = ()
    exact: Mapping[str, str] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)
    inputs: Mapping[str, Measured] = field(default_factory=dict)
    coordinates: tuple[str, ...] = ()
    momenta: tuple[str, ...] = ()
    forces: Mapping[str, str] = field(default_factory=dict)
    derived: Mapping[str, Any] = field(default_factory=dict)
    switches: tuple[Any, ...] = ()
    jacobian: Callable[..., Any] | None = None
    sparsity: Any = None
    conserved: tuple[str, ...] = ()
    never_negative: tuple[str, ...] = ()
    title: str = ""
    check_units: bool = True
    integrate_options: Mapping[str, Any] = field(default_factory=dict)
