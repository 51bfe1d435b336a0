"""Loops over the states, written as LLVM IR: four at a time with a scalar rest, or written out for a few states."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from unhurried_heron.codegen.expression_ir import literal

# Numbers in a vector register of 256 bits.
LANES = 4
# For up to this number of states the overhead of a loop is as large as its arithmetic (`benchmarks/run.py --part
# explicit`).
MAX_WRITTEN_OUT = 8

DECLARATIONS = """
declare double @llvm.fmuladd.f64(double, double, double)
declare <4 x double> @llvm.fmuladd.v4f64(<4 x double>, <4 x double>, <4 x double>)
declare double @llvm.fabs.f64(double)
declare <4 x double> @llvm.fabs.v4f64(<4 x double>)
declare double @llvm.vector.reduce.fadd.v4f64(double, <4 x double>)
"""


class VectorLane:
    """Instructions of one loop body, on single numbers or on four at a time."""

    def __init__(self, writer: IrWriter, index: str, *, wide: bool) -> None:
        self.writer, self.index, self.wide = writer, index, wide
        self.kind = "<4 x double>" if wide else "double"
        self._suffix = "v4f64" if wide else "f64"

    def new(self, instruction: str) -> str:
        """Write an instruction; return the name of its result."""
        return self.writer.new(instruction)

    def constant(self, value: float) -> str:
        """Return a number, in every lane."""
        word = literal(value)
        return "<" + ", ".join([f"double {word}"] * LANES) + ">" if self.wide else word

    def load(self, base: str) -> str:
        """Return the lane's part of a row."""
        return self.new(f"load {self.kind}, ptr {self._at(base)}, align 8")

    def store(self, value: str, base: str) -> None:
        """Write the lane's part of a row."""
        self.writer.lines.append(f"  store {self.kind} {value}, ptr {self._at(base)}, align 8")

    def _at(self, base: str) -> str:
        return self.new(f"getelementptr double, ptr {base}, i64 {self.index}")

    def spread(self, name: str) -> str:
        """A scalar argument in every lane; the wide form is prepared at the top of the function."""
        return f"{name}.wide" if self.wide else name

    def multiply_add(self, x: str, y: str, z: str) -> str:
        """Return x*y + z.

        Parameters
        ----------
        x : str
        y : str
        z : str

        Returns
        -------
        str
        """
        kind = self.kind
        return self.new(f"call {kind} @llvm.fmuladd.{self._suffix}({kind} {x}, {kind} {y}, {kind} {z})")

    def binary(self, operation: str, x: str, y: str) -> str:
        """Return what an operation makes of two values.

        Parameters
        ----------
        operation : str
            LLVM's name of it.
        x : str
        y : str

        Returns
        -------
        str
        """
        return self.new(f"{operation} {self.kind} {x}, {y}")

    def size(self, x: str) -> str:
        """Return the absolute value."""
        return self.new(f"call {self.kind} @llvm.fabs.{self._suffix}({self.kind} {x})")

    def larger(self, x: str, y: str) -> str:
        """Return the larger of two values, the second where they cannot be compared."""
        bits = "<4 x i1>" if self.wide else "i1"
        bit = self.new(f"fcmp ogt {self.kind} {x}, {y}")
        return self.new(f"select {bits} {bit}, {self.kind} {x}, {self.kind} {y}")

    def summed(self, total: str, value: str) -> str:
        """Return a single number with the value, or all four, added."""
        if self.wide:
            return self.new(f"call reassoc double @llvm.vector.reduce.fadd.v4f64(double {total}, {self.kind} {value})")
        return self.new(f"fadd double {total}, {value}")

    def weighted(self, weights: Sequence[float], stages: Sequence[str]) -> str:
        """Sum of weights times stages, zeros left out."""
        total = ""
        for weight, stage in zip(weights, stages, strict=True):
            if weight != 0.0:
                value, factor = self.load(stage), self.constant(float(weight))
                total = self.multiply_add(value, factor, total) if total else self.binary("fmul", value, factor)
        return total or self.constant(0.0)


class IrWriter:
    """The lines of one function after another; ``size`` states, or None where the code is for any number, `%n`."""

    def __init__(self, size: int | None) -> None:
        self.lines: list[str] = []
        self._count, self.size = 0, size

    def new(self, instruction: str) -> str:
        """Write an instruction; return the name of its result."""
        self._count += 1
        self.lines.append(f"  %v{self._count} = {instruction}")
        return f"%v{self._count}"

    def label(self) -> int:
        """Return a number of its own for labels."""
        self._count += 1
        return self._count

    def multiply_add(self, x: str, y: str, z: str) -> str:
        """Return x*y + z of single numbers.

        Parameters
        ----------
        x : str
        y : str
        z : str

        Returns
        -------
        str
        """
        return self.new(f"call double @llvm.fmuladd.f64(double {x}, double {y}, double {z})")

    def call_rates(self, time: str, state: str, out: str) -> str:
        """Return the rates' answer.

        Parameters
        ----------
        time : str
        state : str
        out : str

        Returns
        -------
        str
        """
        return self.new(f"call i32 %rates(double {time}, ptr {state}, ptr {out}, ptr %context)")

    def unless_fine(self, code: str, leave: Callable[[], None]) -> None:
        """Leave where the rates did not answer 1."""
        self.branch(self.new(f"icmp eq i32 {code}, 1"), leave)

    def branch(self, fine: str, leave: Callable[[], None]) -> None:
        """Go on where a bit is set; else leave, by lines that end in a return or a jump."""
        label = self.label()
        self.lines += [f"  br i1 {fine}, label %good{label}, label %bad{label}", f"bad{label}:"]
        leave()
        self.lines.append(f"good{label}:")

    def widen(self, name: str) -> None:
        """Prepare the wide form of a number (`VectorLane.spread`)."""
        self.lines += [
            f"  {name}.one = insertelement <4 x double> poison, double {name}, i32 0",
            f"  {name}.wide = shufflevector <4 x double> {name}.one, <4 x double> poison, <4 x i32> zeroinitializer",
        ]

    def rows(self, base: str, count: int) -> list[str]:
        """Return pointers to the rows of a matrix."""
        rows = []
        for j in range(count):
            offset = self.new(f"mul i64 %n, {j}") if self.size is None else str(self.size * j)
            rows.append(self.new(f"getelementptr double, ptr {base}, i64 {offset}"))
        return rows

    def loop(self, body: Callable[[VectorLane], None]) -> None:
        """Run a body over all states: groups of four, then the rest one by one."""
        if self.size is not None:
            whole = self.size - self.size % LANES
            for k in range(0, whole, LANES):
                body(VectorLane(self, str(k), wide=True))
            for k in range(whole, self.size):
                body(VectorLane(self, str(k), wide=False))
            return
        n = self.label()
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
        body(VectorLane(self, f"%i{n}", wide=True))
        self.lines += [
            f"  %i{n}.next = add nuw i64 %i{n}, {LANES}",
            f"  br label %wide{n}",
            f"rest{n}:",
            f"  %j{n} = phi i64 [%whole, %wide{n}], [%j{n}.next, %restbody{n}]",
            f"  %j{n}.go = icmp ult i64 %j{n}, %n",
            f"  br i1 %j{n}.go, label %restbody{n}, label %done{n}",
            f"restbody{n}:",
        ]
        body(VectorLane(self, f"%j{n}", wide=False))
        self.lines += [f"  %j{n}.next = add nuw i64 %j{n}, 1", f"  br label %rest{n}", f"done{n}:"]
