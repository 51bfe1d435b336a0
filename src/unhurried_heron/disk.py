"""Files as they are read and written: read only if plain and of a bounded size, written whole or not at all."""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO, Final

from unhurried_heron.errors import FileError, OptionError, excerpt

# The largest file that is read, in bytes.
MAX_BYTES: Final = 50_000_000


def read_plain_file(path: Path) -> bytes:
    """Return the content of a file.

    Raises
    ------
    OSError
        It cannot be read, is no plain file (a pipe, a device, a folder), or is larger than 50 MB.
    """
    try:
        # The file is opened without waiting, in case it is a pipe.
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    except ValueError as error:
        raise OSError(0, str(error), str(path)) from None
    with open(handle, "rb") as file:
        state = os.fstat(handle)
        if not stat.S_ISREG(state.st_mode):
            raise OSError(0, "no plain file", str(path))
        if state.st_size > MAX_BYTES:
            raise OSError(0, f"larger than {MAX_BYTES:,} bytes ({state.st_size:,})", str(path))
        content = file.read(MAX_BYTES + 1)
    if len(content) > MAX_BYTES:
        raise OSError(0, f"larger than {MAX_BYTES:,} bytes", str(path))
    return content


def lies_within(path: Path, folder: Path) -> bool:
    """Whether a file lies in a folder or below it, links followed."""
    return Path(os.path.realpath(path)).is_relative_to(os.path.realpath(folder))


def store_at(path: Path) -> bool:
    """Whether a Zarr store is there that may be replaced; False where nothing is.

    Raises
    ------
    FileError
        There is something else.
    """
    store = (path / "zarr.json").exists() or (path / ".zgroup").exists()
    if path.exists() and not store:
        raise FileError(f"cannot write {path}: there is something else", name=str(path), location=str(path),
                        expected="a place where nothing is, or a Zarr store")  # fmt: skip
    return store


def path_of(given: Any) -> Path:
    """Return a path of a user's.

    Raises
    ------
    OptionError
        It is none.
    """
    if not isinstance(given, str | os.PathLike) or not isinstance(os.fspath(given), str):
        raise OptionError("this is no path", name="path", location="path", expected="a text or a Path",
                          given=excerpt(given))  # fmt: skip
    return Path(given)


def write_whole(path: str | Path, write: Callable[[BinaryIO], Any]) -> None:
    """Call ``write`` with a file that takes the place of ``path`` once all of it is on the disk.

    What was there stays as it was if anything goes wrong. A device or a pipe is written to as it comes.

    Raises
    ------
    FileError
        The file cannot be written.
    OptionError
        The path cannot be one.
    """
    try:
        _write_whole(path_of(path), write)
    except BrokenPipeError:
        raise
    except OSError as error:
        raise FileError(f"cannot write {path}: {error.strerror or error}", name=str(path), location=str(path),
                        expected="a place that can be written, with room on it") from error  # fmt: skip


def _write_whole(path: str | Path, write: Callable[[BinaryIO], Any]) -> None:
    try:
        target = Path(os.path.realpath(path))
        there = target.stat() if target.exists() else None
    except ValueError as error:
        raise OptionError(
            "this cannot be the name of a file",
            name="path",
            location="path",
            expected="a path without NUL characters",
            given=f"{str(path)[:60]!r} ({error})",
        ) from None
    if there is not None and not stat.S_ISREG(there.st_mode):
        with open(target, "wb") as file:
            write(file)
        return
    if not target.parent.is_dir():
        raise FileNotFoundError(errno.ENOENT, "there is no such folder", str(target.parent))
    handle, beside = tempfile.mkstemp(prefix=f".{target.name[:40]}.", dir=target.parent)
    try:
        with open(handle, "wb") as file:
            write(file)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(beside, stat.S_IMODE(there.st_mode) if there else 0o666 & ~_umask())
        os.replace(beside, target)
    except BaseException:
        Path(beside).unlink(missing_ok=True)
        raise


def write_text(path: str | Path, text: str) -> None:
    """Write a text in UTF-8, whole or not at all.

    Raises
    ------
    OSError, OptionError
    """
    write_whole(path, lambda file: file.write(text.encode("utf-8")))


def _umask() -> int:
    # The process's mask can only be read by setting it.
    mask = os.umask(0o077)
    os.umask(mask)
    return mask
