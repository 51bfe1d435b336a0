"""What the user said, kept as it was said, and the record of all that can be said.

A field of `ProblemInput`, with what is known of it, and its line in the keywords of the constructors are all that a new
field needs beside its meaning: constructors, problem files and their schema, `Problem.with_`, equality, the
fingerprint, pickles and the text of a problem follow.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, fields
from typing import Any, Final, TypedDict

from unhurried_heron.equality import ByValue
from unhurried_heron.errors import ValueGivenError, excerpt
from unhurried_heron.input.event import Event
from unhurried_heron.input.input_field import (
    ANYTHING,
    BY_NAME,
    CONSTRAINTS,
    COORDINATES,
    ENERGIES,
    EVERY,
    FLAG,
    FUNCTION,
    LINE,
    RATES,
    SEVERAL,
    TEXT,
    TEXTS_BY_NAME,
    WRITTEN,
    Form,
    InputField,
    input_field,
)
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.rules import among


class SharedInput(TypedDict, total=False):
    """The keywords that all constructors of a problem share; `ProblemInput` describes them."""

    parameters: Mapping[str, Any] | None
    guess: Mapping[str, Any] | None
    events: Iterable[Event]
    exact: Mapping[str, str] | None
    units: Mapping[str, str] | None
    conserved: Iterable[str]
    never_negative: Iterable[str]
    title: str
    check_units: bool


class WrittenInput(SharedInput, total=False):
    """The keywords that the constructors from written formulas share; `ProblemInput` describes them."""

    inputs: Mapping[str, Measured] | None


class ChangedInput(WrittenInput, total=False):
    """The keywords of `Problem.with_`; `ProblemInput` describes them."""

    initial: Mapping[str, Any] | None
    interval: tuple[Any, Any] | None
    equations: str
    energies: str
    coordinates: Iterable[str] | Mapping[str, str]
    forces: Mapping[str, str] | None
    constraints: Iterable[str] | Mapping[str, str]
    rates: Callable[..., Any]
    derived: Mapping[str, Any] | None
    switches: Iterable[Any]
    jacobian: Callable[..., Any] | None
    sparsity: Any
    algebraic: Iterable[str]
    mass: Any
    integrate_options: Mapping[str, Any] | None


# what each constructor calls its text
_TEXTS: Final = {"equations": "equations", "lagrangian": "energies", "hamiltonian": "energies"}


@dataclass(frozen=True, eq=False)
class ProblemInput(ByValue):
    """Every word of a problem.

    Attributes
    ----------
    form : str
        By which constructor it was said.
    title : str
        What figures and tables call the problem.
    text : str
        Equations or energies, one to a line.
    function : callable
        The rates, as a Python function.
    coordinates : sequence of str, or mapping of str to str
        Coordinates of the energies; of a Hamiltonian each with its momentum.
    conserved : sequence of str
        Derived quantities, states or formulas that should keep their value: comparisons tell how far they drift.
    never_negative : sequence of str
        States, indexed ones too, that are never negative: adaptive steps keep them so, comparisons tell how low fixed
        ones let them fall.
    check_units : bool
        Whether units that disagree are refused; `Problem.check_units` tells of them in any case.
    interval : (from, to)
        From when to when; a text may carry a unit, as in "3 d".
    initial : mapping
        A value for every state: a number, a quantity, a formula of parameters, or an array.
    guess : mapping
        Values near to those that constraints give states at the start, likewise; of states without a starting value.
    parameters : mapping of str to float, str or None
        Numbers, quantities such as "1800 m^2", or formulas of others; None (in files "open") where it is left open.
    forces : mapping of str to str
        Forces along coordinates that do not come from the potential.
    constraints : sequence of str, or mapping of str to str
        Equations that coordinates meet; by name that of the force that keeps each, its multiplier.
    units : mapping of str to str
        Units by name (t for the time), to which the equations are held.
    inputs : mapping of str to Measured
        Measured quantities, by the names they have in the formulas.
    exact : mapping of str to str
        Closed forms of states in terms of t and parameters, used to measure errors.
    derived : mapping of str to str or callable
        Formulas or functions of states, parameters and t, beside a function of rates.
    switches : sequence of str or callable
        Where a function of rates jumps or has a kink.
    jacobian : callable
        d rates / d states of a function of rates.
    sparsity : array_like
        Nonzero where that matrix can be.
    algebraic : sequence of str
        States of a function of rates that have none: what it returns for them is a constraint, which is to be zero.
    mass : array_like
        M of M y' = rates, or its diagonal; rows of zeros make constraints.
    integrate_options : mapping of str to object
        How `heron run` integrates, unless its options say otherwise.
    events : sequence of Event
        What to look for in every run.
    """

    form: Form
    title: str = input_field(LINE, EVERY, "whole", structure=False, decides=False, in_files=True, default="")
    text: str = input_field(
        TEXT, WRITTEN, "whole", structure=True, decides=True, in_files=True, arguments=_TEXTS, default=""
    )
    function: Callable[..., Any] | None = input_field(
        FUNCTION,
        ("rates",),
        "whole",
        structure=True,
        decides=True,
        in_files=False,
        arguments={"rates": "rates"},
        default=None,
    )
    coordinates: tuple[str, ...] | Mapping[str, str] = input_field(
        COORDINATES, ENERGIES, "whole", structure=True, decides=True, in_files=True, default=()
    )
    conserved: tuple[str, ...] = input_field(
        SEVERAL, EVERY, "whole", structure=False, decides=False, in_files=True, listed="conserved", default=()
    )
    never_negative: tuple[str, ...] = input_field(
        SEVERAL, EVERY, "whole", structure=False, decides=False, in_files=True, listed="never negative", default=()
    )
    check_units: bool = input_field(FLAG, EVERY, "whole", structure=False, decides=False, in_files=True, default=True)
    interval: Any = input_field(ANYTHING, EVERY, "whole", structure=False, decides=False, in_files=True, default=None)
    initial: Any = input_field(ANYTHING, EVERY, "names", structure=False, decides=False, in_files=True, default=None)
    parameters: Any = input_field(ANYTHING, EVERY, "names", structure=False, decides=False, in_files=True, default=None)
    guess: Mapping[str, Any] = input_field(
        BY_NAME, EVERY, "names", structure=False, decides=False, in_files=True, factory=dict
    )
    forces: Mapping[str, str] = input_field(
        TEXTS_BY_NAME, ENERGIES, "names", structure=True, decides=True, in_files=True, factory=dict
    )
    constraints: tuple[str, ...] | Mapping[str, str] = input_field(
        CONSTRAINTS, ("lagrangian",), "whole", structure=True, decides=True, in_files=True, default=()
    )
    units: Mapping[str, str] = input_field(
        TEXTS_BY_NAME, EVERY, "names", structure=True, decides=False, in_files=True, factory=dict
    )
    inputs: Mapping[str, Measured] = input_field(
        BY_NAME, WRITTEN, "names", structure=True, decides=True, in_files=True, factory=dict
    )
    exact: Mapping[str, str] = input_field(
        BY_NAME, EVERY, "names", structure=True, decides=False, in_files=True, listed="exact", factory=dict
    )
    derived: Mapping[str, Any] = input_field(
        BY_NAME, ("rates",), "names", structure=True, decides=False, in_files=False, factory=dict
    )
    switches: tuple[Any, ...] = input_field(
        SEVERAL, ("rates",), "whole", structure=True, decides=True, in_files=False, default=()
    )
    jacobian: Callable[..., Any] | None = input_field(
        FUNCTION, ("rates",), "whole", structure=True, decides=False, in_files=False, default=None
    )
    sparsity: Any = input_field(
        ANYTHING, ("rates",), "whole", structure=True, decides=False, in_files=False, default=None
    )
    algebraic: tuple[str, ...] = input_field(
        SEVERAL, ("rates",), "whole", structure=True, decides=False, in_files=False, default=()
    )
    mass: Any = input_field(ANYTHING, ("rates",), "whole", structure=True, decides=False, in_files=False, default=None)
    integrate_options: Mapping[str, Any] = input_field(
        BY_NAME, (), "names", structure=False, decides=False, in_files=True, key="integrate", factory=dict
    )
    events: tuple[Event, ...] = input_field(
        SEVERAL, EVERY, "whole", structure=False, decides=True, in_files=True, default=()
    )

    @property
    def momenta(self) -> tuple[str, ...]:
        """The momenta of coordinates that have theirs."""
        return tuple(self.coordinates.values()) if isinstance(self.coordinates, Mapping) else ()

    def check_kinds(self) -> None:
        """Refuse what is not even of the right kind, before it is looked into.

        Raises
        ------
        ValueGivenError
        """
        for name, known in FIELDS.items():
            known.kind.check(getattr(self, name), argument_of(name, self.form))
        if self.form == "rates" and self.function is None:
            RATES.check(self.function, "rates")


FIELDS: Final[dict[str, InputField]] = {
    each.name: each.metadata["known"] for each in fields(ProblemInput) if each.metadata
}
# what each field is where nothing is said
UNSAID: Final = {
    each.name: each.default_factory() if callable(each.default_factory) else each.default
    for each in fields(ProblemInput)
}


def argument_of(name: str, form: Form) -> str:
    """Return what the constructor of a form calls a field."""
    return FIELDS[name].arguments.get(form, name)


@functools.cache
def arguments_of(form: Form) -> Mapping[str, str]:
    """Return the arguments of the constructor of a form, each with its field."""
    return {argument_of(name, form): name for name, known in FIELDS.items() if form in known.forms}


@functools.cache
def changes_of(form: Form) -> Mapping[str, str]:
    """Return what `Problem.with_` takes for problems of a form, each with its field."""
    return {**arguments_of(form), **{name: name for name, known in FIELDS.items() if not known.forms}}


def by_field(given: Mapping[str, Any], known: Mapping[str, str], location: str) -> dict[str, Any]:
    """Return arguments by the fields that they say.

    Parameters
    ----------
    given : mapping of str to object
    known : mapping of str to str
        The field of each argument that there is.
    location : str
        The function that took them.

    Returns
    -------
    dict[str, Any]

    Raises
    ------
    ValueGivenError
        An argument is unknown.
    """
    for name in given:
        if name not in known:
            among(known)(name, name, location, message=f"there is no argument '{name}'", error=ValueGivenError)
    return {known[name]: value for name, value in given.items()}


def input_of(form: Form, location: str, given: Mapping[str, Any]) -> ProblemInput:
    """Return what the arguments of a constructor say.

    Parameters
    ----------
    form : str
    location : str
        The constructor.
    given : mapping of str to object

    Returns
    -------
    ProblemInput

    Raises
    ------
    ValueGivenError
        An argument is unknown, or several things are not given as a list.
    """
    found = by_field(given, arguments_of(form), location)
    values = {name: FIELDS[name].kind.shaped(value, argument_of(name, form)) for name, value in found.items()}
    return ProblemInput(form=form, **values)


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
