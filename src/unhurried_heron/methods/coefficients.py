"""Reading a method's coefficients: fractions, texts and numbers, exact unless they are floats."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from fractions import Fraction
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import MethodError, excerpt
from unhurried_heron.methods.rooted_trees import Scalar

# Decimal powers of more than two digits are no coefficients, and would take very many digits to write out.
_EXPONENT: Final = re.compile(r"[eE][+-]?0*[1-9]\d\d")
# The largest coefficient.
_LARGEST: Final = 1e50

Row = tuple[Scalar, ...]
Matrix = np.ndarray[Any, np.dtype[np.float64]]


def refusal(method: str, message: str, expected: str, given: str) -> MethodError:
    """Return the error that refuses a method.

    Parameters
    ----------
    method : str
        Its name.
    message : str
    expected : str
        What was expected.
    given : str
        What was given.

    Returns
    -------
    MethodError
    """
    return MethodError(f"{method}: {message}", name=method, location=method, expected=expected, given=given)


def check_name(name: Any) -> None:
    """Refuse a method without a name.

    Raises
    ------
    MethodError
    """
    if not isinstance(name, str) or not name:
        raise MethodError("a method needs a name", name="name", location="name", expected="a text", given=excerpt(name))


def number(value: Any) -> Scalar:
    """Return a coefficient, exact unless it is a float.

    Raises
    ------
    ValueError, TypeError, ZeroDivisionError
        It is no finite number of a sensible size.
    """
    if isinstance(value, str) and (len(value) > 200 or _EXPONENT.search(value)):
        raise ValueError
    read: Scalar = value if isinstance(value, float) else Fraction(value)
    if not abs(float(read)) < _LARGEST:
        raise ValueError
    return read


def row(method: str, part: str, values: Any, length: int, *, fill: bool = False) -> Row:
    """Return a row of coefficients.

    Parameters
    ----------
    method : str
        Its name.
    part : str
        What the row is.
    values : sequence of numbers
    length : int
    fill : bool, optional
        Whether zeros may be left out at its end.

    Returns
    -------
    Row

    Raises
    ------
    MethodError
        Something in it is no number, or there are too many or too few.
    """
    try:
        read = [number(x) for x in values]
    except (TypeError, ValueError, ZeroDivisionError, OverflowError):
        raise MethodError(
            f"{method}: {part} holds something that is no number",
            name=method,
            location=part,
            expected='fractions, texts such as "3/40", or numbers',
            given=excerpt(values),
        ) from None
    if len(read) > length or (len(read) < length and not fill):
        raise MethodError(
            f"{method}: {part} has the wrong length",
            name=method,
            location=part,
            expected=str(length),
            given=str(len(read)),
        )
    return tuple(read + [Fraction(0)] * (length - len(read)))


def square(method: str, part: str, rows: Any, size: int) -> tuple[Row, ...]:
    """Return a square matrix, whose rows may end where their zeros begin.

    Parameters
    ----------
    method : str
        Its name.
    part : str
        What the matrix is.
    rows : sequence of sequences of numbers
    size : int

    Returns
    -------
    tuple[Row, ...]

    Raises
    ------
    MethodError
    """
    sequence(method, part, rows)
    if len(rows) != size:
        raise refusal(
            method,
            "the tableau's parts do not fit",
            f"{size} rows in {part}, as many as weights in b",
            f"{len(rows)} rows",
        )
    return tuple(row(method, f"row {i + 1} of {part}", each, size, fill=True) for i, each in enumerate(rows))


def sequence(method: str, part: str, values: Any) -> None:
    """Refuse what has no length.

    Parameters
    ----------
    method : str
        Its name.
    part : str
        What it is.
    values : object

    Raises
    ------
    MethodError
    """
    # An array without axes has no length.
    if not hasattr(values, "__len__") or getattr(values, "shape", (1,)) == ():
        raise refusal(method, f"{part} is no sequence", "a sequence of numbers", excerpt(values))


def floats(rows: Sequence[Any]) -> Matrix:
    """Return rows as an array of floats."""
    return np.array([[float(x) for x in each] if hasattr(each, "__len__") else float(each) for each in rows])


def balanced(rows: Any, sums: Any) -> Matrix:
    """Return rows of weights as floats whose first one makes up for what rounding does to the sums.

    The first stage of an explicit method stands at the start of the step: its weight enters no other order condition.
    """
    read = floats(rows)
    for weights, total in zip(read, sums, strict=True):
        if weights.any():
            weights[0] += float(total) - math.fsum(weights)
    return read
