"""Formulas of many members shared among threads: each thread runs a part of every long loop, with the same bits.

Threads begin and end with each call, which takes some twenty microseconds; nothing is left behind between two calls.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Sequence
from typing import Final

from unhurried_heron.formulas.expression import walk
from unhurried_heron.formulas.layout import IndexedFormula
from unhurried_heron.formulas.operations import OPERATIONS

# Operations of a function of the library count as so many others.
_CALL: Final = 20
# Operations of one evaluation from which threads are worth it: half a millisecond and more.
_MANY: Final = 4_000_000
# Loops with this share of them, at least, are shared.
_LONG: Final = 0.02
# Threads at most.
_MOST: Final = 8

_PARTS: Final = """
define internal ptr @{name}_thread(ptr %given) nounwind {{
  %t = load double, ptr %given
{loads}
  %done = call i32 @{name}_part(double %t, ptr %v1, ptr %v2, ptr %v3, i64 %v4)
  ret ptr null
}}
define i32 @{name}(double %t, ptr %y, ptr %out, ptr %p) nounwind {{
{zeros}
{begins}
  %rest = call i32 @{name}_rest(double %t, ptr %y, ptr %out, ptr %p)
  %own = call i32 @{name}_part(double %t, ptr %y, ptr %out, ptr %p, i64 0)
{ends}
  ret i32 1
}}
"""
_LOAD: Final = """  %at{k} = getelementptr i64, ptr %given, i64 {k}
  %v{k} = load {kind}, ptr %at{k}"""
_BEGIN: Final = """  %given{k} = alloca [5 x i64]
  %thread{k} = alloca i64
  store double %t, ptr %given{k}
{stores}
  %code{k} = call i32 @pthread_create(ptr %thread{k}, ptr null, ptr @{name}_thread, ptr %given{k})"""
_STORE: Final = """  %to{k}.{j} = getelementptr i64, ptr %given{k}, i64 {j}
  store {what}, ptr %to{k}.{j}"""
# a part for which no thread could be had is done here
_END: Final = """  %bad{k} = icmp ne i32 %code{k}, 0
  br i1 %bad{k}, label %here{k}, label %there{k}
here{k}:
  %by.me{k} = call i32 @{name}_part(double %t, ptr %y, ptr %out, ptr %p, i64 {k})
  br label %over{k}
there{k}:
  %id{k} = load i64, ptr %thread{k}
  %joined{k} = call i32 @pthread_join(i64 %id{k}, ptr null)
  br label %over{k}
over{k}:"""
DECLARED: Final = frozenset({"declare i32 @pthread_create(ptr, ptr, ptr, ptr)", "declare i32 @pthread_join(i64, ptr)"})


@functools.cache
def cores() -> int:
    """Return the number of threads that run at once; 1 where there are no POSIX threads."""
    import llvmlite.binding as llvm

    if not llvm.address_of_symbol("pthread_create"):
        return 1
    allowed = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return min(allowed, _MOST)


def shared_formulas(formulas: Sequence[IndexedFormula]) -> frozenset[IndexedFormula]:
    """Return the formulas whose loops are shared among threads; none where one thread does it as fast."""
    if any(each.adds for each in formulas):
        return frozenset()
    work = {each: each.turns * _operations(each) for each in formulas if _outermost(each) >= 2 * cores()}
    total = sum(work.values())
    if total < _MANY or cores() == 1:
        return frozenset()
    return frozenset(each for each, share in work.items() if share >= _LONG * total)


def bounds_of_part(k: int, first: int, last: int) -> tuple[list[str], str, str]:
    """Return instructions for the bounds of a loop's part, and their registers.

    Parameters
    ----------
    k : int
        Number of the loop.
    first : int
        Of the whole loop.
    last : int

    Returns
    -------
    (list of str, str, str)
    """
    length = last - first + 1
    lines = []
    for name, part in (("first", "%part"), ("beyond", f"%part.next{k}")):
        if name == "beyond":
            lines.append(f"  {part} = add i64 %part, 1")
        lines += [
            f"  %{name}.share{k} = mul i64 {part}, {length}",
            f"  %{name}.of{k} = udiv i64 %{name}.share{k}, {cores()}",
            f"  %{name}{k} = add i64 %{name}.of{k}, {first}",
        ]
    return [*lines, f"  %last{k} = sub i64 %beyond{k}, 1"], f"%first{k}", f"%last{k}"


def calling_all(name: str, zeros: Sequence[str]) -> str:
    """Return the text of a function that has its parts computed at once, ``name_rest`` and ``name_part``.

    ``zeros``: instructions that come before.
    """
    kinds = {1: "ptr", 2: "ptr", 3: "ptr", 4: "i64"}
    loads = "\n".join(_LOAD.format(k=k, kind=kind) for k, kind in kinds.items())
    begins, ends = [], []
    for k in range(1, cores()):
        stored = {1: "ptr %y", 2: "ptr %out", 3: "ptr %p", 4: f"i64 {k}"}
        stores = "\n".join(_STORE.format(k=k, j=j, what=what) for j, what in stored.items())
        begins.append(_BEGIN.format(k=k, name=name, stores=stores))
        ends.append(_END.format(k=k, name=name))
    return _PARTS.format(name=name, loads=loads, zeros="\n".join(zeros), begins="\n".join(begins), ends="\n".join(ends))


def _outermost(formula: IndexedFormula) -> int:
    if not formula.loops:
        return 0
    return formula.loops[0].last - formula.loops[0].first + 1


def _operations(formula: IndexedFormula) -> int:
    return sum(
        _CALL if node.op in OPERATIONS and OPERATIONS[node.op].kind == "function" else 1 for node in walk(formula.node)
    )
