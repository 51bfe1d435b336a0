"""Checks on names: what may be one, what is known, what is used for two things."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from unhurried_heron.errors import (
    MAX_NAMED,
    CircularDerivedError,
    ExpressionError,
    NameClashError,
    UndefinedNameError,
    listing,
    near_spelling,
)
from unhurried_heron.formulas.expression import IMAGINARY, RESERVED, TIME, Node, names_in
from unhurried_heron.formulas.parser import PLAIN_NAME
from unhurried_heron.formulas.source import Formula


def check_name(defined: str, location: str) -> None:
    """Refuse names that cannot be used for a state, parameter or derived quantity."""
    if defined in RESERVED:
        meaning = {
            TIME: "the time",
            "pi": "the number 3.14159…",
            "e": "the number 2.71828… (write exp(x) for its powers)",
        }.get(defined, "built in")
        raise NameClashError(
            f"the name '{defined}' is taken: it is {meaning}",
            name=defined,
            location=location,
            expected="a name that is not built in",
            given=defined,
        )
    if not defined.isidentifier() or not PLAIN_NAME.fullmatch(defined):
        raise ExpressionError(
            f"'{defined}' cannot be a name",
            name=defined,
            location=location,
            expected="a letter first, then letters, digits and underscores",
            given=defined,
        )


def check_defined(written: Mapping[str, Formula], known: Iterable[str], what: str) -> None:
    """Refuse names without a meaning, all of them in one message, and functions whose names mean something else.

    Parameters
    ----------
    written : mapping of str to Formula
    known : iterable of str
        Names with a meaning.
    what : str
        What is spoken of, for messages.

    Raises
    ------
    UndefinedNameError, NameClashError
    """
    known = set(known) | {TIME}
    for formula in written.values():
        for called, offset in formula.calls.items():
            if called in known:
                raise NameClashError(
                    f"'{called}' is called as a function, and has a value here",
                    name=called,
                    location=formula.source.point(offset),
                    expected=f"a product with its *, as {called}*(…), or another name for what has the value",
                    given=f"{called}(…)",
                )
    missing: dict[str, str] = {}
    for formula in written.values():
        for mentioned, offset in formula.mentions.items():
            if mentioned not in known and mentioned not in missing:
                shown = len(missing) < MAX_NAMED
                missing[mentioned] = _pointed_at(formula, mentioned, offset, known - {TIME}) if shown else ""
    if missing:
        listed = listing(missing, quoted=True)
        if len(missing) == 1 and missing.keys() <= {"x", "T", "time", "tau", "s"}:
            listed += " (the independent variable is called t)"
        if len(missing) == 1 and IMAGINARY in missing:
            listed += " (it is the imaginary unit where a state starts from a complex number, as 1 + 0j)"
        raise UndefinedNameError(
            f"not defined, but used in {what}: {listed}",
            names=tuple(missing),
            location="\n  ".join(filter(None, missing.values())),
            expected="a parameter, a state or a derived quantity for each name",
        )


def _pointed_at(formula: Formula, name: str, offset: int, known: set[str]) -> str:
    """Return a line of a formula with a mark below a name, and names near to it.

    Parameters
    ----------
    formula : Formula
    name : str
    offset : int
        Where it stands.
    known : set of str
        Names with a meaning.

    Returns
    -------
    str
    """
    return formula.source.point(offset) + f"\n    '{name}' has no value{near_spelling(name, known)}"


def in_order(derived: Mapping[str, Node], what: str = "derived quantities") -> dict[str, Node]:
    """Return named formulas so ordered that each uses only those before it.

    Raises
    ------
    CircularDerivedError
        Some of them use each other in a circle; the circle is named.
    """
    needs = {key: sorted(names_in(node) & derived.keys()) for key, node in derived.items()}
    done: dict[str, Node] = {}
    for start in derived:
        path = [start]
        while path:
            current = path[-1]
            open_needs = [need for need in needs[current] if need not in done]
            if current in done or not open_needs:
                done.setdefault(current, derived[current])
                path.pop()
            elif open_needs[0] in path:
                circle = [*path[path.index(open_needs[0]) :], open_needs[0]]
                raise CircularDerivedError(
                    f"{what} need each other in a circle",
                    name=open_needs[0],
                    location="the equations of " + listing(circle[:-1]),
                    expected="an order in which each can be computed from those before it",
                    given=" needs ".join(circle),
                )
            else:
                path.append(open_needs[0])
    return done
