"""Writing expression trees as LLVM IR text: straight lines and loops, equal subtrees computed once.

No fast-math flag is set: a formula is computed as it was written.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Final

from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.expression import COMPARISONS, MARK, SUM, TIME, Node, free_names
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import OPERATIONS
from unhurried_heron.formulas.state_name import StateName

_ORDERED: Final = {"lt": "olt", "le": "ole", "gt": "ogt", "ge": "oge", "eq": "oeq", "ne": "une"}
# Powers up to this, whole and half ones, become products: more multiplications err and cost more than `pow`.
_MAX_UNROLLED_POWER: Final = 16.0


def literal(value: float) -> str:
    """A double in LLVM's exact hexadecimal notation."""
    return f"0x{struct.unpack('<Q', struct.pack('<d', value))[0]:016X}"


@dataclass(frozen=True)
class SymbolTable:
    """Where names find their values: states by index, the others in the context.

    Attributes
    ----------
    scalars : tuple of (str, int)
        Places of the states that are no indexed states.
    context_indices : tuple of (str, int)
        Parameters and switches, and where they stand in the context.
    inputs : tuple of (str, int)
        Measured inputs and where in the context the address of their table stands; the address of the row in use
        follows.
    held : bool
        Whether measured inputs are read from the row in use, as long as the march holds it.
    n_states : int
        How many numbers the state has.
    """

    scalars: tuple[tuple[str, int], ...]
    context_indices: tuple[tuple[str, int], ...]
    inputs: tuple[tuple[str, int], ...] = ()
    held: bool = False
    n_states: int = 0


class Scope:
    """The body of a loop, or of the function: its instructions and the values that are known in it."""

    def __init__(self, parent: Scope | None, index: str = "", register: str = "") -> None:
        self.parent, self.index, self.register = parent, index, register
        self.depth: int = parent.depth + 1 if parent else 0
        self.lines: list[str] = []
        self.values: dict[Node, str] = {}


