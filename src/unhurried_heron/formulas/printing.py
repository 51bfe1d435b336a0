"""Writing expression trees as text and as LaTeX."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from typing import Final

from unhurried_heron.formulas.expression import BOUND, SUM, Node, upwards
from unhurried_heron.formulas.operation import CALL_RANK
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS, with_fact
from unhurried_heron.formulas.state_name import StateName

# what stands between its arguments, and what is written by a template
_BETWEEN: Final = with_fact(lambda each: each.kind in ("comparison", "logic"))
_TEMPLATES: Final = with_fact(lambda each: "#1" in each.latex)
_PART: Final = re.compile(r"#(\d)")
# how tightly an operation binds; what binds less tightly than its surroundings needs parentheses
_RANK: Final = {name: each.rank for name, each in OPERATIONS.items()}
_GREEK: Final = frozenset(
    name
    for row in (
        "alpha beta gamma delta epsilon zeta eta theta iota kappa lambda mu nu xi rho sigma tau phi chi psi omega",
        "Gamma Delta Theta Lambda Xi Sigma Phi Psi Omega",
    )
    for name in row.split(" ")
)
# Characters of a printed formula.
_LONGEST: Final = 100_000


def number_text(value: float) -> str:
    """Write a number shortly and exactly."""
    if abs(value) == math.pi:
        return "pi" if value > 0 else "-pi"
    if abs(value) == math.e:
        return "e" if value > 0 else "-e"
    if value == int(value) and abs(value) < 1e15:
        return f"{value:.0f}"
    return repr(value)


def value_text(value: complex, digits: int) -> str:
    """Return a number with some significant digits; a complex one as ``1.5 - 2i``."""
    if not isinstance(value, complex):
        return f"{value:.{digits}g}"
    sign = "-" if math.copysign(1.0, value.imag) < 0.0 else "+"
    return f"{value.real:.{digits}g} {sign} {abs(value.imag):.{digits}g}i"


def to_text(root: Node, known: Mapping[Node, str] | None = None) -> str:
    """Write a tree in the notation it is read in; a text that would be endless ends in dots.

    ``known`` gives names for formulas: where one stands within the tree, its name is written.
    """
    done: dict[Node, tuple[str, int]] = {}
    for node in upwards(root):
        named = known.get(node) if known and node is not root else None
        text, rank = (named, CALL_RANK) if named else _text(node, done)
        done[node] = (text, rank) if len(text) < _LONGEST else ("…", CALL_RANK)
    return done[root][0]


def _wrapped(node: Node, done: Mapping[Node, tuple[str, int]], least: int) -> str:
    """Return the text of a node, in parentheses where it binds less than it must.

    Parameters
    ----------
    node : Node
    done : mapping of Node
        What is known of parts that were seen before.
    least : int
        The rank without parentheses.

    Returns
    -------
    str
    """
    text, rank = done[node]
    return text if rank >= least else f"({text})"


def _sum(node: Node, done: Mapping[Node, tuple[str, int]], wrapped: Callable[..., str]) -> str:
    """Return the text of a sum.

    Parameters
    ----------
    node : Node
    done : mapping of Node
        What is known of parts that were seen before.
    wrapped : callable
        What puts a part in parentheses.

    Returns
    -------
    str
    """
    first, *others = node.operands
    text: str = wrapped(first, done, _RANK["add"])
    for term in others:
        negative = term.op == "neg"
        part = wrapped(term.operands[0] if negative else term, done, _RANK["add"] + int(negative))
        text += f" - {part}" if negative else f" - {part[1:]}" if part.startswith("-") else f" + {part}"
    return text


def _text(node: Node, done: Mapping[Node, tuple[str, int]]) -> tuple[str, int]:
    op, operands = node.op, node.operands
    rank = _RANK.get(op, CALL_RANK)
    if op == "number":
        value = float(node.args[0])
        return number_text(value), CALL_RANK if math.copysign(1.0, value) > 0 else _RANK["neg"]
    if op == "name":
        return str(node.args[0]).partition(BOUND)[0], CALL_RANK
    if op == "add":
        return _sum(node, done, _wrapped), rank
    if op == "mul":
        # a leading sign needs no parentheses: -x*y is read as (-x)*y
        least = _RANK["neg"] if done[operands[0]][1] == _RANK["neg"] else rank
        parts = [_wrapped(factor, done, rank + 1 if i else least) for i, factor in enumerate(operands)]
        return "*".join(parts), least
    if op == "div":
        least = _RANK["neg"] if done[operands[0]][1] == _RANK["neg"] else rank
        return f"{_wrapped(operands[0], done, least)}/{_wrapped(operands[1], done, rank + 1)}", least
    if op == "neg":
        return f"-{_wrapped(operands[0], done, rank + 1)}", rank
    if op == "pow":
        return f"{_wrapped(operands[0], done, rank + 1)}^{_wrapped(operands[1], done, rank + 1)}", rank
    if op == "not":
        return f"not {_wrapped(operands[0], done, rank)}", rank
    if op in _BETWEEN:
        return f" {OPERATIONS[op].sign} ".join(_wrapped(part, done, rank + 1) for part in operands), rank
    inside = ", ".join(done[part][0] for part in operands)
    if op == "at":
        base, primes, _ = StateName.read(str(node.args[0]))
        return StateName(base, primes, inside.replace(" ", "")).as_people_write, CALL_RANK
    if op == SUM:
        first, last, body = (done[part][0] for part in operands)
        return f"sum({body} for {str(node.args[0]).partition(BOUND)[0]} in {first}..{last})", CALL_RANK
    if op == "slot":
        return f"state {node.args[0]}", CALL_RANK
    return f"{op}({inside})", CALL_RANK


def name_latex(name: str) -> str:
    """Write a name in LaTeX: Greek letters by name, what follows an underscore or a digit as an index."""
    base, primes, _ = StateName.read(name.partition(BOUND)[0])
    parts = [part for part in re.split(r"_|(?<=[^\W\d])(?=\d)", base) if part]
    words = [f"\\{part}" if part in _GREEK else part if len(part) == 1 else rf"\mathrm{{{part}}}" for part in parts]
    text = words[0] + (f"_{{{','.join(words[1:])}}}" if words[1:] else "")
    return text + "'" * primes


def to_latex(root: Node) -> str:
    """Write a tree in LaTeX."""
    done: dict[Node, tuple[str, int]] = {}
    for node in upwards(root):
        text, rank = _latex(node, done)
        done[node] = (text, rank) if len(text) < _LONGEST else (r"\dots", CALL_RANK)
    return done[root][0]


def _grouped(node: Node, done: Mapping[Node, tuple[str, int]], least: int) -> str:
    """Return the LaTeX of a node, in parentheses where it binds less than it must.

    Parameters
    ----------
    node : Node
    done : mapping of Node
        What is known of parts that were seen before.
    least : int
        The rank without parentheses.

    Returns
    -------
    str
    """
    text, rank = done[node]
    return text if rank >= least else rf"\left({text}\right)"


def _latex(node: Node, done: Mapping[Node, tuple[str, int]]) -> tuple[str, int]:
    op, operands = node.op, node.operands
    rank = _RANK.get(op, CALL_RANK)
    if op == "number":
        return _latex_number(float(node.args[0])), _text(node, {})[1]
    if op == "name":
        return name_latex(str(node.args[0])), CALL_RANK
    if op == "add":
        return _sum(node, done, _grouped), rank
    if op == "mul":
        # as in text, a leading sign needs no parentheses
        least = min(rank, max(done[operands[0]][1], _RANK["neg"]))
        parts = (_grouped(factor, done, rank if i else least) for i, factor in enumerate(operands))
        return r" \, ".join(parts), least
    if op == "neg":
        return f"-{_grouped(operands[0], done, rank + 1)}", rank
    if op == "pow":
        return f"{_grouped(operands[0], done, CALL_RANK)}^{{{done[operands[1]][0]}}}", rank
    if op == "not":
        return f"{OPERATIONS[op].latex} {_grouped(operands[0], done, rank)}", rank
    if op in _BETWEEN:
        return f" {OPERATIONS[op].latex} ".join(_grouped(part, done, rank + 1) for part in operands), rank
    if op in _TEMPLATES:
        written = [done[part][0] for part in operands]
        # a quotient that is a fraction binds like a power, whatever it is in text
        bound = CALL_RANK if rank == CALL_RANK else _RANK["pow"]
        return _PART.sub(lambda match: written[int(match[1]) - 1], OPERATIONS[op].latex), bound
    inside = ", ".join(done[part][0] for part in operands)
    if op == "at":
        base, primes, _ = StateName.read(str(node.args[0]))
        return f"{name_latex(base)}_{{{inside}}}" + "'" * primes, CALL_RANK
    if op == SUM:
        first, last, body = (_grouped(part, done, 6) for part in operands)
        return rf"\sum_{{{name_latex(node.args[0])}={first}}}^{{{last}}} {body}", _RANK["add"]
    known = OPERATIONS.get(op) or COMPLEX_FUNCTIONS.get(op)
    function = known.latex if known else rf"\mathrm{{{op}}}"
    return rf"{function}\left({inside}\right)", CALL_RANK


def _latex_number(value: float) -> str:
    text = number_text(value).replace("pi", r"\pi")
    mantissa, sign, exponent = text.partition("e") if text[-1] != "e" else (text, "", "")
    return rf"{mantissa} \cdot 10^{{{int(exponent)}}}" if sign else text
