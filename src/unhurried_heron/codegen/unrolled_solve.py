"""Solving small linear systems with the factors of `dense_lu`, all loops written out.

In loops of so few turns, counting costs more than the arithmetic, and so does waiting for one sum after another; here
all that do not depend on each other are under way at once.
"""

from __future__ import annotations

from typing import Final

from unhurried_heron.codegen.expression_ir import literal
from unhurried_heron.codegen.vector_ir import IrWriter
from unhurried_heron.kernels.linear_algebra.context import DONE, IM, PIVOTS, RE, B, D
from unhurried_heron.kernels.machine_code.loading import Kernel, load_written

# the largest systems that are written out: twice as large ones take a second to compile, and gain half as much
MAX_WRITTEN: Final = 16


def load_solve(n: int) -> Kernel:
    """Return the kernel ``int32 solve(int64 *result, unused, context)`` for n unknowns."""
    return load_written(f"unhurried_heron.codegen.unrolled_solve:solve-{n}", "solve", lambda: _Writer(n).solve())


class _Writer(IrWriter):
    def __init__(self, n: int) -> None:
        super().__init__(n)
        self.n = n

    def _load(self, base: str, index: int, kind: str = "double") -> str:
        """Write the load of an element of an array; return its value.

        Parameters
        ----------
        base : str
            The array.
        index : int
        kind : str, optional
            LLVM's type of the element.

        Returns
        -------
        str
        """
        return self.new(f"load {kind}, ptr {self.new(f'getelementptr {kind}, ptr {base}, i64 {index}')}")

    def _store(self, value: str, base: str, index: int) -> None:
        """Write the store of a value into an array.

        Parameters
        ----------
        value : str
        base : str
            The array.
        index : int
        """
        self.lines.append(f"  store double {value}, ptr {self.new(f'getelementptr double, ptr {base}, i64 {index}')}")

    def _multiply(self, x: str, y: str) -> str:
        return self.new(f"fmul double {x}, {y}")

    def _less(self, total: str, x: str, y: str) -> str:
        """Return total - x*y.

        Parameters
        ----------
        total : str
        x : str
        y : str

        Returns
        -------
        str
        """
        return self.multiply_add(self.new(f"fneg double {x}"), y, total)

    def solve(self) -> str:
        self.lines = [
            "declare double @llvm.fmuladd.f64(double, double, double)",
            "define i32 @solve(ptr %result, ptr %unused, i64 %data) nounwind {",
            f"  store i64 {DONE}, ptr %result",
            "  %context = inttoptr i64 %data to ptr",
        ]
        re, im, pivots, b, d = (self._load("%context", index, "ptr") for index in (RE, IM, PIVOTS, B, D))
        real = self.new(f"icmp eq ptr {im}, null")
        self.lines += [f"  br i1 {real}, label %real, label %complex", "real:"]
        self._swap(pivots, (b,))
        self._real(re, b)
        self.lines += ["  ret i32 0", "complex:"]
        self._swap(pivots, (b, d))
        self._complex(re, im, b, d)
        return "\n".join([*self.lines, "  ret i32 0", "}"])

    def _swap(self, pivots: str, sides: tuple[str, ...]) -> None:
        for k in range(self.n - 1):
            other = self._load(pivots, k, "i64")
            for side in sides:
                here, there = (self.new(f"getelementptr double, ptr {side}, i64 {index}") for index in (k, other))
                one, two = self.new(f"load double, ptr {here}"), self.new(f"load double, ptr {there}")
                self.lines += [f"  store double {two}, ptr {here}", f"  store double {one}, ptr {there}"]

    def _real(self, re: str, b: str) -> None:
        n = self.n
        x = [self._load(b, k) for k in range(n)]
        inverse = [self.new(f"fdiv double {literal(1.0)}, {self._load(re, k * n + k)}") for k in range(n)]
        # The loop goes column by column, so that no operation waits for the one before.
        for j in range(n):
            for i in range(j + 1, n):
                x[i] = self._less(x[i], self._load(re, i * n + j), x[j])
        for j in reversed(range(n)):
            x[j] = self._multiply(x[j], inverse[j])
            for i in range(j):
                x[i] = self._less(x[i], self._load(re, i * n + j), x[j])
        for k in range(n):
            self._store(x[k], b, k)

    def _complex(self, re: str, im: str, b: str, d: str) -> None:
        """Write the solve with complex factors.

        Parameters
        ----------
        re : str
            The array of the real parts of the factors.
        im : str
            That of the imaginary parts.
        b : str
            The array of the real parts of the right-hand side.
        d : str
            That of the imaginary parts.
        """
        n = self.n
        x, y = [self._load(b, k) for k in range(n)], [self._load(d, k) for k in range(n)]

        def eliminate(i: int, j: int) -> None:
            p, q = self._load(re, i * n + j), self._load(im, i * n + j)
            x[i] = self.multiply_add(q, y[j], self._less(x[i], p, x[j]))
            y[i] = self._less(self._less(y[i], p, y[j]), q, x[j])

        inverse = []
        for k in range(n):
            p, q = self._load(re, k * n + k), self._load(im, k * n + k)
            size = self.new(f"fdiv double {literal(1.0)}, {self.multiply_add(p, p, self._multiply(q, q))}")
            inverse.append((self._multiply(p, size), self._multiply(q, size)))
        for j in range(n):
            for i in range(j + 1, n):
                eliminate(i, j)
        for j in reversed(range(n)):
            p, q = inverse[j]
            x[j], y[j] = (
                self.multiply_add(x[j], p, self._multiply(y[j], q)),
                self._less(self._multiply(y[j], p), x[j], q),
            )
            for i in range(j):
                eliminate(i, j)
        for k in range(n):
            self._store(x[k], b, k)
            self._store(y[k], d, k)
