"""What is refused before a problem is assembled: other kinds of values, inputs that are too short, units of nothing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from unhurried_heron.errors import (
    UnusedValueError,
    ValueGivenError,
    excerpt,
    listing,
    near_spelling,
    printable,
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


def check_containers(user_input: ProblemInput) -> None:
    """Refuse what is not even of the right kind, before it is looked into.

    Raises
    ------
    ValueGivenError
    """
    by_name: dict[str, Any] = {
        "exact": user_input.exact,
        "units": user_input.units,
        "inputs": user_input.inputs,
        "forces": user_input.forces,
    }
    by_name |= {"derived": user_input.derived}
    for what, given in by_name.items():
        if not isinstance(given, Mapping) or not all(isinstance(name, str) for name in given):
            raise another_kind(what, 'a dict by name, such as {"level": …}', given)
    for what, given in {"units": user_input.units, "forces": user_input.forces}.items():
        for name, text in given.items():
            if not isinstance(text, str) or printable(text) != text:
                raise another_kind(what, f"a plain text for '{name}'", text)
    texts = {
        "title": user_input.title,
        "equations" if user_input.form == "equations" else "the energies": user_input.text,
    }
    for what, given in texts.items():
        if not isinstance(given, str):
            raise another_kind(what, "a text", given)
    if printable(user_input.title) != user_input.title:
        raise another_kind("title", "a text on one line, without control characters", user_input.title)
    if user_input.form == "rates" and not callable(user_input.function):
        raise another_kind("rates", "a function of t, y, p or named states and parameters", user_input.function)
    if user_input.jacobian is not None and not callable(user_input.jacobian):
        raise another_kind("jacobian", "a function", user_input.jacobian)


def another_kind(what: str, expected: str, given: Any) -> ValueGivenError:
    """Return the error that refuses a value of another kind.

    Parameters
    ----------
    what : str
        What is spoken of, for messages.
    expected : str
        What was expected.
    given : object

    Returns
    -------
    ValueGivenError
    """
    return ValueGivenError(f"{what} cannot be this", name=what, location=what, expected=expected, given=excerpt(given))
