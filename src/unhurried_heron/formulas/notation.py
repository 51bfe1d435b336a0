"""From the signs of paper to those of Python's grammar, with the way back to each position in the user's text."""

from __future__ import annotations

import ast
import re
import unicodedata
from typing import Final

# a letter to Python's grammar, so that z'' is one name; it becomes ' again when the name is read
PRIME: Final = "\u02b9"
_SIGNS: Final = {"^": "**", "\n": " ", "'": PRIME, "\u2032": PRIME, "\u2033": 2 * PRIME, "\u2034": 3 * PRIME}
# in u[i]' the prime belongs to the indexed state, so it goes before the index
_PRIMED_INDEX: Final = re.compile(r"(\[[^\[\]]*\])(['\u2032-\u2034]+)")
_ASCII_SIGN: Final = re.compile(r"[\^\n']|\.\.")
PRIMES: Final = re.compile(r"['\u2032-\u2034]+$")
# What parts of Python are called that no formula has.
SYNTAX_NAMES: Final = {
    ast.Attribute: "attribute access (a dot after a name)",
    ast.Subscript: "a subscript",
    ast.Lambda: "a lambda",
    ast.ListComp: "a comprehension",
    ast.SetComp: "a comprehension",
    ast.DictComp: "a comprehension",
    ast.GeneratorExp: "a comprehension",
    ast.NamedExpr: "an assignment inside an expression",
    ast.IfExp: "an if-else (write where(condition, a, b))",
    ast.Tuple: "a list of values",
    ast.List: "a list of values",
    ast.JoinedStr: "a text",
    ast.Starred: "a star",
}
# what people write elsewhere
SAID_OTHERWISE: Final = {
    "ln": "log(x), the natural logarithm",
    "lg": "log10(x)",
    "heaviside": "step(x), or step(t - 6) for a step at t = 6",
    "Heaviside": "step(x), or step(t - 6) for a step at t = 6",
    "arcsin": "asin(x)",
    "arccos": "acos(x)",
    "arctan": "atan(x)",
    "arctan2": "atan2(y, x)",
    "sgn": "sign(x)",
    "fabs": "abs(x)",
    "pow": "x^n",
    "sec": "1/cos(x)",
    "csc": "1/sin(x)",
    "cot": "1/tan(x)",
    "if": "where(condition, a, b)",
    "ifelse": "where(condition, a, b)",
    "piecewise": "where(condition, a, b)",
    "Piecewise": "where(condition, a, b)",
    "dirac": "a narrow pulse(t, from, to) of unit area",
    "delta": "a narrow pulse(t, from, to) of unit area",
}


def in_one_spelling(name: str) -> str:
    """Return a name in the one spelling that formulas give it: the micro sign and the Greek mu are one letter."""
    return name if name.isascii() else unicodedata.normalize("NFKC", name)


def count_primes(text: str) -> int:
    """Count the primes at the end of a name."""
    found = PRIMES.search(text)
    return sum(len(_SIGNS[sign]) for sign in found[0]) if found else 0


def to_python(text: str, begin: int) -> tuple[str, list[int]]:
    """Return the text in Python's signs, and for each of its UTF-8 bytes the offset in the user's text.

    ``'`` after a name becomes part of it, ``^`` becomes ``**`` and ``..`` becomes ``|``, which nothing else uses.
    """
    if text.isascii() and not _PRIMED_INDEX.search(text):
        return _plain_to_python(text, begin)
    order = list(range(len(text)))
    for found in _PRIMED_INDEX.finditer(text):
        a, b, c = found.start(1), found.start(2), found.end(2)
        order[a:c] = [*range(b, c), *range(a, b)]
    parts, offsets = [], []
    skip = False
    for index, offset in enumerate(order):
        if skip:
            skip = False
            continue
        piece = _SIGNS.get(text[offset], text[offset])
        if text[offset] == "." and index + 1 < len(order) and text[order[index + 1]] == ".":
            # blanks, so that 1..n is not read as the number 1. and something else
            piece, skip = " | ", True
        parts.append(piece)
        offsets.extend([begin + offset] * len(piece.encode("utf-8", "replace")))
    offsets.append(begin + len(text))
    return "".join(parts), offsets


def _plain_to_python(text: str, begin: int) -> tuple[str, list[int]]:
    """Do the same for a text of plain characters, stretch by stretch."""
    parts: list[str] = []
    offsets: list[int] = []
    done = 0
    for found in _ASCII_SIGN.finditer(text):
        piece = " | " if found[0] == ".." else _SIGNS[found[0]]
        parts += [text[done : found.start()], piece]
        offsets.extend(range(begin + done, begin + found.start()))
        offsets.extend([begin + found.start()] * len(piece.encode()))
        done = found.end()
    parts.append(text[done:])
    offsets.extend(range(begin + done, begin + len(text) + 1))
    return "".join(parts), offsets
