"""Every exception and warning a user of the library can meet, under one root."""

from __future__ import annotations

import re
from collections.abc import Iterable
from difflib import get_close_matches
from typing import Any, Final

# all but the end of a line; the last are those that turn the direction of writing
_CONTROL: Final = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")
# a message lists no more names than this
MAX_NAMED: Final = 12
# Characters of a line of a message, beyond which it is cut.
_LONGEST_LINE: Final = 1000
# Characters of a value in a message, beyond which it is cut; they fit on a line.
_LONGEST_VALUE: Final = 80


def near_spelling(name: Any, known: Iterable[str]) -> str:
    """Return ``"; did you mean 'x'?"`` for the nearest known name, or an empty string."""
    near = get_close_matches(name, list(known), n=1, cutoff=0.6) if isinstance(name, str) else []
    return f"; did you mean '{near[0]}'?" if near else ""


def listing(names: Iterable[Any], *, quoted: bool = False) -> str:
    """Return names between commas: the first dozen of them, and how many more there are."""
    every = [f"'{name}'" if quoted else as_text(name) for name in names]
    more = len(every) - MAX_NAMED
    return ", ".join(every[:MAX_NAMED]) + (f" and {more:,} more" if more > 0 else "")


def as_text(value: Any) -> str:
    """Return a text as it is, and any other value as `excerpt` does."""
    return value if isinstance(value, str) else excerpt(value)


def excerpt(value: Any) -> str:
    """Return a value as Python writes it, cut where it is long; one that cannot be written by the name of its type."""
    try:
        text = repr(value)
    except Exception:  # whatever the user's own class raises, and whole numbers of more than 4,300 digits
        text = f"a value of type {type(value).__name__}"
    return text if len(text) <= _LONGEST_VALUE else f"{text[: _LONGEST_VALUE - 1]}…"


def _clipped(line: str) -> str:
    return line if len(line) <= _LONGEST_LINE else f"{line[:_LONGEST_LINE]} … ({len(line):,} letters in all)"


def printable(text: str) -> str:
    """Return a text without the signs that steer a terminal."""
    return _CONTROL.sub("\N{REPLACEMENT CHARACTER}", text)


def _rebuilt(kind: type[HeronError], args: tuple[Any, ...], attributes: dict[str, Any]) -> HeronError:
    """Make an error again in another process.

    Parameters
    ----------
    kind : type of HeronError
    args : tuple
        Of the constructor.
    attributes : dict of str to str

    Returns
    -------
    HeronError
    """
    error = kind.__new__(kind, *args)
    error.args = args
    error.__dict__.update(attributes)
    return error


class HeronError(Exception):
    """Root of all errors of this library.

    Attributes
    ----------
    name : str
        What the error is about: a name the user wrote, or an argument.
    location : str
        Where it stands: an equation and its line, a key of a file, an argument.
    expected, given : str
        What would have been right and what came instead.
    """

    def __init__(
        self, message: str, *, name: str = "", location: str = "", expected: str = "", given: str = ""
    ) -> None:
        super().__init__(message)
        self.name, self.location, self.expected, self.given = name, location, expected, given

    def __str__(self) -> str:
        lines = [str(self.args[0]) if self.args else type(self).__name__]
        if self.expected:
            lines.append(f"  expected: {self.expected}")
        if self.given:
            lines.append(f"  given:    {self.given}")
        if self.location:
            lines.append(f"  at {self.location}")
        return printable("\n".join(_clipped(line) for part in lines for line in part.split("\n")))

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuilt, (type(self), self.args, self.__dict__)


class FormulationError(HeronError, ValueError):
    """A problem is formulated in a way that cannot be integrated."""


class ExpressionError(FormulationError):
    """A written expression is malformed or uses something that is not allowed."""


class UndefinedNameError(FormulationError):
    """Names are used that were never defined; ``names`` lists all of them."""

    def __init__(self, message: str, *, names: tuple[str, ...], location: str, expected: str) -> None:
        super().__init__(
            message, name=listing(names), location=location, expected=expected, given="no value for any of them"
        )
        self.names = names


class MissingInitialError(FormulationError):
    """A state has no initial value."""


class UnusedValueError(FormulationError):
    """A parameter or an initial value belongs to nothing in the equations."""


class NameClashError(FormulationError):
    """One name is used for two things."""


class MissingRateError(FormulationError):
    """A state has an initial value and is used, but no equation says how it changes."""


class CircularDerivedError(FormulationError):
    """Derived expressions refer to each other in a circle."""


class ValueGivenError(FormulationError):
    """A value is not a finite number."""


class IntervalError(FormulationError):
    """The interval of integration is empty or not finite."""


class RateFunctionError(FormulationError):
    """A rate function asks for unknown arguments or returns something unusable."""


class UnitError(FormulationError):
    """A unit is unknown, a value has a unit of another kind than declared, or terms disagree in their units."""


class FileError(HeronError, OSError):
    """A file cannot be written: the disk is full, the folder is not there, or it is somebody else's."""


class OrderError(FormulationError):
    """Equations cannot be solved for their highest derivatives."""


class ConstraintError(FormulationError):
    """Constraints are too many or too few, do not determine their unknowns, or cannot be met at the start."""


class IndexedStateError(FormulationError):
    """An index leaves its indexed state, or the equations of an indexed state leave gaps or overlap."""


class InputError(FormulationError):
    """A measured input is unusable, or the interval leaves its table."""


class OpenParameterError(FormulationError):
    """Something needs the value of a parameter that was left open; ``names`` lists all of them."""

    def __init__(self, message: str, *, names: tuple[str, ...], location: str, expected: str) -> None:
        super().__init__(message, name=listing(names), location=location, expected=expected, given="no value yet")
        self.names = names


class DocumentError(FormulationError):
    """A problem file cannot be read or holds something unexpected."""


class MethodError(HeronError, ValueError):
    """A method is unknown, inconsistent, or not able to do what is requested."""


class UnfitProblemError(MethodError):
    """A method cannot march a problem of this kind."""


class OptionError(HeronError, ValueError):
    """An option of a run or a study is unusable."""


class RunError(HeronError, RuntimeError):
    """A run does not hold what is requested of it."""


class CacheWarning(UserWarning):
    """Compiled kernels are not kept on disk, or not taken from there."""


class ProblemWarning(UserWarning):
    """Something about a problem is less certain than it looks."""


class IncompleteRunWarning(UserWarning):
    """A run ended before the end of its interval for a reason that was not requested."""


def unforeseen(what: str) -> HeronError:
    """Return the error of what cannot be: which part of the library found it, and that it should be reported."""
    return HeronError(f"this should not happen ({what})", name="unhurried_heron",
                      location="the library itself", expected="a report, with the problem and the call")  # fmt: skip
