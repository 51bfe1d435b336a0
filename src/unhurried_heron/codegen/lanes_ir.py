"""Rates of many members at once: the straight code of one, with vectors in the place of numbers.

A state or parameter of a group of members stands in memory as `GROUP` numbers beside each other; the function goes
through them by `LANES`. Every operation does to each number what it does to one alone, so that the bits are the same.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

# Members in a group: their states and stages fit the nearest memory of a processor.
GROUP: Final = 64
# Members that one instruction takes: a vector of 512 bits, or two of 256.
LANES: Final = 8

_KIND: Final = f"<{LANES} x double>"
_BIT: Final = f"<{LANES} x i1>"
_WIDTH: Final = f"v{LANES}f64"
_POINTER: Final = re.compile(r"(%\w+) = getelementptr double, ptr %(y|out|p), i64 (\d+)$")
_LOAD: Final = re.compile(r"(%\w+) = load double, ptr (%\w+)$")
_STORE: Final = re.compile(r"store (?:volatile )?double (\S+), ptr (%\w+)$")
_BINARY: Final = re.compile(r"(%\w+) = (fadd|fsub|fmul|fdiv|fcmp \w+) double (\S+), (\S+)$")
_NEGATIVE: Final = re.compile(r"(%\w+) = fneg double (\S+)$")
_SELECT: Final = re.compile(r"(%\w+) = select i1 (%\w+), double (\S+), double (\S+)$")
_FLAG: Final = re.compile(r"(%\w+) = uitofp i1 (%\w+) to double$")
_CALL: Final = re.compile(r"(%\w+) = call double @(\S+)\((.*)\)$")
_VECTORS: Final = re.compile(r"llvm\.(\w+)\.f64$")


def lanes_of(text: str) -> str | None:
    """Return a module that defines ``evaluate`` for a group of members; None where it is no straight code.

    Parameters
    ----------
    text : str
        A module that defines ``evaluate`` for one.

    Returns
    -------
    str or None
    """
    head, found, rest = text.partition("define i32 @evaluate(")
    lines = rest.partition("{\n")[2].splitlines()
    # other functions and branches are no straight code
    if not found or "define" in head or "define" in rest or lines[-2:] != ["  ret i32 1", "}"]:
        return None
    writer = _Writer()
    for line in lines[:-2]:
        if not writer.take(line.strip()):
            return None
    return "\n".join([
        *(line for line in head.splitlines() if line.startswith("declare")),
        *sorted(writer.declared),
        "define i32 @evaluate(double %t, ptr noalias readonly %y.all, ptr noalias %out.all, "
        "ptr noalias readonly %p.all) nounwind {",
        "entry:",
        *writer.alike,
        "  br label %group",
        "group:",
        "  %first = phi i64 [0, %entry], [%further, %group]",
        *(f"  %{name} = getelementptr double, ptr %{name}.all, i64 %first" for name in ("y", "out", "p")),
        *writer.body,
        f"  %further = add i64 %first, {LANES}",
        f"  %more = icmp slt i64 %further, {GROUP}",
        "  br i1 %more, label %group, label %done",
        "done:",
        "  ret i32 1",
        "}",
    ])  # fmt: skip


class _Writer:
    """Instructions on vectors; what depends on the time alone is alike for all members, and stands before the loop.

    Attributes
    ----------
    alike, body : list of str
    declared : set of str
        What is called.
    """

    def __init__(self) -> None:
        self.alike: list[str] = []
        self.body: list[str] = []
        self.declared: set[str] = set()
        self._single = {"%t"}
        self._wide: dict[str, str] = {}

    def take(self, line: str) -> bool:
        """Write an instruction in the place of one on numbers; False for others."""
        if match := _POINTER.match(line):
            return self._put(f"{match[1]} = getelementptr double, ptr %{match[2]}, i64 {int(match[3]) * GROUP}")
        if match := _LOAD.match(line):
            return self._put(f"{match[1]} = load {_KIND}, ptr {match[2]}, align 8")
        if match := _STORE.match(line):
            return self._put(f"store {_KIND} {self._value(match[1])}, ptr {match[2]}, align 8")
        if match := _BINARY.match(line):
            operands = match[3], match[4]
            return self._alike(line, match[1], operands) or self._put(
                f"{match[1]} = {match[2]} {_KIND} {self._value(match[3])}, {self._value(match[4])}")  # fmt: skip
        if match := _NEGATIVE.match(line):
            return self._alike(line, match[1], (match[2],)) or self._put(
                f"{match[1]} = fneg {_KIND} {self._value(match[2])}")  # fmt: skip
        if match := _SELECT.match(line):
            bit = f"i1 {match[2]}" if match[2] in self._single else f"{_BIT} {match[2]}"
            return self._alike(line, match[1], match.groups()[1:]) or self._put(
                f"{match[1]} = select {bit}, {_KIND} {self._value(match[3])}, {_KIND} {self._value(match[4])}"
            )
        if match := _FLAG.match(line):
            return self._alike(line, match[1], (match[2],)) or self._put(
                f"{match[1]} = uitofp {_BIT} {match[2]} to {_KIND}")  # fmt: skip
        return self._call(line)

    def _call(self, line: str) -> bool:
        """Write the call of a function: once where it is alike for all, of an intrinsic on vectors; False else."""
        match = _CALL.match(line)
        if match is None:
            return False
        given = [each.strip().removeprefix("double ") for each in match[3].split(",")]
        if self._alike(line, match[1], given):
            return True
        function = _VECTORS.match(match[2])
        if function is None:
            return False
        name, kinds = f"@llvm.{function[1]}.{_WIDTH}", ", ".join([_KIND] * len(given))
        self.declared.add(f"declare {_KIND} {name}({kinds})")
        values = ", ".join(f"{_KIND} {self._value(each)}" for each in given)
        return self._put(f"{match[1]} = call {_KIND} {name}({values})")

    def _put(self, line: str) -> bool:
        self.body.append(f"  {line}")
        return True

    def _alike(self, line: str, name: str, operands: Iterable[str]) -> bool:
        """Write an instruction before the loop where its operands are alike for all members; whether they are.

        Parameters
        ----------
        line : str
        name : str
            Of its result.
        operands : iterable of str

        Returns
        -------
        bool
        """
        if not all(each in self._single or not each.startswith("%") for each in operands):
            return False
        self.alike.append(f"  {line}")
        self._single.add(name)
        return True

    def _value(self, word: str) -> str:
        """Return a number as a vector."""
        if not word.startswith("%"):
            return "<" + ", ".join([f"double {word}"] * LANES) + ">"
        if word not in self._single:
            return word
        if word not in self._wide:
            self._wide[word] = f"{word}.wide"
            self.alike += [
                f"  {word}.one = insertelement {_KIND} poison, double {word}, i32 0",
                f"  {word}.wide = shufflevector {_KIND} {word}.one, {_KIND} poison, <{LANES} x i32> zeroinitializer",
            ]
        return self._wide[word]
