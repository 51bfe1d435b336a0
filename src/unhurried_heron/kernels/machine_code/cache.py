"""Where machine code is kept on disk, and whether it may be believed.

Whoever can write a file of the cache decides what this process runs, so folder and files must belong to this user and
be writable by nobody else. Where they are not, and where nothing can be written, the run does without.
"""

from __future__ import annotations

import atexit
import functools
import hashlib
import os
import shutil
import stat
import sys
import tempfile
import warnings
from pathlib import Path
from typing import Final

from unhurried_heron.errors import CacheWarning

CACHE_VARIABLE: Final = "UNHURRIED_HERON_CACHE"
# The largest file that is read, far above the size of any kernel.
_LARGEST: Final = 64_000_000
_warned: list[bool] = []


def user_cache() -> Path:
    """Return where this user's machine code is kept: the place of the environment variable, or the system's usual one.

    Raises
    ------
    RuntimeError
        There is no home folder.
    """
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
def private_folder(name: str) -> Path | None:
    """Return a folder of the cache that is this user's alone, made if need be; None if there can be none.

    Where the usual place is not to be trusted or cannot be written, a fresh one is made that goes with the process.
    """
    try:
        folder = user_cache() / name
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        stranger = _stranger(folder)
        if stranger is None:
            with tempfile.TemporaryFile(dir=folder):
                return folder
        reason = f"{stranger} can be changed by other users"
    except (OSError, RuntimeError, ValueError) as error:
        reason = f"its folder cannot be used ({error})"
    _warn(f"the cache of machine code is not used, because {reason}")
    try:
        fresh = tempfile.mkdtemp(prefix="unhurried-heron-")
    except OSError:
        return None
    atexit.register(shutil.rmtree, fresh, ignore_errors=True)
    return Path(fresh)


def _stranger(folder: Path) -> Path | None:
    """Return the first folder on the way to the cache that somebody else could change, or None."""
    if not hasattr(os, "getuid"):
        return None
    real = folder.resolve()
    if not _is_own(real.stat()):
        return real
    for above in real.parents:
        state = above.stat()
        # in a folder that is "sticky", as the temporary one is, others cannot touch what is ours
        open_to_all = bool(state.st_mode & stat.S_IWOTH) and not state.st_mode & stat.S_ISVTX
        if open_to_all or state.st_uid not in (0, os.getuid()):
            return above
    return None


def _is_own(state: os.stat_result) -> bool:
    if not hasattr(os, "getuid"):
        return True
    return state.st_uid == os.getuid() and not state.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


def read_code(path: Path) -> tuple[str, bytes] | None:
    """Return symbol and machine code of a file of the cache, or None if there is none that can be believed."""
    try:
        # without waiting, should it be a pipe
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0))
        with open(handle, "rb") as file:
            state = os.fstat(handle)
            if not stat.S_ISREG(state.st_mode) or not _is_own(state) or state.st_size > _LARGEST:
                return None
            head, _, code = file.read().partition(b"\n")
        symbol, digest = head.decode().split()
    except (OSError, ValueError):
        return None
    return (symbol, code) if _digest(symbol, code) == digest else None


def write_code(path: Path, symbol: str, code: bytes) -> None:
    """Keep machine code, whole or not at all, also when several processes do it at once.

    Parameters
    ----------
    path : Path
        Where it is kept.
    symbol : str
        The function in it.
    code : bytes
        An object file.
    """
    made = None
    try:
        with tempfile.NamedTemporaryFile(dir=path.parent, delete=False) as file:
            made = file.name
            file.write(f"{symbol} {_digest(symbol, code)}\n".encode() + code)
        os.replace(made, path)
        made = None
    except OSError as error:
        _warn(f"machine code could not be kept in the cache ({error}); it will be compiled again next time")
    finally:
        if made is not None:
            Path(made).unlink(missing_ok=True)


def _digest(symbol: str, code: bytes) -> str:
    return hashlib.sha256(symbol.encode() + b"\n" + code).hexdigest()


def _warn(message: str) -> None:
    if not _warned:
        _warned.append(True)
        advice = f"give a folder of your own in the environment variable {CACHE_VARIABLE}"
        warnings.warn(f"{message}. To avoid this, {advice}.", CacheWarning, stacklevel=3)
