"""Kernels as LLVM's own text, which comes with the package and says nothing of a processor.

What Numba does is the larger part of compiling a kernel, and is the same on all machines of a kind. So
`tools/write_drafts.py` does it ahead, and keeps beside the text a hash of the sources. Where these are others, and on
machines of another kind, a kernel is compiled from its source.
"""

from __future__ import annotations

import functools
import hashlib
import lzma
from pathlib import Path
from typing import Final

FOLDER: Final = Path(__file__).parent / "drafts"

# the places of what a stride is given, and how loops are written out
_OF_NATIVE: Final = ("emit", "lanes", "strides")


@functools.cache
def sources_digest() -> str:
    """Return a hash of the sources of all kernels, and of what these take from `native`."""
    digest, kernels = hashlib.sha256(), Path(__file__).parents[1]
    beside = [kernels.parent / "native" / f"{name}.py" for name in _OF_NATIVE]
    for source in (*sorted(kernels.rglob("*.py")), *beside):
        # a checkout may have turned the ends of lines
        digest.update(source.read_bytes().replace(b"\r\n", b"\n"))
    return digest.hexdigest()


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
    """Keep a kernel's text."""
    FOLDER.mkdir(exist_ok=True)
    head = f"{symbol} {sources_digest()} {triple}\n"
    (FOLDER / f"{name}.ll.xz").write_bytes(lzma.compress((head + text).encode()))
