"""Compiling kernels with Numba; `loading` calls this once on a machine."""

from __future__ import annotations

import importlib
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, Final

import numba
from numba.core import config
from numba.core.compiler_lock import global_compiler_lock
from numba.core.registry import cpu_target

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
# what a kernel may leave for the linker: the C mathematics library
_LINKED: Final = {"exp", "log", "pow", "sqrt"}


def inner(function: Callable[..., Any]) -> Any:
    """Compile a function that only kernels call; it becomes part of their machine code."""
    return numba.njit(**OPTIONS)(function)


def inner_fast_sums(function: Callable[..., Any]) -> Any:
    """Compile like `inner`, with sums reordered freely so that dot products vectorise."""
    return numba.njit(**FAST_SUMS)(function)


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


def compile_named(name: str) -> tuple[str, str]:
    """Compile an entry kernel by its name (`loading.load_kernel`); return its LLVM IR and its symbol."""
    module, function = name.split(":") if ":" in name else f"unhurried_heron.kernels.{name}".rsplit(".", 1)
    return compile_entry(getattr(importlib.import_module(module), function))


def compile_entry(function: Callable[[int], int]) -> tuple[str, str]:
    """Compile an entry kernel, which takes the address of its table; return its LLVM IR, as it is, and its symbol.

    The symbol has the signature ``int32 f(int64 *result, void **unused, int64 table)``.

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
    return text, dispatcher.overloads[signature].fndesc.llvm_func_name
