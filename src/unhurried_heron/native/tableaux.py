"""The arithmetic of one explicit tableau as straight machine code: its numbers are constants, its zeros are gone.

Four functions are written as LLVM IR and compiled in some milliseconds, once for each tableau and process:

``int32 attempt(double t, double h, y, stages, trial, int64 n, rates, context, int64 *where)``
    fills the stages and the state at the end of the step; ``where`` is the stage at which the rates stopped.
``int32 further(double t, double h, y, stages, scratch, int64 n, rates, context, int64 *where)``
    fills the stages that only the step polynomial needs.
``double error(double h, y, stages, trial, relative, absolute, int64 n)``
    mean square of the error estimate in units of the tolerance; of two differences e and f, e^2 / sqrt(e^2 + 0.01 f^2)
    squared.
``void polynomial(double h, y, stages, coefficients, int64 n)``
    writes the step polynomial.

Loops over the states run four at a time, with a scalar rest; for a few states they are written out. Nothing here may
alias, which a general compiler could not know.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.native.emit import literal
from unhurried_heron.native.engine import compile_functions

LANES = 4
# for so few states counting the turns of a loop costs as much as the arithmetic (`benchmarks/run.py --part explicit`)
MOST_WRITTEN_OUT = 8


class Arithmetic(NamedTuple):
    """The numbers of a tableau.

    ``a``, ``b``, ``c``; ``error`` (1 or 2, stages); ``further``: rows of stages that only the step polynomial needs,
    over the stages, the rate at the end where ``ends`` says that it is none of them, and one another; ``interpolant``.
    """

    a: np.ndarray
    b: np.ndarray
    c: np.ndarray
    error: np.ndarray
    ends: bool
    further: Sequence[Sequence[float]]
    interpolant: np.ndarray


def compile_tableau(numbers: Arithmetic, size: int | None) -> tuple[list[int], Any]:
    """Return the addresses of attempt, further, error and polynomial, and the engine to keep alive.

    ``size`` is the number of states where the code is for these alone, at most `MOST_WRITTEN_OUT`, and None where it is
    for any number.
    """
    writer, width = _Writer(size), numbers.b.size + numbers.ends
    rows = [_Stage(i, tuple(numbers.a[i, :i]), numbers.c[i]) for i in range(1, numbers.b.size)]
    if numbers.ends:
        rows.append(_Stage(width - 1, tuple(numbers.b), 1.0))
    further = [_Stage(width + i, tuple(row), math.fsum(row)) for i, row in enumerate(numbers.further)]
    module = "\n".join(
        [
            _DECLARATIONS,
            writer.stages("attempt", rows, width),
            writer.stages("further", further, width + len(further)),
            writer.error(numbers.error),
            writer.polynomial(numbers.interpolant),
        ]
    )
    return compile_functions(module, ("attempt", "further", "error", "polynomial"))


class _Stage(NamedTuple):
    """A stage, by its place: coefficients of those before, and node."""

    place: int
    row: tuple[float, ...]
    node: float


_DECLARATIONS = """
declare double @llvm.fmuladd.f64(double, double, double)
declare <4 x double> @llvm.fmuladd.v4f64(<4 x double>, <4 x double>, <4 x double>)
declare double @llvm.fabs.f64(double)
declare <4 x double> @llvm.fabs.v4f64(<4 x double>)
declare double @llvm.vector.reduce.fadd.v4f64(double, <4 x double>)
"""


class _Lane:
    """Instructions of one loop body, on single numbers or on four at a time."""

    def __init__(self, writer: _Writer, index: str, *, wide: bool) -> None:
        self._writer, self.index, self.wide = writer, index, wide
        self.kind = "<4 x double>" if wide else "double"
        self._suffix = "v4f64" if wide else "f64"

    def new(self, instruction: str) -> str:
        return self._writer.new(instruction)

    def constant(self, value: float) -> str:
        word = literal(value)
        return "<" + ", ".join([f"double {word}"] * LANES) + ">" if self.wide else word

    def load(self, base: str) -> str:
        return self.new(f"load {self.kind}, ptr {self._at(base)}, align 8")

    def store(self, value: str, base: str) -> None:
        self._writer.lines.append(f"  store {self.kind} {value}, ptr {self._at(base)}, align 8")

    def _at(self, base: str) -> str:
        return self.new(f"getelementptr double, ptr {base}, i64 {self.index}")

    def spread(self, name: str) -> str:
        """A scalar argument in every lane; the wide form is prepared at the top of the function."""
        return f"{name}.wide" if self.wide else name

    def multiply_add(self, x: str, y: str, z: str) -> str:
        kind = self.kind
        return self.new(f"call {kind} @llvm.fmuladd.{self._suffix}({kind} {x}, {kind} {y}, {kind} {z})")

    def binary(self, operation: str, x: str, y: str) -> str:
        return self.new(f"{operation} {self.kind} {x}, {y}")

    def size(self, x: str) -> str:
        return self.new(f"call {self.kind} @llvm.fabs.{self._suffix}({self.kind} {x})")

    def larger(self, x: str, y: str) -> str:
        bits = "<4 x i1>" if self.wide else "i1"
        bit = self.new(f"fcmp ogt {self.kind} {x}, {y}")
        return self.new(f"select {bits} {bit}, {self.kind} {x}, {self.kind} {y}")

    def weighted(self, weights: Sequence[float], stages: Sequence[str]) -> str:
        """Sum of weights times stages, zeros left out."""
        total = ""
        for weight, stage in zip(weights, stages, strict=True):
            if weight != 0.0:
                value, factor = self.load(stage), self.constant(float(weight))
                total = self.multiply_add(value, factor, total) if total else self.binary("fmul", value, factor)
        return total or self.constant(0.0)


class _Writer:
    def __init__(self, size: int | None) -> None:
        self.lines: list[str] = []
        self._count, self._size = 0, size

    def new(self, instruction: str) -> str:
        self._count += 1
        self.lines.append(f"  %v{self._count} = {instruction}")
        return f"%v{self._count}"

    def _label(self) -> int:
        self._count += 1
        return self._count

    def _begin(self, header: str, stages: int) -> list[str]:
        """Open a function: wide copies of h, the count of whole groups, and a pointer to each stage."""
        self.lines = [header, "entry:"]
        self.lines.append("  %h.one = insertelement <4 x double> poison, double %h, i32 0")
        self.lines.append(
            "  %h.wide = shufflevector <4 x double> %h.one, <4 x double> poison, <4 x i32> zeroinitializer"
        )
        self.lines.append(f"  %whole = and i64 %n, -{LANES}")
        return self._rows("%stages", stages)

    def _rows(self, base: str, count: int) -> list[str]:
        """Return pointers to the rows of a matrix."""
        rows = []
        for j in range(count):
            offset = self.new(f"mul i64 %n, {j}") if self._size is None else str(self._size * j)
            rows.append(self.new(f"getelementptr double, ptr {base}, i64 {offset}"))
        return rows

    def _loop(self, body: Callable[[_Lane], None]) -> None:
        """Run a body over all states: groups of four, then the rest one by one."""
        if self._size is not None:
            whole = self._size - self._size % LANES
            for k in range(0, whole, LANES):
                body(_Lane(self, str(k), wide=True))
            for k in range(whole, self._size):
                body(_Lane(self, str(k), wide=False))
            return
        n = self._label()
        self.lines += [
            f"  br label %from{n}",
            f"from{n}:",
            f"  br label %wide{n}",
            f"wide{n}:",
            f"  %i{n} = phi i64 [0, %from{n}], [%i{n}.next, %widebody{n}]",
            f"  %i{n}.go = icmp ult i64 %i{n}, %whole",
            f"  br i1 %i{n}.go, label %widebody{n}, label %rest{n}",
            f"widebody{n}:",
        ]
        body(_Lane(self, f"%i{n}", wide=True))
        self.lines += [
            f"  %i{n}.next = add nuw i64 %i{n}, {LANES}",
            f"  br label %wide{n}",
            f"rest{n}:",
            f"  %j{n} = phi i64 [%whole, %wide{n}], [%j{n}.next, %restbody{n}]",
            f"  %j{n}.go = icmp ult i64 %j{n}, %n",
            f"  br i1 %j{n}.go, label %restbody{n}, label %done{n}",
            f"restbody{n}:",
        ]
        body(_Lane(self, f"%j{n}", wide=False))
        self.lines += [f"  %j{n}.next = add nuw i64 %j{n}, 1", f"  br label %rest{n}", f"done{n}:"]

    def stages(self, name: str, rows: Sequence[_Stage], count: int) -> str:
        """A function that fills the stages of these rows, of ``count`` in all."""
        stages = self._begin(
            f"define i32 @{name}(double %t, double %h, ptr %y, ptr %stages, ptr %trial, i64 %n, ptr %rates, "
            "ptr %context, ptr %where) nounwind {",
            count,
        )
        for place, row, node in rows:

            def advance(lane: _Lane, row: Any = row) -> None:
                slope = lane.weighted(row, stages[: len(row)])
                lane.store(lane.multiply_add(lane.spread("%h"), slope, lane.load("%y")), "%trial")

            self._loop(advance)
            time = self.new(
                f"call double @llvm.fmuladd.f64(double %h, double {_Lane(self, '', wide=False).constant(float(node))}, "
                "double %t)"
            )
            code = self.new(f"call i32 %rates(double {time}, ptr %trial, ptr {stages[place]}, ptr %context)")
            fine, label = self.new(f"icmp eq i32 {code}, 1"), self._label()
            self.lines += [
                f"  br i1 {fine}, label %good{label}, label %bad{label}",
                f"bad{label}:",
                f"  store i64 {place}, ptr %where",
                f"  ret i32 {code}",
                f"good{label}:",
            ]
        return "\n".join([*self.lines, "  ret i32 1", "}"])

    def error(self, weights: np.ndarray) -> str:
        """A function of the error estimate: one difference, or two combined."""
        stages = self._begin(
            "define double @error(double %h, ptr %y, ptr %stages, ptr %trial, ptr %relative, ptr %absolute, i64 %n) "
            "nounwind {",
            weights.shape[1],
        )
        sums = [f"%sum{i}" for i in range(len(weights))]
        for name in sums:
            self.lines += [f"  {name} = alloca double", f"  store double 0.0, ptr {name}"]

        def square(lane: _Lane) -> None:
            size = lane.larger(lane.size(lane.load("%trial")), lane.size(lane.load("%y")))
            allowed = lane.multiply_add(lane.load("%relative"), size, lane.load("%absolute"))
            for name, row in zip(sums, weights.tolist(), strict=True):
                defect = lane.binary("fmul", lane.spread("%h"), lane.weighted(row, stages))
                ratio = lane.binary("fdiv", defect, allowed)
                self._add(lane, lane.binary("fmul", ratio, ratio), name)

        self._loop(square)
        count = self.new("sitofp i64 %n to double")
        means = [self.new(f"fdiv double {self.new(f'load double, ptr {name}')}, {count}") for name in sums]
        result = means[0] if means else "0.0"
        if len(means) == 2:
            # exact solutions of both orders have no error
            some = self.new(f"fadd double {means[0]}, {self.new(f'fmul double {means[1]}, {literal(0.01)}')}")
            ratio = self.new(f"fdiv double {self.new(f'fmul double {means[0]}, {means[0]}')}, {some}")
            nothing = self.new(f"fcmp oeq double {some}, 0.0")
            result = self.new(f"select i1 {nothing}, double 0.0, double {ratio}")
        return "\n".join([*self.lines, f"  ret double {result}", "}"])

    def _add(self, lane: _Lane, value: str, name: str) -> None:
        """Add a value, or four, to a sum."""
        before = self.new(f"load double, ptr {name}")
        if lane.wide:
            after = self.new(
                f"call reassoc double @llvm.vector.reduce.fadd.v4f64(double {before}, <4 x double> {value})"
            )
        else:
            after = self.new(f"fadd double {before}, {value}")
        self.lines.append(f"  store double {after}, ptr {name}")

    def polynomial(self, interpolant: np.ndarray) -> str:
        degree, width = interpolant.shape
        stages = self._begin(
            "define void @polynomial(double %h, ptr %y, ptr %stages, ptr %coefficients, i64 %n) nounwind {",
            width,
        )
        rows = self._rows("%coefficients", degree + 1)

        def combine(lane: _Lane) -> None:
            lane.store(lane.load("%y"), rows[0])
            for d in range(degree):
                slope = lane.weighted(interpolant[d].tolist(), stages)
                lane.store(lane.binary("fmul", lane.spread("%h"), slope), rows[d + 1])

        self._loop(combine)
        return "\n".join([*self.lines, "  ret void", "}"])
