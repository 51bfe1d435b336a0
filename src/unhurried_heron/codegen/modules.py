"""Whole modules of LLVM IR: blocks of formulas as one function of the common signature."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import Final, NamedTuple

from unhurried_heron.codegen.expression_ir import Emitter, Scope, SymbolTable, literal
from unhurried_heron.codegen.threads_ir import DECLARED, bounds_of_part, calling_all, shared_formulas
from unhurried_heron.formulas.layout import IndexedFormula, Loop
from unhurried_heron.formulas.template import Template, number_name

_HEAD: Final = (
    "define i32 @{name}(double %t, ptr noalias readonly %y, ptr noalias %out, ptr noalias readonly %p) nounwind {{"
)
_REST_HEAD: Final = (
    "define internal i32 @{name}_rest(double %t, ptr noalias readonly %y, ptr noalias %out, ptr noalias readonly %p) "
    "nounwind noinline {{"
)
_PART_HEAD: Final = (
    "define internal i32 @{name}_part(double %t, ptr noalias readonly %y, ptr noalias %out, ptr noalias readonly %p, "
    "i64 %part) nounwind noinline {{"
)
_SHAPE_HEAD: Final = (
    "define i32 @{name}(double %t, ptr noalias readonly %y, ptr noalias %out, ptr noalias readonly %own) nounwind {\n"
    "  %p = load ptr, ptr %own"
)

# a table: the number of its rows as a double, then the rows; the last row that has begun is found by halving
_MEASURED: Final = """
define double @measured{order}(double %t, ptr %table) nounwind {{
  %count = load double, ptr %table
  %n = fptosi double %count to i64
  %rows = getelementptr double, ptr %table, i64 1
  br label %head
head:
  %low = phi i64 [ 0, %0 ], [ %low2, %body ]
  %high = phi i64 [ %n, %0 ], [ %high2, %body ]
  %gap = sub i64 %high, %low
  %more = icmp sgt i64 %gap, 1
  br i1 %more, label %body, label %found
body:
  %both = add i64 %low, %high
  %middle = lshr i64 %both, 1
  %skip = mul i64 %middle, 5
  %start.at = getelementptr double, ptr %rows, i64 %skip
  %start = load double, ptr %start.at
  %begun = fcmp ole double %start, %t
  %low2 = select i1 %begun, i64 %middle, i64 %low
  %high2 = select i1 %begun, i64 %high, i64 %middle
  br label %head
found:
  %jump = mul i64 %low, 5
  %row = getelementptr double, ptr %rows, i64 %jump
  %value = call double @measured_row{order}(double %t, ptr %row)
  ret double %value
}}
"""
_GUARD: Final = """
define i32 @evaluate(double %t, ptr %y, ptr %out, ptr %p) nounwind {{
  %held = call i32 @smooth(double %t, ptr %y, ptr %out, ptr %p)
  br label %head
head:
  %i = phi i64 [ 0, %0 ], [ %next, %fine ]
  %over = icmp sge i64 %i, {size}
  br i1 %over, label %good, label %body
body:
  %at = getelementptr double, ptr %out, i64 %i
  %x = load double, ptr %at
  %zero = fsub double %x, %x
  %bad = fcmp uno double %zero, %zero
  br i1 %bad, label %again, label %fine
fine:
  %next = add i64 %i, 1
  br label %head
again:
  %plain = call i32 @plain(double %t, ptr %y, ptr %out, ptr %p)
  ret i32 %plain
good:
  ret i32 1
}}
"""


class Shape(NamedTuple):
    """The text of a function that reads numbers and indices from its own context, and what it declares."""

    text: str
    declared: frozenset[str]


def emit_module(
    indexed_formulas: tuple[IndexedFormula, ...], guarded: tuple[IndexedFormula, ...], size: int, names: SymbolTable
) -> str:
    """Return the text of a module that defines ``evaluate``, which writes the blocks' values and zeros elsewhere.

    Where ``guarded`` blocks are given, they are computed instead if one of the values is no number.

    Parameters
    ----------
    indexed_formulas : tuple[IndexedFormula, ...]
    guarded : tuple of IndexedFormula
        Computed instead where one of the values is no number; empty for none.
    size : int
        How many numbers are written.
    names : SymbolTable

    Returns
    -------
    str
    """
    declared: set[str] = set()
    if not guarded:
        text = _function("evaluate", indexed_formulas, size, names, declared)
    else:
        text = _function("smooth", indexed_formulas, size, names, declared)
        plain = SymbolTable(names.scalars, names.context_indices, names.inputs)
        text += _function("plain", guarded, size, plain, declared) + _GUARD.format(size=size)
    return _with_tables(declared) + text


class _TemplateEmitter(Emitter):
    """Emits a template: its numbers and the values of its indices are read from its own context."""

    def __init__(self, names: SymbolTable, n_numbers: int, indices: Sequence[Loop]) -> None:
        super().__init__(names)
        self._slots = {**self._slots, **{number_name(k): ("%own", 1 + k) for k in range(n_numbers)}}
        for position, index in enumerate(indices, start=1 + n_numbers):
            pointer = self._new(f"getelementptr double, ptr %own, i64 {position}")
            register = self._new(f"load i64, ptr {pointer}")
            self.scope = Scope(self.scope, index.index, register)

    def lines(self) -> list[str]:
        """Return all instructions: first what depends on no index, then what depends on the first, and so on."""
        found: list[str] = []
        scope: Scope | None = self.scope
        while scope is not None:
            found = scope.lines + found
            scope = scope.parent
        return found


def emit_template(template: Template, names: SymbolTable) -> Shape:
    """Return the text of a function of one output, which is machine code for all formulas of a template."""
    formula = template_formula(template)
    emitter = _TemplateEmitter(names, template.n_numbers, formula.loops)
    emitter.store(formula.node, 0, (), adds=False)
    text = "\n".join([_SHAPE_HEAD, *emitter.lines(), "  ret i32 1", "}", ""])
    return Shape(text, frozenset(emitter.declared))


def template_formula(template: Template) -> IndexedFormula:
    """Return a template as a formula whose loops are its indices."""
    return IndexedFormula(template.indices, 0, (0,) * len(template.indices), template.node)


def emit_each(shapes: tuple[Shape, ...]) -> str:
    """Return the text of a module that defines one function for each shape, and ``functions``, their addresses.

    The last argument of each is the address of its own context: the address of the context that all share, the numbers,
    and the indices as whole numbers.
    """
    declared = set().union(*(shape.declared for shape in shapes))
    functions = [shape.text.replace("{name}", f"evaluate{index}") for index, shape in enumerate(shapes)]
    addresses = ", ".join(f"ptr @evaluate{index}" for index in range(len(shapes)))
    table = f"@functions = constant [{len(shapes)} x ptr] [{addresses}]\n"
    return _with_tables(declared) + "".join(functions) + table


def _with_tables(declared: set[str]) -> str:
    """Return declarations, and the functions that read tables where they are used."""
    plain = sorted(line for line in declared if "@measured" not in line)
    orders = {int(order) for line in declared for order in re.findall(r"@measured(?:_row)?(\d)", line)}
    tables = (_measured_row(order) + _MEASURED.format(order=order) for order in sorted(orders))
    return "\n".join(plain) + "\n" + "".join(tables)


def _measured_row(order: int) -> str:
    """Return a function of a derivative in a row: where it starts, then coefficients of powers of the time since."""
    lines = ["  %start = load double, ptr %row", "  %since = fsub double %t, %start"]
    value = ""
    for power in range(3, order - 1, -1):
        lines.append(f"  %at{power} = getelementptr double, ptr %row, i64 {power + 1}")
        lines.append(f"  %c{power} = load double, ptr %at{power}")
        own, factor = f"%c{power}", math.perm(power, order)
        if factor != 1:
            own = f"%d{power}"
            lines.append(f"  {own} = fmul double {literal(float(factor))}, %c{power}")
        if value:
            lines.append(f"  %b{power} = fmul double %since, {value}")
            lines.append(f"  %a{power} = fadd double %b{power}, {own}")
            own = f"%a{power}"
        value = own
    head = f"\ndefine double @measured_row{order}(double %t, ptr %row) nounwind {{\n"
    return head + "\n".join([*lines, f"  ret double {value}"]) + "\n}\n"


def _function(
    name: str, indexed_formulas: tuple[IndexedFormula, ...], size: int, names: SymbolTable, declared: set[str]
) -> str:
    """Return the text of a function that writes the values of formulas.

    Parameters
    ----------
    name : str
    indexed_formulas : tuple[IndexedFormula, ...]
    size : int
        How many numbers are written.
    names : SymbolTable
    declared : set of str
        Gathers the functions of libraries that are called.

    Returns
    -------
    str
    """
    whole = len(indexed_formulas) == size and not any(formula.loops or formula.adds for formula in indexed_formulas)
    filled = sum(formula.turns for formula in indexed_formulas if not formula.adds)
    zeros = []
    if not whole and filled < size:
        declared.add("declare void @llvm.memset.p0.i64(ptr, i8, i64, i1)")
        zeros.append(f"  call void @llvm.memset.p0.i64(ptr %out, i8 0, i64 {8 * size}, i1 false)")
    shared = shared_formulas(indexed_formulas)
    if not shared:
        head = _HEAD.format(name=name)
        return "\n".join([head, *zeros, *_lines(indexed_formulas, names, declared), "  ret i32 1", "}", ""])
    declared |= DECLARED
    parts = []
    for head, parted in ((_REST_HEAD, False), (_PART_HEAD, True)):
        own = [formula for formula in indexed_formulas if (formula in shared) == parted]
        lines = _lines(own, names, declared, parted=parted)
        parts.append("\n".join([head.format(name=name), *lines, "  ret i32 1", "}", ""]))
    return "".join(parts) + calling_all(name, zeros)


def _lines(
    indexed_formulas: Sequence[IndexedFormula], names: SymbolTable, declared: set[str], *, parted: bool = False
) -> list[str]:
    """Return the instructions that write the values of formulas.

    Parameters
    ----------
    indexed_formulas : sequence of IndexedFormula
    names : SymbolTable
    declared : set of str
        Gathers the functions of libraries that are called.
    parted : bool, optional
        Whether only a part of each outermost loop is run.

    Returns
    -------
    list of str
    """
    emitter, groups = Emitter(names), dict[tuple[Loop, ...], list[IndexedFormula]]()
    for formula in indexed_formulas:
        groups.setdefault(formula.loops, []).append(formula)
    for k, (loops, members) in enumerate(groups.items()):
        bounds = None
        if parted:
            lines, *ends = bounds_of_part(k, loops[0].first, loops[0].last)
            emitter.scope.lines += lines
            bounds = (ends[0], ends[1])
        _fill(emitter, loops, loops, members, bounds)
    declared |= emitter.declared
    return emitter.scope.lines


def _fill(
    emitter: Emitter,
    left: tuple[Loop, ...],
    loops: tuple[Loop, ...],
    members: list[IndexedFormula],
    bounds: tuple[str, str] | None = None,
) -> None:
    """Emit the loops that blocks share, one within the other, and the blocks in the innermost.

    Parameters
    ----------
    emitter : Emitter
    left : tuple of Loop
        The loops that are still to be opened.
    loops : tuple of Loop
        All that are shared.
    members : list[IndexedFormula]
    bounds : (str, str), optional
        Registers of the ends of the outermost loop, where it is run in part.
    """
    if left:
        loop = left[0]
        first, last = bounds or (loop.first, loop.last)
        emitter.loop(loop.index, first, last, lambda: _fill(emitter, left[1:], loops, members))
        return
    for formula in members:
        strides = [(loop.index, stride) for loop, stride in zip(loops, formula.strides, strict=True) if stride]
        emitter.store(formula.node, formula.base, strides, adds=formula.adds)
