"""The arithmetic of one explicit tableau as straight machine code: its numbers are constants, its zeros are gone.

Five functions are written as LLVM IR and compiled in some milliseconds, once for each tableau and process:

``int32 attempt(double t, double h, y, stages, trial, int64 n, rates, context, int64 *where)``
    fills the stages and the state at the end of the step; ``where`` is the stage at which the rates stopped.
``int32 further(double t, double h, y, stages, scratch, int64 n, rates, context, int64 *where)``
    fills the stages that only the step polynomial needs.
``double error(double h, y, stages, trial, relative, absolute, int64 n)``
    mean square of the error estimate in units of the tolerance; of two differences e and f, e^2 / sqrt(e^2 + 0.01 f^2)
    squared.
``void polynomial(double h, y, stages, coefficients, int64 n)``
    writes the step polynomial.
``int64 stride(double origin, double step, int64 first, int64 count, int64 *block)``
    takes steps of one length that nobody looks at, see `codegen.batched_steps`.

Loops over the states run four at a time, with a scalar rest; for a few states they are written out. Nothing here may
alias, which a general compiler could not know.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.codegen.batched_steps import BatchWriter
from unhurried_heron.codegen.expression_ir import literal
from unhurried_heron.codegen.vector_ir import DECLARATIONS, LANES, VectorLane
from unhurried_heron.kernels.machine_code.jit import compile_functions


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


def compile_tableau(numbers: Arithmetic, size: int | None, *, strides: bool) -> tuple[list[int], Any]:
    """Return the addresses of attempt, further, error, polynomial and stride (0 without), and the engine to keep alive.

    ``size`` is the number of states where the code is for these alone, at most `MAX_WRITTEN_OUT`, and None where it is
    for any number.

    Parameters
    ----------
    numbers : Arithmetic
    size : int or None
        Number of states where the code is for these alone.
    strides : bool
        Whether batches of steps are compiled, too.

    Returns
    -------
    (list of int, object)
    """
    writer, width = _Writer(size), numbers.b.size + numbers.ends
    rows = [_Stage(i, tuple(numbers.a[i, :i]), numbers.c[i]) for i in range(1, numbers.b.size)]
    if numbers.ends:
        rows.append(_Stage(width - 1, tuple(numbers.b), 1.0))
    further = [_Stage(width + i, tuple(row), math.fsum(row)) for i, row in enumerate(numbers.further)]
    functions = {
        "attempt": writer.stages("attempt", rows, width),
        "further": writer.stages("further", further, width + len(further)),
        "error": writer.error(numbers.error),
        "polynomial": writer.polynomial(numbers.interpolant),
    }
    if strides:
        functions["stride"] = writer.stride(rows, width)
    addresses, engine = compile_functions("\n".join([DECLARATIONS, *functions.values()]), tuple(functions))
    return (addresses if strides else [*addresses, 0]), engine


class _Stage(NamedTuple):
    """A stage, by its index: coefficients of those before, and node."""

    number: int
    row: tuple[float, ...]
    node: float


class _Writer(BatchWriter):
    def _begin(self, header: str, stages: int) -> list[str]:
        """Open a function: wide copies of h, the count of whole groups, and a pointer to each stage."""
        self.lines = [header, "entry:", f"  %whole = and i64 %n, -{LANES}"]
        self.widen("%h")
        return self.rows("%stages", stages)

    def stages(self, name: str, rows: Sequence[_Stage], count: int) -> str:
        """A function that fills the stages of these rows, of ``count`` in all.

        Parameters
        ----------
        name : str
            Of the function.
        rows : sequence of _Stage
        count : int
            Stages in all.

        Returns
        -------
        str
        """
        stages = self._begin(
            f"define i32 @{name}(double %t, double %h, ptr %y, ptr %stages, ptr %trial, i64 %n, ptr %rates, "
            "ptr %context, ptr %where) nounwind {",
            count,
        )
        self._fill(rows, stages, self._stop)
        return "\n".join([*self.lines, "  ret i32 1", "}"])

    def _stop(self, index: int, code: str) -> None:
        self.lines += [f"  store i64 {index}, ptr %where", f"  ret i32 {code}"]

    def _fill(self, rows: Sequence[_Stage], stages: Sequence[str], fail: Callable[[int, str], None]) -> None:
        """Fill the stages of these rows.

        Parameters
        ----------
        rows : sequence of _Stage
        stages : sequence of str
            Registers of the stages.
        fail : callable
            Leaves where the rates did not answer 1.
        """
        for index, row, node in rows:

            def advance(lane: VectorLane, row: Any = row) -> None:
                weighted_rates = lane.weighted(row, stages[: len(row)])
                lane.store(lane.multiply_add(lane.spread("%h"), weighted_rates, lane.load("%y")), "%trial")

            self.loop(advance)
            time = self.multiply_add("%h", literal(float(node)), "%t")
            code = self.call_rates(time, "%trial", stages[index])
            self.unless_fine(code, functools.partial(fail, index, code))

    def stride(self, rows: Sequence[_Stage], width: int) -> str:
        """A function that takes many steps: state and rates are exchanged with those at the end of a step."""
        self.open_stride(("state", "other", "stages"))
        stages = self.rows("%stages", width)
        self.turn({"%y": ("%state", "%trial"), "%trial": ("%other", "%y"),
                   "%rates_here": ("%stages", "%last"), "%last": (stages[-1], "%rates_here")})  # fmt: skip
        self._fill(rows, ["%rates_here", *stages[1:-1], "%last"], self.leave)
        self.unless_finite(("%trial", "%last"), width - 1)
        return self.close_stride({"%final": "%state", "%rates_here": "%stages"})

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

        def square(lane: VectorLane) -> None:
            size = lane.larger(lane.size(lane.load("%trial")), lane.size(lane.load("%y")))
            allowed = lane.multiply_add(lane.load("%relative"), size, lane.load("%absolute"))
            for name, row in zip(sums, weights.tolist(), strict=True):
                defect = lane.binary("fmul", lane.spread("%h"), lane.weighted(row, stages))
                ratio = lane.binary("fdiv", defect, allowed)
                self._add(lane, lane.binary("fmul", ratio, ratio), name)

        self.loop(square)
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

    def _add(self, lane: VectorLane, value: str, name: str) -> None:
        """Add a value, or four, to a sum.

        Parameters
        ----------
        lane : VectorLane
        value : str
            Register of the value.
        name : str
            Of the sum.
        """
        after = lane.summed(self.new(f"load double, ptr {name}"), value)
        self.lines.append(f"  store double {after}, ptr {name}")

    def polynomial(self, interpolant: np.ndarray) -> str:
        degree, width = interpolant.shape
        stages = self._begin(
            "define void @polynomial(double %h, ptr %y, ptr %stages, ptr %coefficients, i64 %n) nounwind {",
            width,
        )
        rows = self.rows("%coefficients", degree + 1)

        def combine(lane: VectorLane) -> None:
            lane.store(lane.load("%y"), rows[0])
            for d in range(degree):
                weighted_rates = lane.weighted(interpolant[d].tolist(), stages)
                lane.store(lane.binary("fmul", lane.spread("%h"), weighted_rates), rows[d + 1])

        self.loop(combine)
        return "\n".join([*self.lines, "  ret void", "}"])
