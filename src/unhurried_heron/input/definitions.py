"""Values of parameters, states and ends of the interval: numbers, quantities with units, formulas, or left open."""

from __future__ import annotations

import functools
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import (
    ExpressionError,
    ValueGivenError,
    excerpt,
)
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.notation import in_one_spelling
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_defined, check_name, in_order
from unhurried_heron.input.values import finite_number

OPEN: Final = "open"
# a number followed by something that begins like a unit
QUANTITY: Final = re.compile(
    r"\s*(?P<number>[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?+)(?:\s+|(?=[^\s\d]))(?P<unit>[^\W\d][^()]*|[%°][^()]*|1\s*/[^()]*)\s*$"
)


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

    Parameters
    ----------
    raw : float, str or None
        As the user gave it.
    name : str
    location : str
        Where this was said, for messages.

    Returns
    -------
    Definition

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
    # A problem that is changed and run again and again has the same formulas.
    return read(Source(text, location))


def read_parameters(raw: Any, collector: ErrorCollector) -> dict[str, Definition]:
    """Read the parameters by name.

    Raises
    ------
    ValueGivenError, ExpressionError, NameClashError
    """
    found = {}
    for name, value in values_by_name(raw, "parameters", collector).items():
        with collector.gathering():
            name = in_one_spelling(name)
            check_name(name, "parameters")
            found[name] = Definition()
            found[name] = read_definition(value, name, "parameters")
    return found


def values_by_name(raw: Any, location: str, collector: ErrorCollector) -> dict[str, Any]:
    """Return a mapping as a dict; what is none goes to the mistakes.

    Parameters
    ----------
    raw : object
    location : str
        Where this was said, for messages.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    dict of str to object
    """
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
    """Compute a parameter that is a formula of others.

    Parameters
    ----------
    name : str
    formula : Formula
    values : dict of str to float
        Values of parameters by name.

    Raises
    ------
    ValueGivenError
        It has no finite value.
    """
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
