"""Reading one written expression: a whitelist on Python's own syntax tree, nothing else is reachable."""

from __future__ import annotations

import ast
import functools
import math
import re
from typing import Final

import numpy as np

from unhurried_heron.errors import ExpressionError, excerpt, near_spelling, unforeseen
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import (
    ALSO_NAMES,
    BOUND,
    CONSTANTS,
    RESERVED,
    SUM,
    Node,
    name,
    neg,
    number,
    replace_names,
)
from unhurried_heron.formulas.notation import PRIME, SAID_OTHERWISE, SYNTAX_NAMES, in_one_spelling, to_python
from unhurried_heron.formulas.operations import EXPANSIONS, FUNCTIONS, with_fact
from unhurried_heron.formulas.source import Formula, Source

# Levels of parentheses, well below the depth of Python's own recursion.
MAX_DEPTH: Final = 100
# The largest written exponent.
MAX_EXPONENT: Final = 1000.0
# Characters of one formula.
MAX_LENGTH: Final = 100_000
# Functions whose first argument is an order.
_OF_WHOLE_ORDER: Final = with_fact(lambda each: each.ordered)
PLAIN_NAME: Final = re.compile(r"(?!_)\w+")

_COMPARISONS: Final = {
    ast.Lt: "lt",
    ast.LtE: "le",
    ast.Gt: "gt",
    ast.GtE: "ge",
    ast.Eq: "eq",
    ast.NotEq: "ne",
}


def read(source: Source, begin: int = 0, end: int | None = None) -> Formula:
    """Read one expression: the part of the source from ``begin`` to ``end``.

    Parameters
    ----------
    source : Source
        The text it stands in.
    begin : int, optional
    end : int or None, optional
        None: the end of the source.

    Returns
    -------
    Formula

    Raises
    ------
    ExpressionError
        The text is malformed, too long or too deep, or uses anything but numbers, names, arithmetic,
        comparisons, ``and or not`` and the functions of `operations.FUNCTIONS`.
    """
    text = source.text[begin:end]
    if not text.strip():
        raise ExpressionError(
            "an expression is empty", location=source.point(begin), expected="a formula", given="nothing"
        )
    if len(text) > MAX_LENGTH:
        raise ExpressionError("an expression is too long", location=source.location, given=str(len(text)),
                              expected=f"at most {MAX_LENGTH} characters")  # fmt: skip
    strange = _STRANGE.search(text)
    if strange:
        raise ExpressionError("this sign is not allowed in an equation", given=strange[0],
                              location=source.point(begin + strange.start()),
                              expected="+ - * / ^, and or not")  # fmt: skip
    return _Reader(source, begin, text).read()


# numbers and what hangs on to them; a name with digits is none
_NUMBER: Final = re.compile(
    r"(?<![\w.])(?P<number>\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?)(?P<tail>(?![jJ]\b)[^\W\d\u02b9]\w*)?"
)
# in u[i]' the primes end the user's words, but not the parser's
_PRIMES_HERE: Final = re.compile(r"['\u2032-\u2034]+")
_STRANGE: Final = re.compile(r"[|\"\\`$?]")
_KEYWORDS: Final = frozenset({"and", "or", "not", "for", "in", "if", "else", "is"})


