"""What is known of a field of an input: which forms take it, of what kind it is, and what depends on it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Final, Literal

from unhurried_heron.errors import ValueGivenError, excerpt, printable
from unhurried_heron.formulas.notation import in_one_spelling

Form = Literal["equations", "lagrangian", "hamiltonian", "rates"]
WRITTEN: Final[tuple[Form, ...]] = ("equations", "lagrangian", "hamiltonian")
ENERGIES: Final[tuple[Form, ...]] = ("lagrangian", "hamiltonian")
EVERY: Final[tuple[Form, ...]] = (*WRITTEN, "rates")


@dataclass(frozen=True)
class Kind:
    """A kind of value: how one is brought into one shape, and which ones fit.

    Attributes
    ----------
    expected : str
        What is expected, for messages.
    fits : callable
        Whether a value is of the kind.
    shaped : callable
        A value, and what it is called, to the value in one shape; one that cannot be shaped is returned as it is.
    """

    expected: str = ""
    fits: Callable[[Any], bool] = lambda given: True
    shaped: Callable[[Any, str], Any] = lambda given, what: given

    def check(self, given: Any, what: str) -> None:
        """Refuse a value of another kind.

        Raises
        ------
        ValueGivenError
        """
        if not self.fits(given):
            raise ValueGivenError(
                f"{what} cannot be this", name=what, location=what, expected=self.expected, given=excerpt(given)
            )


def by_name(given: Any, what: str = "") -> Any:
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


def _coordinates(given: Any, what: str) -> Any:
    """Return coordinates as they are kept: each with its momentum, or alone."""
    return by_name(given) if isinstance(given, Mapping) else as_tuple(given, what)


def _named(given: Any) -> bool:
    return isinstance(given, Mapping) and all(isinstance(name, str) for name in given)


def _plain(given: Any) -> bool:
    return isinstance(given, str) and printable(given) == given


def _line(given: Any) -> bool:
    return _plain(given) and "\n" not in given


ANYTHING: Final = Kind()
TEXT: Final = Kind("a text", lambda given: isinstance(given, str))
LINE: Final = Kind("a text on one line, without control characters", _line)
FLAG: Final = Kind("true or false", lambda given: isinstance(given, bool))
FUNCTION: Final = Kind("a function", lambda given: given is None or callable(given))
RATES: Final = Kind("a function of t, y, p or named states and parameters", callable)
SEVERAL: Final = Kind("a list", lambda given: isinstance(given, tuple), as_tuple)
COORDINATES: Final = Kind(
    "coordinates, each with its momentum for a Hamiltonian",
    lambda given: isinstance(given, tuple) or _named(given),
    _coordinates,
)
CONSTRAINTS: Final = Kind(
    "a list of equations of coordinates, or a dict of them by the names of their multipliers",
    lambda given: (
        (isinstance(given, tuple) or _named(given))
        and all(map(_plain, given.values() if isinstance(given, Mapping) else given))
    ),
    _coordinates,
)
BY_NAME: Final = Kind('a dict by name, such as {"level": …}', _named, by_name)
TEXTS_BY_NAME: Final = Kind(
    'a dict of plain texts by name, such as {"level": "m"}',
    lambda given: _named(given) and all(map(_plain, given.values())),
    by_name,
)


@dataclass(frozen=True)
class InputField:
    """What is known of a field; only what few fields have may be left out.

    Attributes
    ----------
    kind : Kind
    forms : tuple of str
        The forms of which it is a part.
    change : {"names", "whole"}
        Whether `Problem.with_` changes single names of it, or all of it.
    structure : bool
        Whether the model follows from it, so that another value needs another model.
    decides : bool
        Whether it decides the solution by itself, beside the values of parameters, starts and the interval.
    in_files : bool
        Whether a problem file can say it.
    arguments : mapping of str to str
        The argument of the constructor of a form, where it is called otherwise than the field.
    key : str
        The key of problem files, where it is called otherwise than the field.
    listed : str
        What the text of a problem calls a list of it; empty where the text shows it in a way of its own, or not.
    """

    kind: Kind
    forms: tuple[Form, ...]
    change: Literal["names", "whole"]
    structure: bool
    decides: bool
    in_files: bool
    arguments: Mapping[str, str] = field(default_factory=dict)
    key: str = ""
    listed: str = ""


def input_field(*facts: Any, default: Any = None, factory: Callable[[], Any] | None = None, **more: Any) -> Any:
    """Return the field of a dataclass of which something is known.

    Parameters
    ----------
    *facts, **more
        The attributes of an `InputField`.
    default : object
        The value where nothing is said.
    factory : callable, optional
        What makes it, in place of ``default``.

    Returns
    -------
    dataclasses.Field
    """
    known = {"known": InputField(*facts, **more)}
    return field(default_factory=factory, metadata=known) if factory else field(default=default, metadata=known)
