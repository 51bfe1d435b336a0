"""Kernels as LLVM's own text, which comes with the package and says nothing of a processor.

What Numba does is the larger part of compiling a kernel, and is the same on all machines of a kind. So
`tools/write_drafts.py` does it ahead, and keeps beside the texts a hash of the sources of each. Where these are others,
and on machines of another kind, a kernel is compiled from its source.
"""

from __future__ import annotations

import functools
import hashlib
import importlib.util
import json
import lzma
import re
from pathlib import Path
from typing import Any, Final

from unhurried_heron.version import VERSION

FOLDER: Final = Path(__file__).parent / "drafts"
# the hash of the sources of each text, and what made the texts
INDEX: Final = FOLDER / "index.json"

_PACKAGE: Final = Path(__file__).parents[2]
_IMPORTS: Final = re.compile(rb"^[ \t]*from unhurried_heron\.([\w.]+) import (\([^)]*\)|[^\n]*)", re.M)
# what tells of errors and of the time that is left is in no machine code
_NO_CODE: Final = frozenset({"errors", "deadline", "quiet"})


def module_of(name: str) -> Path | None:
    """Return the file in which a kernel stands; None if there is none.

    Parameters
    ----------
    name : str
        ``module.function`` of `kernels`, or ``package.module:function`` from anywhere.

    Returns
    -------
    Path or None
    """
    if ":" not in name:
        return _PACKAGE.joinpath("kernels", *name.split(".")[:-1]).with_suffix(".py")
    found = importlib.util.find_spec(name.partition(":")[0])
    return Path(found.origin) if found is not None and found.origin and Path(found.origin).is_file() else None


@functools.cache
def _read(source: Path) -> tuple[bytes, tuple[Path, ...]]:
    """Return the hash of a source, and the modules of this package that it imports."""
    # a checkout may have turned the ends of lines
    text = source.read_bytes().replace(b"\r\n", b"\n")
    found: list[Path] = []
    for module, names in _IMPORTS.findall(text):
        path = _PACKAGE.joinpath(*module.decode().split("."))
        parts = (each.split()[0].decode() for each in names.strip(b"()").split(b",") if each.split())
        near = [path.with_suffix(".py"), *(path / f"{part}.py" for part in parts)]
        found += [each for each in near if each.is_file() and each.stem not in _NO_CODE]
    return hashlib.sha256(text).digest(), tuple(found)


def sources(*begin: Path) -> list[Path]:
    """Return files and all modules of this package that they import, directly or not, in order."""
    found, left = set(begin), list(begin)
    while left:
        fresh = [each for each in _read(left.pop())[1] if each not in found]
        found.update(fresh)
        left += fresh
    return sorted(found)


@functools.cache
def sources_digest(name: str) -> str:
    """Return a hash of the version, of a kernel's source, and of all that it imports, directly or not.

    Parameters
    ----------
    name : str
        As for `module_of`.

    Returns
    -------
    str
    """
    module, digest = module_of(name), hashlib.sha256(VERSION.encode())
    for source in sources(module) if module is not None else ():
        digest.update(source.name.encode() + _read(source)[0])
    return digest.hexdigest()


@functools.cache
def index() -> dict[str, Any]:
    """Return what is kept beside the texts; nothing where it cannot be read."""
    try:
        found: dict[str, Any] = json.loads(INDEX.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found


def is_current(name: str, kind: str) -> bool:
    """Return whether there is a text of a kernel that belongs to its sources, for a kind of machine in LLVM's words."""
    found = index()
    return found.get("kind") == kind and found.get("sources", {}).get(name) == sources_digest(name)


def read_draft(name: str) -> str | None:
    """Return the text that is kept of a kernel; None if there is none."""
    try:
        return lzma.decompress((FOLDER / f"{name}.ll.xz").read_bytes()).decode()
    except (OSError, ValueError, lzma.LZMAError):
        return None


def write_draft(name: str, text: str) -> bool:
    """Keep a kernel's text; return whether it is another than was kept before."""
    if read_draft(name) == text:
        return False
    FOLDER.mkdir(exist_ok=True)
    (FOLDER / f"{name}.ll.xz").write_bytes(lzma.compress(text.encode()))
    return True


def write_index(kind: str, made_with: dict[str, str], names: list[str]) -> None:
    """Keep the hashes of the sources of all texts.

    Parameters
    ----------
    kind : str
        Of machine, in LLVM's words.
    made_with : dict of str to str
        The versions of what made the texts.
    names : list of str
        Of the kernels.
    """
    found = {"kind": kind, "made_with": made_with, "sources": {name: sources_digest(name) for name in sorted(names)}}
    INDEX.write_text(json.dumps(found, indent=1) + "\n", encoding="utf-8")
    index.cache_clear()
