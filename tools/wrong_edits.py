"""Small wrong edits of a file: which there are, each as a place in the text and what stands there instead.

Moving a comparison by its very limit is wrong only where whole numbers are compared; numbers that shape words, room and
clocks decide no answer; nor does a limit of ours that is called so (``MOST_…``), a code by another number, the seed of
a random direction, or from which length on a text is refused.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator
from dataclasses import dataclass

SWAPS: dict[type[ast.AST], tuple[str, ...]] = {
    ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "/"), ast.Div: ("/", "*"),
    ast.Lt: ("<", "<=", ">"), ast.LtE: ("<=", "<", ">"), ast.Gt: (">", ">=", "<"), ast.GtE: (">=", ">", "<"),
    ast.Eq: ("==", "!="), ast.NotEq: ("!=", "=="), ast.And: ("and", "or"), ast.Or: ("or", "and"),
}  # fmt: skip
WHOLE = {"size", "ndim", "count", "itemsize"}
QUOTES = {"repr", "str"}
# names of limits that are as good twice as large
LIMITS = ("MOST", "LEAST_", "LONGEST", "WIDEST", "DEEPEST", "MAX_", "LARGE", "LITTLE", "MANY", "FEW", "SHOWN")
# how many are shown, and how long a text may be
SHOWN, LONG = 4, 40
# what a repr leaves out, how much is remembered, a check of our own lengths, a bar: no answer depends on these
SHAPES = {"repr", "pretty_exceptions_enable", "maxsize", "strict", "show_default", "given", "progress"}
# room that is too large by a little, or a moment looked at a little later, changes no answer either
ROOM = {"np.zeros", "np.empty", "os.read"}
CLOCKS = ("perf_counter", "monotonic")
# started by every Python process of a test: which lines it walks over is told under the name of the test


@dataclass(frozen=True)
class Edit:
    """What is seeded: a file below the sources, from and to in characters, and what stands there instead."""

    file: str
    begin: int
    end: int
    new: str

    def line(self, text: str) -> int:
        """Return the number of the line."""
        return text.count("\n", 0, self.begin) + 1

    def named(self, text: str) -> str:
        """Say what is seeded in one line, wherever that stands; of equal edits on a line, which of them."""
        line = self.line(text)
        row, old = text.splitlines()[line - 1].strip(), text[self.begin : self.end]
        before = text[text.rfind("\n", 0, self.begin) + 1 : self.begin].count(old)
        return f"{self.file}: {old or 'nothing'}{f' ({before + 1})' * (before > 0)} -> {self.new or 'nothing'}: {row}"

    def report(self, text: str) -> str:
        """The same, with the number of the line."""
        file, _, rest = self.named(text).partition(": ")
        return f"{file}:{self.line(text)}: {rest}"


def _only_shape(node: ast.AST) -> Iterator[ast.AST]:
    """Parts whose numbers shape words only: how long a quotation is."""
    if isinstance(node, ast.JoinedStr):
        yield node
    if isinstance(node, ast.Subscript) and isinstance(node.value, ast.Call) and ast.unparse(node.value.func) in QUOTES:
        yield node.slice
    if isinstance(node, ast.keyword) and node.arg in SHAPES:
        yield node.value
    if isinstance(node, ast.Slice) and isinstance(node.upper, ast.Constant) and node.upper.value >= SHOWN:
        yield node.upper
    if isinstance(node, ast.Compare):
        yield from (each for each in node.comparators if isinstance(each, ast.Constant) and _long(each.value))
    if isinstance(node, ast.Call) and ast.unparse(node.func).endswith("default_rng"):
        yield from node.args
    if isinstance(node, ast.Assign | ast.AnnAssign) and node.value is not None and node.col_offset == 0:
        names = ast.unparse(node.targets[0] if isinstance(node, ast.Assign) else node.target)
        # several names at once are codes, or limits together
        if names.lstrip("_").startswith(LIMITS) or (names.isupper() and "," in names):
            yield node.value


def _long(value: object) -> bool:
    return type(value) is int and value >= LONG


def _idle(node: ast.AST, *, style: bool) -> Iterator[ast.AST]:
    """Parts of which no answer depends at all, neither on numbers nor on signs."""
    if style and isinstance(node, ast.keyword):
        yield node.value
    if isinstance(node, ast.Call) and ast.unparse(node.func) in ROOM:
        yield from node.args
    if isinstance(node, ast.Compare | ast.Call) and any(clock in ast.unparse(node) for clock in CLOCKS):
        yield node


def _whole(node: ast.expr) -> bool:
    """Whether a side of a comparison is a whole number for sure."""
    if isinstance(node, ast.Call):
        return ast.unparse(node.func) == "len"
    return (isinstance(node, ast.Constant) and type(node.value) is int) or (
        isinstance(node, ast.Attribute) and node.attr in WHOLE
    )


def _bound(node: ast.expr) -> bool:
    """Whether a side of a comparison is a limit of ours, which is as good one further."""
    return (isinstance(node, ast.Name) and node.id.isupper()) or (isinstance(node, ast.Constant) and _long(node.value))


def edits(text: str, *, style: bool = False) -> Iterator[tuple[int, int, str]]:
    """Every small edit of a file: from, to (in characters), and what stands there instead.

    ``style``: the file draws, so that keywords with numbers are taste.
    """
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    encoded = text.encode()

    def index(line: int, column: int) -> int:
        return len(encoded[: starts[line - 1] + column].decode())

    tree = ast.parse(text)
    idle = {inner for node in ast.walk(tree) for part in _idle(node, style=style) for inner in ast.walk(part)}
    shape = {inner for node in ast.walk(tree) for part in _only_shape(node) for inner in ast.walk(part)}
    for node in ast.walk(tree):
        operator = getattr(node, "op", None) or (getattr(node, "ops", None) or [None])[0]
        if node in idle:
            continue
        if type(operator) in SWAPS and isinstance(node, ast.BinOp | ast.Compare | ast.BoolOp | ast.AugAssign):
            left = node.target if isinstance(node, ast.AugAssign) else getattr(node, "left", None) or node.values[0]
            old, *others = SWAPS[type(operator)]
            if len(others) > 1:
                sides = [left, *node.comparators]
                others = others if any(map(_whole, sides)) and not any(map(_bound, sides)) else others[1:]
            begin = index(left.end_lineno, left.end_col_offset)
            found = text.find(old, begin)
            if found >= 0 and found - begin < 40 and "\n" not in text[begin:found]:
                yield from ((found, found + len(old), new) for new in others)
        if (
            isinstance(node, ast.Constant)
            and node not in shape
            and type(node.value) in (int, float, bool)
            and node.end_lineno == node.lineno
        ):
            begin, end = index(node.lineno, node.col_offset), index(node.end_lineno, node.end_col_offset)
            changed = not node.value if isinstance(node.value, bool) else node.value * 2 + 1
            yield begin, end, repr(changed)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            begin = index(node.lineno, node.col_offset)
            yield begin, begin + 4, ""
