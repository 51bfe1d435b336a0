"""What is refused before a problem is assembled: other kinds of values, inputs that are too short, units of nothing."""

from __future__ import annotations

from typing import Any

from unhurried_heron.errors import (
    UnusedValueError,
    ValueGivenError,
    excerpt,
    listing,
    near_spelling,
)
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.state_name import base_of
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.names import check_name
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.model import Model


def check_input(name: str, table: Any, interval: tuple[float, float]) -> None:
    """Refuse a measured input that does not cover the interval.

    Parameters
    ----------
    name : str
    table : Measured
    interval : (float, float)
        From when to when.

    Raises
    ------
    ValueGivenError
        It begins too late or ends too early.
    """
    check_name(name, "inputs")
    if not isinstance(table, Measured):
        raise ValueGivenError(
            f"the input '{name}' is no table",
            name=name,
            location="inputs",
            expected="Measured(times, values) or Measured.from_csv(…)",
            given=excerpt(table),
        )
    table.check_covers(name, interval)


def check_units_belong(user_input: ProblemInput, model: Model) -> None:
    """Refuse units of names that the problem does not have."""
    known = [TIME, *model.layout.by_name, *model.derived_layout.by_name, *model.functions, *model.parameters]
    known += [*model.inputs, *model.orders]
    for named in user_input.units:
        if named not in known and base_of(named) not in model.orders:
            raise UnusedValueError(
                f"a unit for '{named}', which is nothing known{near_spelling(named, known)}",
                name=named,
                location="units",
                expected="units of " + listing(known),
                given=named,
            )
