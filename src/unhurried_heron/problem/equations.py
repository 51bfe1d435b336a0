"""Reading a block of equations: lines in any order, with a prime for rates and without for derived names."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from unhurried_heron.errors import (
    CircularDerivedError,
    ExpressionError,
    NameClashError,
    UndefinedNameError,
    near_spelling,
)
from unhurried_heron.problem.expression import RESERVED, TIME, Node, names_in
from unhurried_heron.problem.grammar import PLAIN_NAME, Source, Written, read

_LEFT = re.compile(r"\s*(?P<name>\w+)\s*(?P<primes>['′]*)\s*$")


@dataclass(frozen=True)
class Equations:
    """What a block of equations says: the rate of each state and each derived quantity, in written order."""

    rates: dict[str, Written]
    derived: dict[str, Written]


def read_equations(text: str) -> Equations:
    """Read lines ``name' = formula`` (a rate) and ``name = formula`` (a derived quantity).

    Blank lines and ``#`` comments are skipped; a line with an open parenthesis goes on in the next.

    Raises
    ------
    ExpressionError
        A line is no equation, or its formula is refused.
    NameClashError
        A name is defined twice, or is one of the built-in names.
    """
    rates: dict[str, Written] = {}
    derived: dict[str, Written] = {}
    for line, statement in _statements(text):
        left, sign, right = statement.partition("=")
        match = _LEFT.match(left)
        source = Source(statement, "the equations", line)
        if not sign or match is None or right.startswith("="):
            raise ExpressionError(
                "cannot read this line as an equation",
                place=source.point(len(statement) - len(statement.lstrip())),
                expected="name' = formula, or name = formula for a derived quantity",
                given=statement.strip()[:80],
            )
        defined = unicodedata.normalize("NFKC", match["name"])
        at = source.point(match.start("name"))
        check_name(defined, at)
        if len(match["primes"]) > 1:
            raise ExpressionError(
                f"'{defined}' has {len(match['primes'])} primes",
                name=defined,
                place=at,
                expected="first-order equations, one prime: give each derivative a name and an equation",
                given=statement.strip()[:80],
            )
        if defined in rates or defined in derived:
            raise NameClashError(
                f"'{defined}' is defined twice",
                name=defined,
                place=at,
                expected="one equation for each name",
                given="a second one",
            )
        if "'" in right or "′" in right:
            offset = len(left) + 1 + re.search("['′]", right).start()  # type: ignore[union-attr]  # one is there
            raise ExpressionError(
                "a derivative stands on the right-hand side",
                name=defined,
                place=source.point(offset),
                expected="first-order equations solved for their derivatives",
                given=statement.strip()[:80],
            )
        written = read(source, len(left) + 1)
        (rates if match["primes"] else derived)[defined] = written
    if not rates:
        raise ExpressionError(
            "the equations hold no rate",
            place="the equations",
            expected="at least one line such as level' = inflow - outflow",
            given=f"{len(derived)} derived quantities",
        )
    return Equations(rates, derived)


def _statements(text: str) -> Iterable[tuple[int, str]]:
    pending, first, depth = "", 0, 0
    for count, raw in enumerate(text.splitlines(), 1):
        line = raw.split("#", 1)[0].rstrip()
        if not pending and not line.strip():
            continue
        first = first if pending else count
        pending = f"{pending}\n{line}" if pending else line
        depth += line.count("(") - line.count(")")
        if depth <= 0:
            yield first, pending
            pending, depth = "", 0
    if pending:
        yield first, pending


def check_name(defined: str, place: str) -> None:
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
            place=place,
            expected="a name that is not built in",
            given=defined,
        )
    if not defined.isidentifier() or not PLAIN_NAME.fullmatch(defined):
        raise ExpressionError(
            f"'{defined}' cannot be a name",
            name=defined,
            place=place,
            expected="a letter first, then letters, digits and underscores",
            given=defined,
        )


def check_defined(written: Mapping[str, Written], known: Iterable[str], what: str) -> None:
    """Refuse names without a meaning, all of them in one message.

    Raises
    ------
    UndefinedNameError
    """
    known = set(known) | {TIME}
    missing: dict[str, str] = {}
    for formula in written.values():
        for mentioned, offset in formula.mentions.items():
            if mentioned not in known and mentioned not in missing:
                missing[mentioned] = (
                    formula.source.point(offset)
                    + f"\n    '{mentioned}' has no value{near_spelling(mentioned, known - {TIME})}"
                )
    if missing:
        listed = ", ".join(f"'{name}'" for name in missing)
        raise UndefinedNameError(
            f"not defined, but used in {what}: {listed}",
            names=tuple(missing),
            place="\n  ".join(missing.values()),
            expected="a parameter, a state or a derived quantity for each name",
        )


def in_order(derived: Mapping[str, Node]) -> dict[str, Node]:
    """Return the derived quantities so ordered that each uses only those before it.

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
                    "derived quantities need each other in a circle",
                    name=open_needs[0],
                    place="the equations of " + ", ".join(circle[:-1]),
                    expected="each derived quantity computable from states, parameters, time and others before it",
                    given=" needs ".join(circle),
                )
            else:
                path.append(open_needs[0])
    return done
