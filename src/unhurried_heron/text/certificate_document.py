"""How many digits are certain, and why no more, in sentences."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.errors import listing
from unhurried_heron.text.document import Column, Document, Statement, Table

if TYPE_CHECKING:
    from unhurried_heron.accuracy.certificate import Certificate

TOO_SHORT: Final = "The time given was too short."
TOO_SHORT_FOR_ONE: Final = "The time given was too short for one comparison."
INTERRUPTED: Final = "It was interrupted."
DISAGREE: Final = "The runs disagree on what happens: their events or endings are not the same."
DISAGREE_WHEN_MOVED: Final = (
    "Moved by a little at the start, the runs disagree on what happens: their events or endings."
)
NO_CLOSER: Final = (
    "The two families come no closer as the tolerance is tightened: rounding, or a jump or kink that was not declared "
    "(switches=[…] of from_rates)."
)
NOT_TIGHT_ENOUGH: Final = "The tightest tolerance that rounding allows was not tight enough."


def root_at_start(argument: str) -> str:
    """Return why nothing is certain where the argument of a root is zero at the start."""
    where = f"The argument of a root, '{argument}', is zero at the start, where its derivative is infinite"
    return f"{where}: more than one solution may begin there."


def no_two_families(last: str) -> str:
    """Return why there is nothing to compare; ``last``: what became of the last method."""
    return f"No two families reached the end: {last}"


def rates_not_seen(states: Iterable[str]) -> str:
    """Return why states whose rates were zero at every call are not certain."""
    return (
        f"The rate of {listing(states, quoted=True)} was zero wherever it was asked for, but may be another between: "
        "what no run has seen is not certain."
    )


def ended_at(rtol: float) -> str:
    """Return that the time ended at a relative tolerance."""
    return f"The time given ended at rtol {rtol:.0e}."


def did_not_end(method: str, rtol: float, why: str) -> str:
    """Return what became of a method at a relative tolerance.

    Parameters
    ----------
    method : str
        Its name.
    rtol : float
    why : str
        Why it did not come to the end.

    Returns
    -------
    str
    """
    return f"{method} at rtol {rtol:.0e}: {why}"


def sensitive(growth: float, span: float, unit: str) -> str:
    """Return that small changes grow beyond what double precision can tell.

    Parameters
    ----------
    growth : float
        By what factor they grow.
    span : float
        The length of the interval, in ``unit``.
    unit : str
        Empty for none.

    Returns
    -------
    str
    """
    rate = math.log(max(growth, 1.0)) / span
    often = f", on average by a factor e every {1.0 / rate:.3g} {unit}".rstrip() if rate else ""
    return (
        f"Small changes of the start and the parameters grow {growth:.2g}-fold{often}: numbers of 16 digits leave no "
        "more."
    )


def certificate_document(certificate: Certificate) -> Document:
    """Return the values with their certain digits, and the statement below."""
    statement = Statement("digits", certificate.statement, {"digits": certificate.digits_wanted})
    if not certificate.rows:
        return Document("", (statement,))
    unit = certificate.problem.units.get("t", "")
    columns = (Column("time", digits=10, unit=unit), Column("state", "name"), Column("certain value"), Column("digits"),
               Column("error below"))  # fmt: skip
    rows: tuple[Any, ...] = tuple(
        (row["time"], row["state"], certain_decimal(row["value"], row["digits"]), row["digits"], f"{row['error']:.1e}")
        for row in certificate.rows
    )
    return Document("", (Table(columns, rows, certificate.problem.title), statement))


def certificate_statement(certificate: Certificate, narrowest: float | None) -> str:
    """Return whether values are certified and by what, or how far it got and why no farther.

    Parameters
    ----------
    certificate : Certificate
    narrowest : float or None
        How long rates that are a function must do something to be seen; None where rates are written.
    """
    least = min((row["digits"] for row in certificate.rows), default=0)
    if not certificate.certified:
        return f"Not certified to {certificate.digits_wanted} digits, but to {least or 'none'}. {certificate.reason}"
    unseen = ""
    if narrowest is not None:
        unit = certificate.problem.units.get("t", "")
        narrow = f"{narrowest:.3g}{' ' + unit if unit else ''}"
        unseen = f" Its rates are a function: what that does for less than {narrow} at a time could have been missed."
    return (
        f"Certified to {certificate.digits_wanted} digits: {' and '.join(certificate.methods)} agree with margin at "
        f"rtol {certificate.rtol:.0e}; small changes of the start and the parameters grow "
        f"{certificate.growth:.3g}-fold.{unseen}"
    )


def certain_decimal(value: float, digits: int) -> str:
    """Return a value with the digits that are certain, and no more."""
    if value == 0.0 or digits < 1:
        return "0" if value == 0.0 else "–"
    return f"{value:.{digits - 1}e}" if not 1e-4 <= abs(value) < 1e8 else f"{value:.{digits}g}"