class Emitter:
    """Gathers the instructions of one function.

    A value is computed in the outermost scope that knows its indices, so nothing is computed twice in a loop.
    """

    def __init__(self, names: SymbolTable) -> None:
        self._slots: Mapping[str, tuple[str, int]] = {
            **{name: ("%p", i) for name, i in names.context_indices},
            **{state: ("%y", i) for state, i in names.scalars},
        }
        self._inputs, self._held = dict(names.inputs), names.held
        self.declared: set[str] = set()
        self._count = 0
        self.scope = self._target = Scope(None)

    def value(self, root: Node) -> str:
        """Return the register (or literal) that holds a tree's value, emitting it at first use."""
        stack = [root]
        while stack:
            node = stack[-1]
            if self._find(node) is not None:
                stack.pop()
                continue
            # a sum computes its summand in a loop of its own
            missing = [] if node.op == SUM else [part for part in node.operands if self._find(part) is None]
            if missing:
                stack.extend(missing)
                continue
            stack.pop()
            scope = self._scope_of(node)
            outer, self._target = self._target, scope
            scope.values[node] = self._emit(node)
            self._target = outer
        return self._known(root)

    def _find(self, node: Node) -> tuple[str, Scope] | None:
        scope: Scope | None = self.scope
        while scope is not None:
            found = scope.values.get(node)
            if found is not None:
                return found, scope
            scope = scope.parent
        return None

    def _known(self, node: Node) -> str:
        found = self._find(node)
        if found is None:
            raise unforeseen("a node without machine code")
        return found[0]

    def _scope_of(self, node: Node) -> Scope:
        """Return the innermost scope that a node needs."""
        if node.op == SUM:
            return self._deepest(free_names(node))
        if node.op == "name":
            return self._deepest([str(node.args[0])])
        if node.op == "slot":
            return self._deepest([str(index) for index, _ in node.args[1:]])
        scopes = [found[1] for found in map(self._find, node.operands) if found]
        return max(scopes, key=lambda scope: scope.depth, default=self._deepest([]))

    def _deepest(self, indices: Iterable[str]) -> Scope:
        wanted = set(indices)
        scope = self.scope
        while scope.parent is not None and scope.index not in wanted:
            scope = scope.parent
        return scope

    def register_of(self, index: str) -> str:
        """Return the whole-number register of a loop index."""
        scope: Scope | None = self.scope
        while scope is not None and scope.index != index:
            scope = scope.parent
        if scope is None:
            raise unforeseen("a name outside every scope")
        return scope.register

    def flat_index(self, base: int, strides: Iterable[tuple[str, int]]) -> str:
        """Return the whole number ``base + sum(stride*index)``."""
        total = str(base)
        for index, stride in strides:
            register = self.register_of(index)
            step = register if stride == 1 else self._new(f"mul nsw i64 {register}, {stride}")
            total = self._new(f"add nsw i64 {step}, {total}")
        return total

    def loop(self, index: str, first: int | str, last: int | str, fill: Callable[[], str | None]) -> str | None:
        """Emit a loop; return the register of the sum, if its body has one.

        Parameters
        ----------
        index : str
            Its name.
        first, last : int or str
            Its ends, or the registers that hold them.
        fill : callable
            Emits the body and may return a register that is summed up.

        Returns
        -------
        str or None
        """
        self._count += 1
        k = self._count
        parent, target = self.scope, self._target
        scope = Scope(self._target, index, f"%i{k}")
        self.scope = self._target = scope
        summand = fill()
        self.scope, self._target = parent, target
        into = target.lines
        into += [f"  br label %pre{k}", f"pre{k}:", f"  br label %body{k}", f"body{k}:"]
        into.append(f"  %i{k} = phi i64 [ {first}, %pre{k} ], [ %next{k}, %latch{k} ]")
        if summand is not None:
            into.append(f"  %acc{k} = phi double [ {literal(0.0)}, %pre{k} ], [ %sum{k}, %latch{k} ]")
        into += scope.lines
        into += [f"  br label %latch{k}", f"latch{k}:"]
        if summand is not None:
            into.append(f"  %sum{k} = fadd double %acc{k}, {summand}")
        into += [f"  %next{k} = add nsw i64 %i{k}, 1", f"  %more{k} = icmp sle i64 %next{k}, {last}"]
        into += [f"  br i1 %more{k}, label %body{k}, label %done{k}", f"done{k}:"]
        return f"%sum{k}" if summand is not None else None

    def _sum(self, node: Node) -> str:
        index, first, last, body = node.args
        # the loop stands in the scope that the sum belongs to, and sees only what that scope sees
        inner, self.scope = self.scope, self._target
        total = self.loop(str(index), int(first.args[0]), int(last.args[0]), lambda: self.value(body))
        self.scope = inner
        if total is None:
            raise unforeseen("total is not None")
        return total

    def _new(self, instruction: str) -> str:
        self._count += 1
        self._target.lines.append(f"  %v{self._count} = {instruction}")
        return f"%v{self._count}"

    def store(self, node: Node, base: int, strides: Iterable[tuple[str, int]], *, adds: bool) -> None:
        """Write the value of a tree to an element of the output, or add it to what is there.

        Parameters
        ----------
        node : Node
        base : int
            The index of the first element.
        strides : iterable of (str, int)
            How far each loop index moves it.
        adds : bool
            Whether the value is added to what is there.
        """
        register, strides = self.value(node), list(strides)
        self._target = self.scope
        pointer = self._new(f"getelementptr double, ptr %out, i64 {self.flat_index(base, strides)}")
        if adds:
            register = self._new(f"fadd double {self._new(f'load double, ptr {pointer}')}, {register}")
        # outside loops, "volatile" keeps the code generator from looking for stores to merge, which takes it
        # quadratic time
        how = "store volatile" if self.scope.parent is None and not adds else "store"
        self._target.lines.append(f"  {how} double {register}, ptr {pointer}")

    def _call(self, function: str, *registers: str) -> str:
        kinds = ", ".join("double" for _ in registers)
        # "readnone" tells the optimiser that equal arguments give equal values
        self.declared.add(f"declare double @{function}({kinds}) nounwind readnone")
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
            a, b = (self._known(operand) for operand in node.operands)
            return self._new(f"fcmp {_ORDERED[op]} double {a}, {b}")
        if op in ("and", "or"):
            bits = [self._truth(operand) for operand in node.operands]
            total = bits[0]
            for bit in bits[1:]:
                total = self._new(f"{op} i1 {total}, {bit}")
            return total
        if op == "not":
            return self._new(f"xor i1 {self._truth(node.operands[0])}, true")
        return self._new(f"fcmp une double {self._known(node)}, {literal(0.0)}")

    def _select(self, bit: str, chosen: str, otherwise: str) -> str:
        """Emit a choice between two registers; return its own.

        Parameters
        ----------
        bit : str
            Register of the condition.
        chosen : str
        otherwise : str

        Returns
        -------
        str
        """
        return self._new(f"select i1 {bit}, double {chosen}, double {otherwise}")

    def _emit(self, node: Node) -> str:
        op, operands = node.op, node.operands
        if op == "number":
            return literal(float(node.args[0]))
        if op == "name":
            return self._load(str(node.args[0]))
        if op == "slot":
            pointer = self._new(f"getelementptr double, ptr %y, i64 {self.flat_index(node.args[0], node.args[1:])}")
            return self._new(f"load double, ptr {pointer}")
        if op == SUM:
            return self._sum(node)
        if op in COMPARISONS or op in ("and", "or", "not"):
            return self._new(f"uitofp i1 {self._truth(node)} to double")
        if op == "where":
            return self._select(self._truth(operands[0]), self._known(operands[1]), self._known(operands[2]))
        if op == MARK:
            return self._known(operands[0])
        if op == "add":
            return self._add(operands)
        if op == "pow":
            return self._power(*operands)
        registers = [self._known(operand) for operand in operands]
        if op == "mul":
            return self._fold("fmul", registers)
        if op == "div":
            return self._fold("fdiv", registers)
        if op == "neg":
            return self._new(f"fneg double {registers[0]}")
        code = OPERATIONS[op].code
        if OPERATIONS[op].ordered:
            return self._of_order(code, registers)
        return self._jump(op, registers) if code == OWN_RULE else self._call(code, *registers)

    def _load(self, name: str) -> str:
        if name == TIME:
            return "%t"
        named = StateName.read(name)
        if named.base in self._inputs:
            return self._measured(self._inputs[named.base], named.primes)
        if name not in self._slots:
            return self._new(f"sitofp i64 {self.register_of(name)} to double")
        base, index = self._slots[name]
        pointer = self._new(f"getelementptr double, ptr {base}, i64 {index}")
        return self._new(f"load double, ptr {pointer}")

    def _measured(self, slot: int, derivative: int) -> str:
        """Evaluate a measured input or a derivative of it: search its table, or take the row that the march holds."""
        cell = self._new(f"getelementptr double, ptr %p, i64 {slot + self._held}")
        table = self._new(f"load ptr, ptr {cell}")
        function = f"measured_row{derivative}" if self._held else f"measured{derivative}"
        self.declared.add(f"declare double @{function}(double, ptr) nounwind")
        return self._new(f"call double @{function}(double %t, ptr {table})")

    def _add(self, terms: tuple[Node, ...]) -> str:
        total = self._known(terms[0])
        for term in terms[1:]:
            if term.op == "neg":
                total = self._new(f"fsub double {total}, {self._known(term.operands[0])}")
            else:
                total = self._new(f"fadd double {total}, {self._known(term)}")
        return total

    def _power(self, base: Node, exponent: Node) -> str:
        x, n = self._known(base), exponent.value
        if n is not None and n != 0.0 and abs(n) <= _MAX_UNROLLED_POWER and 2.0 * n == int(2.0 * n):
            if n != int(n):
                # the power of -0 is that of 0, and of minus infinity that of infinity, where a root would say otherwise
                least, most = literal(-math.inf), literal(math.inf)
                bit = self._new(f"fcmp oeq double {x}, {least}")
                x = self._new(f"fadd double {self._select(bit, most, x)}, {literal(0.0)}")
            result = self._whole_power(x, int(abs(n)))
            if n != int(n):
                root = self._call(OPERATIONS["sqrt"].code, x)
                result = root if result is None else self._new(f"fmul double {result}, {root}")
            if result is None:
                raise unforeseen("result is not None")
            return self._new(f"fdiv double {literal(1.0)}, {result}") if n < 0 else result
        return self._call("llvm.pow.f64", x, self._known(exponent))

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
            negative = self._select(self._new(f"fcmp olt double {x}, {zero}"), literal(-1.0), x)
            return self._select(self._new(f"fcmp ogt double {x}, {zero}"), one, negative)
        raise unforeseen(f"no rule to emit '{op}'")

    def _of_order(self, function: str, registers: list[str]) -> str:
        """Call a function of the C library whose first argument is a whole number; NaN for others."""
        order, x = registers
        whole = self._call("llvm.trunc.f64", order)
        index = self._new(f"call i32 @llvm.fptosi.sat.i32.f64(double {whole})")
        self.declared.add("declare i32 @llvm.fptosi.sat.i32.f64(double) nounwind readnone")
        self.declared.add(f"declare double @{function}(i32, double) nounwind readnone")
        found = self._new(f"call double @{function}(i32 {index}, double {x})")
        return self._select(self._new(f"fcmp oeq double {whole}, {order}"), found, literal(math.nan))

    def _keep_nan(self, x: str, result: str) -> str:
        return self._select(self._new(f"fcmp uno double {x}, {x}"), x, result)
