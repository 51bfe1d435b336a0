"""Strides: many steps of one length that nobody looks at, taken within one function.

``int64 stride(double origin, double step, int64 first, int64 count, int64 *block)`` takes up to ``count`` steps, of
which the first ends at ``origin + (first + 1) step``; the same arithmetic as step after step, and the same bits. It
returns how many it took. State and rates are then where they are without strides; a step that goes wrong is not taken,
so that whoever takes single steps finds out what is wrong with it.

``block`` holds, in the order of `BLOCK`, what a function works on, and after it what became of its rates.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable, Mapping, Sequence

from unhurried_heron.codegen.expression_ir import literal
from unhurried_heron.codegen.vector_ir import LANES, IrWriter, VectorLane
from unhurried_heron.kernels.memory.batch import BLOCK, CODE, MADE


def _copy(row: str, location: str, lane: VectorLane) -> None:
    """Write the copy of a row of the stages.

    Parameters
    ----------
    row : str
        Register of the row.
    location : str
        Register of where it goes.
    lane : VectorLane
    """
    lane.store(lane.load(row), location)


Turning = Mapping[str, tuple[str, str]]


class BatchWriter(IrWriter):
    """Writes the loop of a stride around the lines of one step."""

    def open_stride(self, names: Iterable[str]) -> None:
        """Begin the function, with these pointers from its block."""
        self.lines = [
            "define i64 @stride(double %origin, double %step, i64 %first, i64 %count, ptr %block) nounwind {",
            "entry:",
            "  %nothing = alloca double",
            "  %present = alloca ptr",
            "  %taken = alloca i64",
        ]
        for name in ("n", "rates", "context", *names):
            kind = "i64" if name in ("n", "head") else "ptr"
            pointer = self.new(f"getelementptr i64, ptr %block, i64 {BLOCK.index(name)}")
            self.lines.append(f"  %{name} = load {kind}, ptr {pointer}")
        self.lines += [f"  %whole = and i64 %n, -{LANES}", "  %first.real = sitofp i64 %first to double"]
        self.lines.append("  %begun = call double @llvm.fmuladd.f64(double %first.real, double %step, double %origin)")

    def turn(self, turning: Turning) -> None:
        """Begin a step; ``turning``: pointers, by what they are at first and what they become after a step."""
        self.lines += [
            "  br label %turn",
            "turn:",
            "  %i = phi i64 [0, %entry], [%i.next, %next]",
            "  %t = phi double [%begun, %entry], [%finish, %next]",
            *(f"  {name} = phi ptr [{now}, %entry], [{then}, %next]" for name, (now, then) in turning.items()),
            "  %more = icmp slt i64 %i, %count",
            "  br i1 %more, label %go, label %all",
            "go:",
            "  %i.next = add i64 %i, 1",
            "  %number = add i64 %first, %i.next",
            "  %number.real = sitofp i64 %number to double",
            "  %finish = call double @llvm.fmuladd.f64(double %number.real, double %step, double %origin)",
            "  %h = fsub double %finish, %t",
        ]
        self.widen("%h")

    def leave(self, made: int, code: str, state: str = "%y", taken: str = "%i") -> None:
        """Leave with an answer of the rates, before the present step or with the state that it led to.

        Parameters
        ----------
        made : int
            How often the rates were evaluated since.
        code : str
            Register of the answer.
        state : str, optional
            Register of the state.
        taken : str, optional
            Register of the count of steps.
        """
        self.lines += [f"  store ptr {state}, ptr %present", f"  store i64 {taken}, ptr %taken"]
        self.lines.append(f"  store i64 {made}, ptr {self.new(f'getelementptr i64, ptr %block, i64 {MADE}')}")
        wide = self.new(f"sext i32 {code} to i64")
        self.lines.append(f"  store i64 {wide}, ptr {self.new(f'getelementptr i64, ptr %block, i64 {CODE}')}")
        self.lines.append("  br label %out")

    def unless_finite(self, rows: Sequence[str], made: int) -> None:
        """Leave before the present step where a number of these rows is not finite: where 0 times it is not 0."""
        sums = [literal(0.0)]
        if self.size is None:
            self.lines.append(f"  store double {sums[0]}, ptr %nothing")

        def look(lane: VectorLane) -> None:
            before = self.new("load double, ptr %nothing") if self.size is None else sums[0]
            for row in rows:
                value, nothing = lane.load(row), lane.constant(0.0)
                before = lane.summed(before, lane.binary("fmul", value, nothing))
            sums[0] = before
            if self.size is None:
                self.lines.append(f"  store double {before}, ptr %nothing")

        self.loop(look)
        found = self.new("load double, ptr %nothing") if self.size is None else sums[0]
        self.branch(self.new(f"fcmp oeq double {found}, {literal(0.0)}"), lambda: self.leave(made, "2"))

    def close_stride(self, home: Mapping[str, str]) -> str:
        """End the function; ``home``: where the state belongs, and other rows, to be copied if they are not there."""
        self.lines += ["  br label %next", "next:", "  br label %turn", "all:"]
        self.leave(0, "1")
        self.lines += ["out:", "  %final = load ptr, ptr %present", "  %count.taken = load i64, ptr %taken"]
        for row, index in home.items():
            label, there = self.label(), self.new(f"icmp eq ptr {row}, {index}")
            self.lines += [f"  br i1 {there}, label %home{label}, label %copy{label}", f"copy{label}:"]
            self.loop(functools.partial(_copy, row, index))
            self.lines += [f"  br label %home{label}", f"home{label}:"]
        return "\n".join([*self.lines, "  ret i64 %count.taken", "}"])
