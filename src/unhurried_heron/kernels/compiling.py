"""Compiling the kernels with Numba, and keeping the machine code where any installation can write it.

Numba does not notice that a function called from another file has changed, so the folder's name holds a hash of all
kernel sources and the versions of Numba and Python.
"""

from __future__ import annotations

import functools
import hashlib
import os
import platform
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

import numba

# no flag that lets the compiler assume that NaN or infinity cannot occur, and none that reorders sums
OPTIONS: Final[dict[str, Any]] = {
    "error_model": "numpy",
    "fastmath": {"contract", "nsz"},
    "nogil": True,
    "boundscheck": False,
}
FAST_SUMS: Final[dict[str, Any]] = {**OPTIONS, "fastmath": {"contract", "nsz", "arcp", "reassoc"}}
# without the entry points from Python and C that nobody uses, an inner function compiles in half the time
_NO_WRAPPERS: Final = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
CACHE_VARIABLE: Final = "UNHURRIED_HERON_CACHE"


def _user_cache() -> Path:
    chosen = os.environ.get(CACHE_VARIABLE)
    if chosen:
        return Path(chosen)
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local")
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Caches"
    else:
        base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return base / "unhurried-heron"


@functools.cache
def cache_folder() -> Path:
    """Return the folder of compiled kernels, made if need be; a temporary one if no other can be written."""
    digest = hashlib.sha256(f"{numba.__version__} {platform.python_version()}".encode())
    for source in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(source.read_bytes())
    name = f"kernels-{digest.hexdigest()[:16]}"
    try:
        folder = _user_cache() / name
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            return folder
    except (OSError, RuntimeError):
        # RuntimeError: there is no home folder
        owner = os.getuid() if hasattr(os, "getuid") else "user"
        folder = Path(tempfile.gettempdir()) / f"unhurried-heron-{owner}" / name
        folder.mkdir(parents=True, exist_ok=True)
        return folder


def entry(function: Callable[..., Any]) -> Any:
    """Compile a function that Python calls, kept on disk between runs."""
    before = numba.config.CACHE_DIR
    numba.config.CACHE_DIR = str(cache_folder())
    try:
        return numba.njit(cache=True, **OPTIONS)(function)
    finally:
        numba.config.CACHE_DIR = before


def inner(function: Callable[..., Any]) -> Any:
    """Compile a function that only kernels call; it becomes part of their machine code."""
    return numba.njit(**OPTIONS, **_NO_WRAPPERS)(function)


def inner_fast_sums(function: Callable[..., Any]) -> Any:
    """Compile like `inner`, with sums reordered freely so that dot products vectorise."""
    return numba.njit(**FAST_SUMS, **_NO_WRAPPERS)(function)


def is_on_disk(kernel: Any) -> bool:
    """Whether a compiled form of an entry kernel is already kept."""
    return bool(kernel.stats.cache_hits) or any(Path(kernel.stats.cache_path).glob(f"*.{kernel.__name__}-*.nbi"))
