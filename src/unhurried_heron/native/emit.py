"""Writing expression trees as LLVM IR text: one function of the common signature, equal subtrees computed once.

No fast-math flag is set: a formula is computed as it was written.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from typing import Final

from unhurried_heron.problem.expression import COMPARISONS, TIME, Node, number

# functions LLVM knows itself (and may fold or inline); the others are called from the C mathematics library
_INTRINSIC: Final = {
    "sin": "llvm.sin.f64",
    "cos": "llvm.cos.f64",
    "exp": "llvm.exp.f64",
    "log": "llvm.log.f64",
    "log10": "llvm.log10.f64",
    "sqrt": "llvm.sqrt.f64",
    "abs": "llvm.fabs.f64",
    "floor": "llvm.floor.f64",
    "ceil": "llvm.ceil.f64",
}
_LIBRARY: Final = frozenset({"tan", "asin", "acos", "atan", "sinh", "cosh", "tanh", "atan2"})
_ORDERED: Final = {"lt": "olt", "le": "ole", "gt": "ogt", "ge": "oge", "eq": "oeq", "ne": "une"}
_MAX_UNROLLED_POWER: Final = 16.0


def literal(value: float) -> str:
    """A double in LLVM's exact hexadecimal notation."""
    return f"0x{struct.unpack('<Q', struct.pack('<d', value))[0]:016X}"


