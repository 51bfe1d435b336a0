"""Kernels as machine code on disk: compiled at their first use on a machine, loaded ever after.

The folder's name holds a hash of the versions of Numba, llvmlite and Python, and of the processor's abilities; that of
a file a hash of the kernel's source and of all that it imports. Each file begins with the kernel's symbol and a hash of
it and of the code that follows.
"""

from __future__ import annotations

import ctypes
import functools
import hashlib
import platform
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import cached_property
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np

from unhurried_heron.errors import HeronError, MethodError, excerpt
from unhurried_heron.kernels.machine_code.cache import private_folder, read_code, write_code
from unhurried_heron.kernels.machine_code.drafts import is_current, module_of, read_draft, sources_digest
from unhurried_heron.kernels.machine_code.jit import emit_object, host_description, kind_of_machine, load_object
from unhurried_heron.kernels.machine_code.signature import ENTRY, address

# kernels of this process, by name
LOADED: dict[str, Kernel] = {}


@dataclass(frozen=True)
class Kernel:
    """An entry kernel: where it is, how it is called, and what must stay alive meanwhile."""

    name: str
    address: int
    engine: Any = field(repr=False)

    @cached_property
    def _native(self) -> Any:
        return ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_int64)(self.address)

    def __call__(self, table: Any) -> int:
        """Call it on an int64 array; Python's global lock is released meanwhile."""
        result, unused = ctypes.c_int64(0), ctypes.c_void_p()
        if self._native(ctypes.addressof(result), ctypes.addressof(unused), address(table)) != 0:
            raise HeronError(f"the kernel {self.name} failed", location="its machine code")
        return result.value


@functools.cache
def cache_folder() -> Path | None:
    """Return the folder of compiled kernels, or None if there can be none."""
    versions = f"{version('numba')} {version('llvmlite')} {platform.python_version()} {host_description()}"
    digest = hashlib.sha256(versions.encode())
    return private_folder(f"kernels-{digest.hexdigest()[:16]}")


def _path_of(name: str) -> Path | None:
    """Return where a kernel's machine code is kept, which depends on its sources."""
    folder = cache_folder()
    if module_of(name) is None:
        raise MethodError("there is no such kernel", name="kernel", location=name,
                          expected="a module that can be imported, and a function of it",
                          given=excerpt(name))  # fmt: skip
    return folder and folder / f"{name.replace(':', '.')}-{sources_digest(name)[:16]}.machine-code"


def is_ready(name: str) -> bool:
    """Whether a kernel is loaded, or its machine code kept on this machine."""
    return name in LOADED or is_kept(name)


def is_kept(name: str) -> bool:
    """Whether the machine code of a kernel is kept on this machine."""
    path = _path_of(name)
    return path is not None and read_code(path) is not None


def load_kernel(name: str) -> Kernel:
    """Return an entry kernel by its name, compiled now if it never was.

    ``module.function`` is of `kernels`, ``package.module:function`` from anywhere.
    """
    return _load(name, lambda: _compile(name))


def load_written(name: str, symbol: str, write: Callable[[], str]) -> Kernel:
    """Return a kernel whose text in LLVM's language is written when it is first needed on a machine.

    Parameters
    ----------
    name : str
        Of the kernel.
    symbol : str
        The function in it.
    write : callable
        Returns the text.

    Returns
    -------
    Kernel
    """
    return _load(name, lambda: (symbol, emit_object(write())))


def _load(name: str, compile_it: Callable[[], tuple[str, bytes]]) -> Kernel:
    if name not in LOADED:
        path = _path_of(name)
        found = read_code(path) if path else None
        if found is None:
            found = compile_it()
            if path:
                write_code(path, *found)
        symbol, code = found
        address, engine = load_object(code, symbol)
        # where two threads come here at once, both find the kernel that came first
        LOADED.setdefault(name, Kernel(name, address, engine))
    return LOADED[name]


def _compile(name: str) -> tuple[str, bytes]:
    draft = read_draft(name) if is_current(name, kind_of_machine()) else None
    if draft is not None:
        # a version of LLVM that cannot read it
        with suppress(RuntimeError):
            return ENTRY, emit_object(draft)
    from unhurried_heron.kernels.machine_code.compiling import compile_named

    return ENTRY, emit_object(compile_named(name))


def evaluate_at(starts: Any, steps: Any, coefficients: Any, index: Any, times: Any, out: Any) -> None:
    """Write the states at times, each on the step that is named for it. All arrays are C-ordered.

    Parameters
    ----------
    starts : ndarray, shape (n_steps,)
    steps : ndarray, shape (n_steps,)
        Lengths.
    coefficients : ndarray, shape (n_steps, degree + 1, n)
        The step polynomials.
    index : ndarray of int64, shape (rows,)
        The step of each time.
    times : ndarray, shape (rows,)
    out : ndarray, shape (rows, n)
        Filled with the result.
    """
    from unhurried_heron.kernels.memory.bundles import address_table

    _, terms, n = coefficients.shape
    index = np.ascontiguousarray(index, dtype=np.int64)
    table = address_table(starts, steps, coefficients, index, times, out, times.size, terms - 1, n)
    load_kernel("march.polynomial.evaluate_rows")(table)
