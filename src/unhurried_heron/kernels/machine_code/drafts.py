"""Kernels as LLVM's own text, which comes with the package and says nothing of a processor.

What Numba does is the larger part of compiling a kernel, and is the same on all machines of a kind. So
`tools/write_drafts.py` does it ahead, and keeps beside the text a hash of the sources. Where these are others, and on
machines of another kind, a kernel is compiled from its source.
"""

from __future__ import annotations

import functools
import hashlib
import lzma
import re
from pathlib import Path
from typing import Final

from unhurried_heron.version import VERSION

FOLDER: Final = Path(__file__).parent / "drafts"

_PACKAGE: Final = Path(__file__).parents[2]
_IMPORTS: Final = re.compile(rb"^\s*from unhurried_heron\.([\w.]+) import ([^\n]*)", re.M)
# what tells of errors and of the time that is left is in no machine code
_NO_CODE: Final = frozenset({"errors", "deadline", "quiet"})


@functools.cache
def sources_digest() -> str:
    """Return a hash of the version, of the sources of all kernels, and of all that these import, directly or not."""
    digest = hashlib.sha256(VERSION.encode())
    for source in sources():
        # a checkout may have turned the ends of lines
        digest.update(source.read_bytes().replace(b"\r\n", b"\n"))
    return digest.hexdigest()


def sources() -> list[Path]:
    """Return the sources of all kernels and of all modules of this package that they import, directly or not."""
    found = set((_PACKAGE / "kernels").rglob("*.py"))
    left = sorted(found)
    while left:
        for module, names in _IMPORTS.findall(left.pop().read_bytes()):
            path = _PACKAGE.joinpath(*module.decode().split("."))
            near = [path.with_suffix(".py"), *(path / f"{name.strip().decode()}.py" for name in names.split(b","))]
            fresh = [each for each in near if each.is_file() and each not in found and each.stem not in _NO_CODE]
            found.update(fresh)
            left += fresh
    return sorted(found)


def read_draft(name: str, triple: str) -> tuple[str, str] | None:
    """Return the symbol and the text of a kernel of this package; None if there is none for these sources.

    Parameters
    ----------
    triple : str
        The kind of machine, in LLVM's words.
    """
    try:
        head, _, text = lzma.decompress((FOLDER / f"{name}.ll.xz").read_bytes()).decode().partition("\n")
        symbol, digest, kind = head.split()
    except (OSError, ValueError, lzma.LZMAError):
        return None
    return (symbol, text) if (digest, kind) == (sources_digest(), triple) else None


def write_draft(name: str, triple: str, symbol: str, text: str) -> None:
    """Keep a kernel's text.

    Parameters
    ----------
    name : str
        Of the kernel.
    triple : str
        LLVM's name of the platform.
    symbol : str
        The function in it.
    text : str
        In LLVM's language.
    """
    FOLDER.mkdir(exist_ok=True)
    head = f"{symbol} {sources_digest()} {triple}\n"
    (FOLDER / f"{name}.ll.xz").write_bytes(lzma.compress((head + text).encode()))