class _Reader:
    def __init__(self, source: Source, begin: int, text: str) -> None:
        self.source = source
        self.mentions: dict[str, int] = {}
        self.calls: dict[str, int] = {}
        self.spans: dict[Node, tuple[int, int]] = {}
        # indices of the sums around the present node, under names that nothing else has
        self.bound: dict[str, str] = {}
        self.sums = 0
        self.constant: set[Node] = set()
        self.python, self.offsets = to_python(text, begin)

    def read(self) -> Formula:
        text = self.python
        # refused here: Python would only warn of some, and the filters of warnings belong to the whole process
        for found in _NUMBER.finditer(text):
            if found["tail"]:
                word = found["tail"] in _KEYWORDS
                message = f"between '{found['number']}' and '{found['tail']}' a {'space' if word else '*'} is missing"
                wanted = f"{found['number']}{' ' if word else '*'}{found['tail']}"
                raise self.refuse(message, len(text[: found.start()].encode()), found[0], wanted)
        lead = len(text) - len(text.lstrip())
        self.offsets = self.offsets[len(text[:lead].encode()) :]
        try:
            tree = ast.parse(text.strip(), mode="eval").body
        except SyntaxError as error:
            column = (error.offset or 1) - 1
            prefix = text.strip()[: max(column, 0)]
            raise self.refuse(
                "cannot read this as a formula", len(prefix.encode("utf-8", "replace")), error.msg
            ) from None
        except (RecursionError, MemoryError):
            raise self.refuse("the expression is nested too deeply", 0, "more than can be read") from None
        except ValueError as error:
            raise self.refuse("cannot read this as a formula", 0, str(error)) from None
        return Formula(self.build(tree, 0), self.source, self.mentions, self.spans, self.calls)

    def refuse(self, message: str, offset: int, given: str, expected: str = "") -> ExpressionError:
        """Return the error that refuses a part of the text.

        Parameters
        ----------
        message : str
        offset : int
            Where the part begins.
        given : str
            What was given.
        expected : str, optional
            What was expected.

        Returns
        -------
        ExpressionError
        """
        index = self.offsets[min(max(offset, 0), len(self.offsets) - 1)]
        return ExpressionError(message, location=self.source.point(index), expected=expected, given=given)

    def span(self, tree: ast.expr) -> tuple[int, int]:
        last = len(self.offsets) - 1
        start = self.offsets[min(tree.col_offset, last)]
        # the offset of the last byte that belongs to it, so that a moved prime does not stretch it
        end = max(start, self.offsets[min((tree.end_col_offset or 1) - 1, last)]) + 1
        primes = _PRIMES_HERE.match(self.source.text, end) if isinstance(tree, ast.Subscript) else None
        return start, primes.end() if primes else end

    def excerpt(self, tree: ast.expr) -> str:
        start, end = self.span(tree)
        return self.source.text[start : min(end, start + 60)]

    def build(self, tree: ast.expr, depth: int) -> Node:
        node = self.build_node(tree, depth)
        if node.op == "number" or (node.op not in ("name", "at", SUM) and self.constant.issuperset(node.operands)):
            self.constant.add(node)
            if node.op == "div" and not np.isfinite(evaluate(node, {})):
                raise self.refuse(
                    "a constant is not finite", tree.col_offset, self.excerpt(tree), "a number such as 1/3"
                )
        if node not in self.spans:
            self.spans[node] = self.span(tree)
        return node

    def build_node(self, tree: ast.expr, depth: int) -> Node:
        if depth > MAX_DEPTH:
            raise self.refuse("the expression is nested too deeply", tree.col_offset,
                              f"more than {MAX_DEPTH} levels", f"at most {MAX_DEPTH} levels")  # fmt: skip
        if isinstance(tree, ast.BinOp):
            return self.build_chain(tree, depth)
        if isinstance(tree, ast.UnaryOp):
            operand = self.build(tree.operand, depth + 1)
            if isinstance(tree.op, ast.USub):
                return neg(operand)
            if isinstance(tree.op, ast.UAdd):
                return operand
            if isinstance(tree.op, ast.Not):
                return Node("not", operand)
        if isinstance(tree, ast.Constant):
            return self.build_number(tree)
        if isinstance(tree, ast.Name):
            return self.build_name(tree)
        if isinstance(tree, ast.Call):
            return self.build_call(tree, depth)
        if isinstance(tree, ast.Subscript) and isinstance(tree.value, ast.Name):
            return self.build_member(tree, tree.value, depth)
        if isinstance(tree, ast.BoolOp):
            op = "and" if isinstance(tree.op, ast.And) else "or"
            return Node(op, *(self.build(value, depth + 1) for value in tree.values))
        if isinstance(tree, ast.Compare) and all(type(op) in _COMPARISONS for op in tree.ops):
            sides = [self.build(side, depth + 1) for side in (tree.left, *tree.comparators)]
            pairs = [Node(_COMPARISONS[type(op)], a, b) for op, a, b in zip(tree.ops, sides, sides[1:], strict=False)]
            return pairs[0] if len(pairs) == 1 else Node("and", *pairs)
        what = SYNTAX_NAMES.get(type(tree), "this construct")
        raise self.refuse(
            f"{what} is not allowed in an equation",
            tree.col_offset,
            self.excerpt(tree),
            "numbers, names, + - * / ^, comparisons, and/or/not, and functions such as sin, exp, max",
        )

    def build_chain(self, tree: ast.BinOp, depth: int) -> Node:
        """Sums and products of any length are read in a loop: a long equation is not a deep one."""
        if isinstance(tree.op, ast.Pow):
            return self.build_power(tree, depth)
        kinds: tuple[type[ast.operator], ...]
        if isinstance(tree.op, ast.Add | ast.Sub):
            kinds = (ast.Add, ast.Sub)
        elif isinstance(tree.op, ast.Mult | ast.Div):
            kinds = (ast.Mult, ast.Div)
        else:
            raise self.refuse(
                "this operator is not allowed in an equation",
                tree.col_offset,
                self.excerpt(tree),
                "+ - * / ^",
            )
        links: list[tuple[ast.operator, ast.expr]] = []
        first: ast.expr = tree
        while isinstance(first, ast.BinOp) and isinstance(first.op, kinds):
            links.append((first.op, first.right))
            first = first.left
        gathered = [self.build(first, depth + 1)]
        op = "add" if ast.Add in kinds else "mul"
        for sign, right in reversed(links):
            operand = self.build(right, depth + 1)
            if isinstance(sign, ast.Div):
                gathered = [Node("div", gathered[0] if len(gathered) == 1 else Node("mul", *gathered), operand)]
            else:
                gathered.append(neg(operand) if isinstance(sign, ast.Sub) else operand)
        return gathered[0] if len(gathered) == 1 else Node(op, *gathered)

    def build_power(self, tree: ast.BinOp, depth: int) -> Node:
        exponent = self.build(tree.right, depth + 1)
        value = exponent.value
        if value is not None and abs(value) > MAX_EXPONENT:
            raise self.refuse(
                "an exponent is too large",
                tree.right.col_offset,
                f"{value:g}",
                f"a size of at most {MAX_EXPONENT:g}",
            )
        base = self.build(tree.left, depth + 1)
        if value is not None and base.value is not None and base.value > 0.0:
            if abs(value * math.log10(base.value)) > MAX_EXPONENT / 4:
                raise self.refuse(
                    "a power is too large", tree.left.col_offset, self.excerpt(tree), "a number below 1e250"
                )
            return number(base.value**value)
        return Node("pow", base, exponent)

    def build_number(self, tree: ast.Constant) -> Node:
        value = tree.value
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self.refuse("only real numbers are allowed in an equation", tree.col_offset, excerpt(value))
        try:
            real = float(value)
        except OverflowError:
            real = math.inf
        if not math.isfinite(real):
            raise self.refuse("a number is too large", tree.col_offset, "more than 1.8e308", "a finite number")
        return number(real)

    def build_name(self, tree: ast.Name) -> Node:
        identifier = in_one_spelling(tree.id)
        base = identifier.rstrip(PRIME)
        primes = len(identifier) - len(base)
        if PRIME in base or not base:
            raise self.refuse(
                "a prime stands where there is no name", tree.col_offset, self.excerpt(tree), "a name, as in z'"
            )
        if not PLAIN_NAME.fullmatch(base):
            raise self.refuse("a name may not begin with an underscore", tree.col_offset, base, "a name such as level")
        if primes and (base in RESERVED or base in self.bound):
            raise self.refuse(f"'{base}' has no derivative", tree.col_offset, self.excerpt(tree), "a state, as in z'")
        if base in CONSTANTS:
            return number(CONSTANTS[base])
        if (base in FUNCTIONS and base not in ALSO_NAMES) or base == SUM:
            raise self.refuse(f"the function '{base}' needs its arguments in parentheses", tree.col_offset, base)
        if base in self.bound:
            return name(self.bound[base])
        found = base + "'" * primes
        self.mentions.setdefault(found, self.offsets[min(tree.col_offset, len(self.offsets) - 1)])
        return name(found)

    def build_member(self, tree: ast.Subscript, indexed_state: ast.Name, depth: int) -> Node:
        """One member of an indexed state: ``u[i-1]``, ``c[i, j]``.

        Parameters
        ----------
        tree : ast.Subscript
        indexed_state : ast.Name
        depth : int
            How deep the tree is there.

        Returns
        -------
        Node

        Raises
        ------
        I
            It has no indices, or others than numbers and names.
        """
        indices = tree.slice.elts if isinstance(tree.slice, ast.Tuple) else [tree.slice]
        if any(isinstance(index, ast.Slice) for index in indices):
            raise self.refuse(
                "a stretch of an indexed state is not allowed here", tree.col_offset, self.excerpt(tree), "u[i]"
            )
        node = self.build_name(indexed_state)
        if node.op != "name":
            raise self.refuse("only an indexed state has an index", tree.col_offset, self.excerpt(tree), "u[i]")
        return Node("at", node.args[0], *(self.build(index, depth + 1) for index in indices))

    def build_sum(self, tree: ast.Call, depth: int) -> Node:
        """``sum(u[i]*dx for i in 1..n)``, with as many ranges as wanted."""
        inside = tree.args[0] if len(tree.args) == 1 and not tree.keywords else None
        if not isinstance(inside, ast.GeneratorExp):
            raise self.refuse("cannot read this sum", tree.col_offset, self.excerpt(tree), "sum(u[i]*dx for i in 1..n)")
        ranges, outside = [], self.bound
        for part in inside.generators:
            span, target = part.iter, part.target
            whole = isinstance(span, ast.BinOp) and isinstance(span.op, ast.BitOr)
            if not whole or part.ifs or not isinstance(target, ast.Name) or target.id in RESERVED:
                raise self.refuse(
                    "cannot read the range of this sum", tree.col_offset, self.excerpt(tree), "… for i in 1..n"
                )
            if not isinstance(span, ast.BinOp):
                raise unforeseen("a range of a sum that is no range")
            inner = f"{target.id}{BOUND}{self.sums}"
            self.sums += 1
            ranges.append((inner, self.build(span.left, depth + 1), self.build(span.right, depth + 1)))
            self.bound = {**self.bound, target.id: inner}
        node = self.build(inside.elt, depth + 1)
        self.bound = outside
        self.sums -= len(ranges)
        for index, first, last in reversed(ranges):
            node = Node(SUM, index, first, last, node)
        return node

    def build_call(self, tree: ast.Call, depth: int) -> Node:
        if not isinstance(tree.func, ast.Name):
            raise self.refuse("only named functions can be called", tree.col_offset, self.excerpt(tree))
        called = tree.func.id.replace(PRIME, "'")
        if called == SUM:
            return self.build_sum(tree, depth)
        if called.endswith("'"):
            raise self.refuse(
                f"'{called}' is written without its argument", tree.col_offset, self.excerpt(tree), called
            )
        if called in SAID_OTHERWISE:
            raise self.refuse(
                f"there is no function '{called}' here", tree.col_offset, self.excerpt(tree), SAID_OTHERWISE[called]
            )
        if called not in FUNCTIONS:
            raise self.refuse(
                f"there is no function '{called}'{near_spelling(called, FUNCTIONS)}",
                tree.col_offset,
                called,
                "one of " + ", ".join(FUNCTIONS) + " (a product needs its *)",
            )
        if tree.keywords:
            raise self.refuse(f"'{called}' takes no named arguments", tree.col_offset, self.excerpt(tree))
        fewest, most = FUNCTIONS[called]
        count = len(tree.args)
        if count < fewest or (most is not None and count > most):
            wanted = f"{fewest}" if fewest == most else f"at least {fewest}"
            raise self.refuse(f"'{called}' has the wrong number of arguments", tree.col_offset, str(count), wanted)
        if called in ALSO_NAMES:
            self.calls.setdefault(called, self.offsets[min(tree.col_offset, len(self.offsets) - 1)])
        operands = [self.build(argument, depth + 1) for argument in tree.args]
        if called in _OF_WHOLE_ORDER and operands[0].value is not None and operands[0].value % 1.0 != 0.0:
            raise self.refuse(f"the order of '{called}' is no whole number", tree.col_offset,
                              f"{operands[0].value:g}", "0, 1, 2, …")  # fmt: skip
        if called in EXPANSIONS:
            given = {f"x{k + 1}": operand for k, operand in enumerate(operands)}
            return replace_names(_expansion(called), given.get, {})
        return Node(called, *operands)


@functools.cache
def _expansion(function: str) -> Node:
    """Return the formula of ``x1, x2, …`` that a function stands for."""
    return read(Source(EXPANSIONS[function][1], f"what {function} stands for")).node