class Emitter:
    """Gathers the instructions of one function."""

    def __init__(self, states: tuple[str, ...], parameters: tuple[str, ...]) -> None:
        self._slots: Mapping[str, tuple[str, int]] = {
            **{state: ("%y", i) for i, state in enumerate(states)},
            **{parameter: ("%p", i) for i, parameter in enumerate(parameters)},
        }
        self._lines: list[str] = []
        self._declared: set[str] = set()
        self._values: dict[Node, str] = {}
        self._count = 0

    def module(self, outputs: Mapping[int, Node], size: int) -> str:
        """Return the module's text: ``evaluate`` writes the trees to their places, zeros elsewhere."""
        if len(outputs) < size:
            self._declared.add("declare void @llvm.memset.p0.i64(ptr, i8, i64, i1)")
            self._lines.append(f"  call void @llvm.memset.p0.i64(ptr %out, i8 0, i64 {8 * size}, i1 false)")
        for place, node in outputs.items():
            self._store(self.value(node), place)
        return "\n".join(
            [
                *sorted(self._declared),
                "define i32 @evaluate(double %t, ptr noalias readonly %y, ptr noalias %out, "
                "ptr noalias readonly %p) nounwind {",
                *self._lines,
                "  ret i32 1",
                "}",
            ]
        )

    def value(self, node: Node) -> str:
        """Return the register (or literal) that holds a tree's value, emitting it at first use."""
        found = self._values.get(node)
        if found is None:
            found = self._values[node] = self._emit(node)
        return found

    def _new(self, instruction: str) -> str:
        self._count += 1
        self._lines.append(f"  %v{self._count} = {instruction}")
        return f"%v{self._count}"

    def _store(self, register: str, place: int) -> None:
        pointer = self._new(f"getelementptr double, ptr %out, i64 {place}")
        # "volatile" keeps the code generator from looking for stores to merge, which takes it quadratic time
        self._lines.append(f"  store volatile double {register}, ptr {pointer}")

    def _call(self, function: str, *registers: str) -> str:
        kinds = ", ".join("double" for _ in registers)
        # "readnone" tells the optimiser that equal arguments give equal values
        self._declared.add(f"declare double @{function}({kinds}) nounwind readnone")
        return self._new(f"call double @{function}({', '.join(f'double {r}' for r in registers)})")

    def _fold(self, operation: str, registers: list[str]) -> str:
        total = registers[0]
        for register in registers[1:]:
            total = self._new(f"{operation} double {total}, {register}")
        return total

    def _truth(self, node: Node) -> str:
        """Return a one-bit register: comparisons directly, anything else by "is not zero"."""
        op = node.op
        if op in COMPARISONS:
            a, b = (self.value(operand) for operand in node.operands)
            return self._new(f"fcmp {_ORDERED[op]} double {a}, {b}")
        if op in ("and", "or"):
            bits = [self._truth(operand) for operand in node.operands]
            total = bits[0]
            for bit in bits[1:]:
                total = self._new(f"{op} i1 {total}, {bit}")
            return total
        if op == "not":
            return self._new(f"xor i1 {self._truth(node.operands[0])}, true")
        return self._new(f"fcmp une double {self.value(node)}, {literal(0.0)}")

    def _select(self, bit: str, chosen: str, otherwise: str) -> str:
        return self._new(f"select i1 {bit}, double {chosen}, double {otherwise}")

    def _emit(self, node: Node) -> str:
        op, operands = node.op, node.operands
        if op == "number":
            return literal(float(node.args[0]))  # type: ignore[arg-type]  # numbers hold a float
        if op == "name":
            return self._load(str(node.args[0]))
        if op in COMPARISONS or op in ("and", "or", "not"):
            return self._new(f"uitofp i1 {self._truth(node)} to double")
        if op == "where":
            return self._select(self._truth(operands[0]), self.value(operands[1]), self.value(operands[2]))
        if op == "add":
            return self._sum(operands)
        if op == "pow":
            return self._power(*operands)
        registers = [self.value(operand) for operand in operands]
        if op == "mul":
            return self._fold("fmul", registers)
        if op == "div":
            return self._fold("fdiv", registers)
        if op == "neg":
            return self._new(f"fneg double {registers[0]}")
        if op in _INTRINSIC:
            return self._call(_INTRINSIC[op], *registers)
        if op in _LIBRARY:
            return self._call(op, *registers)
        return self._jump(op, registers)

    def _load(self, name: str) -> str:
        if name == TIME:
            return "%t"
        base, index = self._slots[name]
        pointer = self._new(f"getelementptr double, ptr {base}, i64 {index}")
        return self._new(f"load double, ptr {pointer}")

    def _sum(self, terms: tuple[Node, ...]) -> str:
        total = self.value(terms[0])
        for term in terms[1:]:
            if term.op == "neg":
                total = self._new(f"fsub double {total}, {self.value(term.operands[0])}")
            else:
                total = self._new(f"fadd double {total}, {self.value(term)}")
        return total

    def _power(self, base: Node, exponent: Node) -> str:
        x, n = self.value(base), exponent.value
        if n is not None and n != 0.0 and abs(n) <= _MAX_UNROLLED_POWER and 2.0 * n == int(2.0 * n):
            result = self._whole_power(x, int(abs(n)))
            if n != int(n):
                root = self._call(_INTRINSIC["sqrt"], x)
                result = root if result is None else self._new(f"fmul double {result}, {root}")
            assert result is not None
            return self._new(f"fdiv double {literal(1.0)}, {result}") if n < 0 else result
        return self._call("llvm.pow.f64", x, self.value(exponent))

    def _whole_power(self, x: str, n: int) -> str | None:
        result: str | None = None
        square = x
        while n:
            if n & 1:
                result = square if result is None else self._new(f"fmul double {result}, {square}")
            n >>= 1
            if n:
                square = self._new(f"fmul double {square}, {square}")
        return result

    def _jump(self, op: str, registers: list[str]) -> str:
        zero, one = literal(0.0), literal(1.0)
        x = registers[0]
        if op in ("min", "max"):
            total = x
            for register in registers[1:]:
                # a NaN on either side must come through, so the comparison is "unordered or": NaN chooses itself
                sign = "ult" if op == "min" else "ugt"
                bit = self._new(f"fcmp {sign} double {total}, {register}")
                chosen = self._select(bit, total, register)
                bad = self._new(f"fcmp uno double {register}, {register}")
                total = self._select(bad, register, chosen)
            return total
        if op == "step":
            return self._keep_nan(x, self._select(self._new(f"fcmp oge double {x}, {zero}"), one, zero))
        if op == "pulse":
            begun = self._new(f"fcmp oge double {x}, {registers[1]}")
            not_over = self._new(f"fcmp olt double {x}, {registers[2]}")
            return self._keep_nan(x, self._select(self._new(f"and i1 {begun}, {not_over}"), one, zero))
        if op == "sign":
            negative = self._select(self._new(f"fcmp olt double {x}, {zero}"), self.value(number(-1.0)), x)
            return self._select(self._new(f"fcmp ogt double {x}, {zero}"), one, negative)
        raise AssertionError(f"no rule to emit '{op}'")

    def _keep_nan(self, x: str, result: str) -> str:
        return self._select(self._new(f"fcmp uno double {x}, {x}"), x, result)
