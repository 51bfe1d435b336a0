"""The steps of one explicit linear multistep method as straight machine code, many at once."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from unhurried_heron.codegen.batched_steps import BatchWriter
from unhurried_heron.codegen.expression_ir import literal
from unhurried_heron.codegen.vector_ir import DECLARATIONS, VectorLane
from unhurried_heron.kernels.machine_code.jit import compile_functions


class Recurrence(NamedTuple):
    """The numbers of a method of ``steps`` steps.

    ``predicts``, ``weights`` (2 steps,): of values of the past, the newest first, and of rates; ``newest``: the weight
    of the new rates, 0 without a corrector. ``remembers``: whether values of the past are used.
    """

    steps: int
    predicts: tuple[float, ...]
    weights: tuple[float, ...]
    newest: float
    remembers: bool


def compile_recurrence(numbers: Recurrence, size: int | None) -> tuple[int, Any]:
    """Return the address of ``stride``, and the engine to keep alive; ``size`` as for a tableau."""
    (address,), engine = compile_functions(DECLARATIONS + _Writer(size).stride(numbers), ("stride",))
    return address, engine


class _Writer(BatchWriter):
    def stride(self, numbers: Recurrence) -> str:
        """A function whose rows of the past are exchanged, the oldest with the new one."""
        k = numbers.steps
        self.open_stride(("state", "other", "past", "past_rates", "predicted", "head"))
        rows = self._turned("%past_rates", k + 1)
        values = self._turned("%past", k + 1) if numbers.remembers else ["%state", "%other"]
        names = [f"%f{j}" for j in range(k + 1)]
        theirs = ["%y", *(f"%y{j}" for j in range(1, len(values)))]
        turning: dict[str, tuple[str, str]] = {}
        for given, called in ((rows, names), (values, theirs)):
            turning |= {name: (row, called[j - 1]) for j, (row, name) in enumerate(zip(given, called, strict=True))}
        self.turn(turning)
        new, made = theirs[-1], 0
        self._combine(numbers.predicts, names, theirs, new)
        if numbers.newest:
            code, made = self.call_rates("%finish", new, "%predicted"), 1
            self.unless_fine(code, lambda: self.leave(1, code))
            self._combine(numbers.weights, names, theirs, new)
            weight = self._weight("%newest", numbers.newest)
            self.loop(
                lambda lane: lane.store(
                    lane.multiply_add(lane.spread(weight), lane.load("%predicted"), lane.load(new)), new
                )
            )
        self.unless_finite([new], made)
        answer = self.call_rates("%finish", new, names[-1])
        self.unless_fine(answer, lambda: self.leave(made + 1, answer, new, "%i.next"))
        self.unless_finite([names[-1]], made + 1)
        return self.close_stride({"%final": "%state"})

    def _turned(self, base: str, count: int) -> list[str]:
        """Return pointers to the rows of a ring, the newest first; the last is free."""
        pointers = []
        for j in range(count):
            location = self.new(f"add i64 %head, {j}")
            over, back = self.new(f"icmp uge i64 {location}, {count}"), self.new(f"sub i64 {location}, {count}")
            location = self.new(f"select i1 {over}, i64 {back}, i64 {location}")
            offset = self.new(f"mul i64 {location}, {'%n' if self.size is None else self.size}")
            pointers.append(self.new(f"getelementptr double, ptr {base}, i64 {offset}"))
        return pointers

    def _weight(self, name: str, value: float) -> str:
        self.lines.append(f"  {name} = fmul double %h, {literal(value)}")
        self.widen(name)
        return name

    def _combine(self, weights: Sequence[float], past_rates: Sequence[str], values: Sequence[str], out: str) -> None:
        """Write what weights make of the past; the newest rates come last, because they are waited for.

        Parameters
        ----------
        weights : sequence of float
            Of the values, then of the rates.
        past_rates : sequence of str
            Registers of the rates.
        values : sequence of str
            Registers of the values.
        out : str
            Register of where it goes.
        """
        k, label = len(weights) // 2, self.label()
        scaled = {j: self._weight(f"%w{label}.{j}", w) for j, w in reversed([*enumerate(weights[k:])]) if w != 0.0}

        def advance(lane: VectorLane) -> None:
            total = lane.binary("fmul", lane.load(values[0]), lane.constant(weights[0]))
            for j in range(1, k):
                if weights[j] != 0.0:
                    total = lane.multiply_add(lane.constant(weights[j]), lane.load(values[j]), total)
            for j, weight in scaled.items():
                total = lane.multiply_add(lane.spread(weight), lane.load(past_rates[j]), total)
            lane.store(total, out)

        self.loop(advance)
