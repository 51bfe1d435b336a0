"""Kernels as machine code on disk: compiled at their first use on a machine, loaded without Numba ever after.

The folder's name holds a hash of all kernel sources, of the versions of Numba, llvmlite and Python, and of the
processor's abilities; each file begins with the kernel's symbol and a hash of it and of the code that follows.
"""

from __future__ import annotations

import ctypes
import functools
import hashlib
import importlib
import platform
import sys
from dataclasses import dataclass, field
from functools import cached_property
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np

from unhurried_heron.errors import HeronError
from unhurried_heron.kernels.cache import private_folder, read_code, write_code
from unhurried_heron.native.engine import emit_object, host_description, load_object


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
        if self._native(ctypes.addressof(result), ctypes.addressof(unused), table.ctypes.data) != 0:
            raise HeronError(f"the kernel {self.name} failed", place="its machine code")
        return result.value


@functools.cache
def cache_folder() -> Path | None:
    """Return the folder of compiled kernels, or None if there can be none."""
    versions = f"{version('numba')} {version('llvmlite')} {platform.python_version()} {host_description()}"
    digest = hashlib.sha256(versions.encode())
    for source in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(source.read_bytes())
    return private_folder(f"kernels-{digest.hexdigest()[:16]}")


@functools.cache
def load_kernel(module: str, function: str) -> Kernel:
    """Return an entry kernel, compiled now if it never was."""
    folder = cache_folder()
    path = folder and folder / f"{module}.{function}.machine-code"
    found = read_code(path) if path else None
    if found is None:
        told = "compiling a stepping kernel for this machine (once, up to half a minute) …"
        print(f"unhurried-heron: {told}", file=sys.stderr)
        found = _compile(module, function)
        if path:
            write_code(path, *found)
    symbol, code = found
    address, engine = load_object(code, symbol)
    return Kernel(f"{module}.{function}", address, engine)


def _compile(module: str, function: str) -> tuple[str, bytes]:
    from unhurried_heron.kernels.compiling import compile_entry

    source = importlib.import_module(f"unhurried_heron.kernels.{module}")
    text, symbol = compile_entry(getattr(source, function))
    return symbol, emit_object(text)


def evaluate_at(starts: Any, steps: Any, coefficients: Any, index: Any, times: Any, out: Any) -> None:
    """Write the states at ``times`` (rows,), each on the step that ``index`` int64 (rows,) names; out (rows, n).

    ``starts``, ``steps`` (n_steps,), ``coefficients`` (n_steps, degree + 1, n): the step polynomials. All are
    C-ordered.
    """
    from unhurried_heron.kernels.bundles import address_table

    _, terms, n = coefficients.shape
    index = np.ascontiguousarray(index, dtype=np.int64)
    table = address_table(starts, steps, coefficients, index, times, out, times.size, terms - 1, n)
    load_kernel("polynomial", "evaluate_rows")(table)
