"""A block of equations, statement by statement: lines in any order, each with one equals sign."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from unhurried_heron.deadline import check_deadline
from unhurried_heron.errors import ExpressionError
from unhurried_heron.formulas.expression import Node, name
from unhurried_heron.formulas.notation import count_primes, in_one_spelling
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.names import check_name

_PLAIN_LEFT = re.compile(
    r"\s*(?P<name>[^\W\d]\w*)\s*(?P<primes>['′-‴]*)\s*(?P<index>\[[^\[\]]*\])?\s*(?P<more>['′-‴]*)\s*$"
)
# The bound keeps the time until a text is refused short.
MAX_CHARACTERS = 150_000
_FOR = re.compile(r"\bfor\b")
_RANGE = re.compile(r"\s*(?P<index>\w+)\s+in\b(?P<span>.*)$", re.S)
# dy/dx, as on paper
_QUOTIENT = re.compile(r"\s*d\s*(?P<state>[^\W\d]\w*)\s*/\s*d\s*(?P<by>[^\W\d]\w*)\s*$")
_EQUALS = re.compile(r"(?<![<>=!])=(?!=)")


@dataclass(frozen=True)
class Range:
    """``i in 1..n``: an index and its ends, which are whole numbers once the parameters are known."""

    index: str
    first: Formula
    last: Formula


@dataclass(frozen=True)
class Target:
    """A left side that is one name: the name, its primes and its indices."""

    name: str
    primes: int
    indices: tuple[Node, ...]

    @property
    def label(self) -> str:
        """The name with its primes."""
        return self.name + "'" * self.primes


@dataclass(frozen=True)
class EquationLine:
    """One equation: both sides, what its left side names (None for a formula), and the ranges of its indices."""

    line: int
    text: str
    left: Formula
    right: Formula
    target: Target | None
    ranges: tuple[Range, ...]

    @property
    def location(self) -> str:
        """The equation's location in the user's text."""
        return f"line {self.line}: {self.text}"


def read_statements(
    text: str, collector: ErrorCollector, location: str = "the equations", *, timed: bool = False
) -> list[EquationLine]:
    """Read every equation; what cannot be read goes to the mistakes.

    Blank lines and ``#`` comments are skipped; a line with an open parenthesis goes on in the next.

    Parameters
    ----------
    text : str
    collector : ErrorCollector
        Gathers what is wrong.
    location : str, optional
        Where this was said, for messages.
    timed : bool, optional
        Whether the deadline of the call is heeded.

    Returns
    -------
    list[EquationLine]

    Raises
    ------
    ExpressionError, NameClashError
        A line is no equation or its formula is refused, unless the mistakes gather what is wrong.
    OutOfTimeError
        The deadline of the call passed before all lines were read.
    """
    if len(text) > MAX_CHARACTERS:
        collector.add(
            ExpressionError(
                "the text is too long",
                location=location,
                expected=f"at most {MAX_CHARACTERS:,} characters; indexed states (u[i]) say more in fewer",
                given=f"{len(text):,}",
            )
        )
        return []
    statements: list[EquationLine] = []
    for line, words in _lines(text):
        if timed:
            check_deadline()
        count = len(statements)
        with collector.gathering():
            statements.append(_read_statement(words, Source(words, location, line), line))
        if len(statements) == count:
            collector.assumed |= _names_on_the_left(words)
            collector.suspected |= set(re.findall(r"\w+", words))
    return statements


def _names_on_the_left(words: str) -> set[str]:
    """Return what a line that cannot be read would probably have defined."""
    match = _PLAIN_LEFT.match(words.partition("=")[0])
    if match is None:
        return set()
    return {match["name"] + "'" * k for k in range(count_primes(match["primes"]) + 1)}


def _read_statement(words: str, source: Source, line: int) -> EquationLine:
    """Read one equation.

    Parameters
    ----------
    words : str
        As the user wrote it.
    source : Source
        The text it stands in.
    line : int
        Its number.

    Returns
    -------
    EquationLine

    Raises
    ------
    ExpressionError
        It is no equation.
    """
    body, ranges = _split_ranges(words, source)
    signs = [found.start() for found in _EQUALS.finditer(body)]
    if len(signs) != 1:
        raise ExpressionError(
            "cannot read this line as an equation",
            location=source.point(len(words) - len(words.lstrip())),
            expected="one equals sign: name' = formula, name = formula for a derived quantity, or formula = formula",
            given=words.strip()[:80],
        )
    quotient = _QUOTIENT.match(words[: signs[0]])
    if quotient:
        state, by = quotient["state"], quotient["by"]
        other = "" if by == "t" else f" The independent variable is called t here: write t for {by} everywhere."
        raise ExpressionError(
            f"a derivative is written with a prime: {state}'.{other}",
            location=source.point(quotient.start("state")),
            expected=f"{state}' = …",
            given=quotient[0].strip(),
        )
    match = _PLAIN_LEFT.match(words[: signs[0]])
    named = in_one_spelling(match["name"]) if match else ""
    if match is not None:
        check_name(named, source.point(match.start("name")))
    left = _plain_name(match, named, source) if match else read(source, 0, signs[0])
    right = read(source, signs[0] + 1, len(body))
    target = None
    if match is not None:
        primes = count_primes(match["primes"]) + count_primes(match["more"])
        target = Target(named, primes, left.node.operands if left.node.op == "at" else ())
    return EquationLine(line, " ".join(words.split()), left, right, target, ranges)


def _plain_name(match: re.Match[str], named: str, source: Source) -> Formula:
    """Read the left side of most equations without the whole grammar.

    Parameters
    ----------
    match : re.Match
        Of the name.
    named : str
        The name.
    source : Source
        The text it stands in.

    Returns
    -------
    Formula
    """
    if match["index"]:
        return read(source, 0, match.end())
    found = named + "'" * (count_primes(match["primes"]) + count_primes(match["more"]))
    node, begin = name(found), match.start("name")
    return Formula(node, source, {found: begin}, {node: (begin, len(match[0].rstrip()))})


def _split_ranges(words: str, source: Source) -> tuple[str, tuple[Range, ...]]:
    """Cut ``for i in 1..n, j in 1..m`` off the end of a statement; a ``for`` in parentheses belongs to a sum."""
    for found in _FOR.finditer(words):
        before = words[: found.start()]
        if before.count("(") == before.count(")"):
            ranges = tuple(_read_ranges(words, found.end(), source))
            return before, ranges
    return words, ()


def _read_ranges(words: str, begin: int, source: Source) -> Iterator[Range]:
    """Read the ranges of indices behind an equation.

    Parameters
    ----------
    words : str
        As the user wrote it.
    begin : int
        Where they begin.
    source : Source
        The text it stands in.

    Yields
    ------
    Iterator[Range]

    Raises
    ------
    ExpressionError
        One is no range.
    """
    for part in re.split(r",(?![^(]*\))", words[begin:]):
        match = _RANGE.match(part)
        span = match["span"] if match else ""
        first, dots, last = span.partition("..")
        if match is None or not dots or not first.strip() or not last.strip():
            raise ExpressionError(
                "cannot read this range of an index",
                location=source.point(min(begin, len(words) - 1)),
                expected="for i in 1..n (several ranges with commas between them)",
                given=part.strip()[:60],
            )
        check_name(match["index"], source.point(begin))
        at = begin + match.start("span")
        middle = at + len(first)
        yield Range(match["index"], read(source, at, middle), read(source, middle + 2, begin + len(part)))
        begin += len(part) + 1


def _lines(text: str) -> Iterator[tuple[int, str]]:
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
