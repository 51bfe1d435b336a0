"""The structure of a problem without its values, and the checks on its names."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from unhurried_heron.errors import MissingRateError, NameClashError, UnusedValueError, near_spelling
from unhurried_heron.problem.equations import check_defined, in_order
from unhurried_heron.problem.event import Event
from unhurried_heron.problem.expression import Node, replace_names
from unhurried_heron.problem.functions import NamedFunction, match_arguments
from unhurried_heron.problem.grammar import Source, Written, read

Watched = Node | NamedFunction


@dataclass(frozen=True)
class Model:
    """The structure of a problem without its values: what is compiled once and shared by changed copies.

    Attributes
    ----------
    states, parameters : tuple of str
        Names in order.
    rates : tuple of Node, or NamedFunction
        Right-hand sides in the order of the states (derived names written out), or a Python function.
    derived : dict of str to Node
        Derived quantities, written out in terms of time, states and parameters.
    exact : dict of str to Node
        Closed forms of some states, in terms of time and parameters.
    text : str
        The equations as the user wrote them, or the name of the function.
    """

    states: tuple[str, ...]
    parameters: tuple[str, ...]
    rates: tuple[Node, ...] | NamedFunction
    derived: Mapping[str, Node]
    exact: Mapping[str, Node]
    text: str

    def watch(self, event: Event) -> Watched:
        """Return the expression or function whose sign change is the event.

        Raises
        ------
        ExpressionError, UndefinedNameError, RateFunctionError
        """
        if callable(event.when):
            return match_arguments(event.when, self.states, self.parameters)
        written = event.read()
        check_defined({event.name: written}, [*self.states, *self.parameters, *self.derived], "an event")
        return self.written_out(written.node)

    def written_out(self, node: Node) -> Node:
        """Return a tree with derived names replaced by their formulas."""
        return replace_names(node, self.derived.get, {})


def refuse_clashes(parameters: Mapping[str, float], states: tuple[str, ...], derived: tuple[str, ...]) -> None:
    """Refuse names with two meanings.

    Raises
    ------
    NameClashError
    """
    known = set(states)
    for named in (*parameters, *derived):
        kinds = [
            kind
            for kind, group in (("parameter", parameters), ("state", known), ("derived quantity", derived))
            if named in group
        ]
        if len(kinds) > 1:
            raise NameClashError(
                f"'{named}' is used for two things",
                name=named,
                place=" and ".join(kinds),
                expected="one meaning for each name",
                given=f"a {' and a '.join(kinds)}",
            )


def refuse_missing_rates(
    initial: Mapping[str, float], states: tuple[str, ...], equations: Mapping[str, Written]
) -> None:
    """Refuse names that have an initial value and are used, but have no equation.

    Raises
    ------
    MissingRateError
    """
    used = {mention for formula in equations.values() for mention in formula.mentions}
    known = {*states, *equations}
    missing = [named for named in initial if named not in known and named in used]
    if missing:
        raise MissingRateError(
            "no equation says how " + ", ".join(f"'{named}'" for named in missing) + " changes",
            name=", ".join(missing),
            place="the equations",
            expected="; ".join(f"a line {named}' = …" for named in missing),
            given="an initial value and uses, but no rate",
        )


def write_out(derived: Mapping[str, Node]) -> dict[str, Node]:
    """Return derived quantities in terms of time, states and parameters only.

    Raises
    ------
    CircularDerivedError
    """
    ready: dict[str, Node] = {}
    for key, node in in_order(derived).items():
        ready[key] = replace_names(node, ready.get, {})
    return {key: ready[key] for key in derived}


def read_exact(
    exact: Mapping[str, str] | None, states: tuple[str, ...], parameters: Mapping[str, float]
) -> dict[str, Node]:
    """Read closed forms of states in terms of time and parameters.

    Raises
    ------
    UnusedValueError, UndefinedNameError, ExpressionError
    """
    formulas = {key: read(Source(text, f"the closed form of '{key}'")) for key, text in (exact or {}).items()}
    for key in formulas:
        if key not in states:
            raise UnusedValueError(
                f"a closed form for '{key}', which is no state{near_spelling(key, states)}",
                name=key,
                place="exact",
                expected="closed forms of " + ", ".join(states),
                given=key,
            )
    check_defined(formulas, parameters, "closed forms")
    return {key: formula.node for key, formula in formulas.items()}
