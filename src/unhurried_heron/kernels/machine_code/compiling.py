"""Compiling kernels with Numba; `loading` calls this once on a machine."""

from __future__ import annotations

import importlib
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, Final, TypeVar

import numba
from numba.core import config as numba_config
from numba.core.compiler_lock import global_compiler_lock
from numba.core.registry import cpu_target

from unhurried_heron.kernels.machine_code.signature import ENTRY

Inner = TypeVar("Inner", bound=Callable[..., Any])
# no flag that lets the compiler assume that NaN or infinity cannot occur, and none that reorders sums. Nobody calls
# these
# functions through Numba's own entry points, without which they compile in half the time
OPTIONS: Final[dict[str, Any]] = {
    "error_model": "numpy",
    "fastmath": {"contract", "nsz"},
    "boundscheck": False,
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
}
FAST_SUMS: Final[dict[str, Any]] = {**OPTIONS, "fastmath": {"contract", "nsz", "arcp", "reassoc"}}
# Numba's settings, which are made when it is loaded, so that no checker knows them
config: Any = numba_config
# what a kernel may leave for the linker: the C mathematics library
_LINKED: Final = {"exp", "floor", "log", "pow", "sqrt"}
_GLOBAL: Final = re.compile(r'@(?:"((?:[^"\\]|\\.)*)"|([-\w$.]+))')
_DATA: Final = re.compile(r'\[\d+ x i8\] c"(?:[^"\\]|\\.)*"')
_SIZE: Final = re.compile(r"(= internal constant \{ ptr, i32, ptr, ptr, i32 \} \{ ptr [^,]+, i32) \d+")
_OBJECT: Final = re.compile(r"inttoptr \(i64 \d+ to ptr\)")


def inner(function: Inner) -> Inner:
    """Compile a function that only kernels call; it becomes part of their machine code."""
    compiled: Inner = numba.njit(**OPTIONS)(function)
    return compiled


def inner_fast_sums(function: Inner) -> Inner:
    """Compile like `inner`, with sums reordered freely so that dot products vectorise."""
    compiled: Inner = numba.njit(**FAST_SUMS)(function)
    return compiled


@contextmanager
def _left_as_it_is() -> Iterator[None]:
    """Leave optimisation to whoever takes the whole kernel: Numba would optimise each function in it, and all again.

    Nobody else compiles meanwhile, and what Numba sets up once for all is set up before.
    """
    with global_compiler_lock:
        cpu_target.target_context.codegen()
        usual = config.OPT
        config.OPT = type(usual)(0)
        try:
            yield
        finally:
            config.OPT = usual


def compile_named(name: str) -> str:
    """Compile an entry kernel by its name (`loading.load_kernel`); return its LLVM IR, in which it is ``kernel``."""
    module, function = name.split(":") if ":" in name else f"unhurried_heron.kernels.{name}".rsplit(".", 1)
    return compile_entry(getattr(importlib.import_module(module), function))


def compile_entry(function: Callable[[int], int]) -> str:
    """Compile an entry kernel, which takes the address of its table; return its LLVM IR in normal form.

    The symbol ``kernel`` has the signature ``int32 f(int64 *result, void **unused, int64 table)``.

    Raises
    ------
    RuntimeError
        The kernel needs something of Numba's at run time.
    """
    with _left_as_it_is():
        dispatcher = numba.njit(numba.types.int64(numba.types.int64), **OPTIONS)(function)
    (signature,) = dispatcher.signatures
    text: str = dispatcher.inspect_llvm(signature)
    needed = {name for name in re.findall(r"^declare .*?@\"?([\w.]+)", text, re.M) if not name.startswith("llvm.")}
    if not needed <= _LINKED:
        raise RuntimeError(f"the kernel {function.__module__} needs {sorted(needed - _LINKED)} at run time")
    compiled: Any = dispatcher.overloads[signature]
    return _normal_form(text, compiled.fndesc.llvm_func_name)


def _normal_form(text: str, symbol: str) -> str:
    """Return the IR without what differs from one process to the next, or from one version of LLVM to the next.

    Symbols count compilations, data and addresses are of Python objects that tell of exceptions, which no kernel raises
    (`loading.Kernel` looks at none of them). Attributes of intrinsics are known to every version of LLVM by itself.

    Parameters
    ----------
    text : str
        LLVM IR.
    symbol : str
        Of the entry kernel.

    Returns
    -------
    str
    """
    new = {symbol: ENTRY}

    def renamed(match: re.Match[str]) -> str:
        old = match[1] or match[2]
        if old.startswith("llvm.") or old in _LINKED:
            return match[0]
        return "@" + new.setdefault(old, f"g{len(new)}")

    lines = []
    for line in text.splitlines():
        if line.startswith("declare") and "@llvm." in line:
            line = re.sub(r" #\d+$", "", line)
        elif line.startswith("@"):
            line = _OBJECT.sub("null", _DATA.sub("[1 x i8] zeroinitializer", _SIZE.sub(r"\1 0", line)))
        lines.append(_GLOBAL.sub(renamed, line).replace("captures(none)", "nocapture"))
    used = set(re.findall(r"#\d+", "\n".join(line for line in lines if not line.startswith("attributes"))))
    kept = (each for each in lines if not each.startswith(("; ModuleID", "source_filename")))
    return "\n".join(each for each in kept if not each.startswith("attributes") or each.split()[1] in used) + "\n"
