"""Write the kernels' texts that come with the package, or see whether they are what their sources give.

Usage: python tools/write_drafts.py [--check | --current]. After an edit in `kernels/`, or of what kernels import, run
it: only texts that changed are written. Without it a kernel is compiled from its source at its first use, which takes
several times as long. ``--check`` compiles every kernel anew and compares the texts (where the versions of Python,
Numba and llvmlite are those that made them), ``--current`` compares the hashes of the sources alone; exit code 1 tells
of differences.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from importlib.metadata import version
from pathlib import Path

from unhurried_heron.kernels.machine_code.drafts import (
    FOLDER,
    INDEX,
    index,
    is_current,
    read_draft,
    write_draft,
    write_index,
)
from unhurried_heron.kernels.machine_code.jit import kind_of_machine
from unhurried_heron.kernels.machine_code.prepare import KERNELS


def made_with() -> dict[str, str]:
    """Return the versions on which a text depends."""
    python = ".".join(platform.python_version_tuple()[:2])
    return {"python": python, **{name: version(name) for name in ("numba", "llvmlite")}}


def compiled(names: list[str]) -> dict[str, str]:
    """Compile each kernel in a process of its own, in which sets and counts are as in any other; return the texts."""
    with tempfile.TemporaryDirectory() as folder:
        command, environment = [sys.executable, __file__, "--into", folder], {**os.environ, "PYTHONHASHSEED": "0"}

        def compile_one(name: str) -> None:
            subprocess.run([*command, name], env=environment, check=True)

        with ThreadPoolExecutor(os.cpu_count()) as several:
            list(several.map(compile_one, sorted(names, key=lambda name: -KERNELS[name])))
        return {name: Path(folder, name).read_text(encoding="utf-8") for name in names}


def compile_into(folder: str, name: str) -> None:
    """Compile a kernel in this process, into a file."""
    from unhurried_heron.kernels.machine_code.compiling import compile_named

    Path(folder, name).write_text(compile_named(name), encoding="utf-8")


def differences(*, texts: bool) -> list[str]:
    """Return what is not of the present sources.

    Parameters
    ----------
    texts : bool
        Whether the texts are compared too, and not the hashes of the sources alone.
    """
    known = {f"{name}.ll.xz" for name in KERNELS} | {INDEX.name}
    wrong = [path.name for path in FOLDER.iterdir() if path.name not in known]
    wrong += [name for name in KERNELS if not is_current(name, kind_of_machine())]
    if texts and index().get("made_with") != made_with():
        print(f"texts are of {index().get('made_with')}, and not compared with those of {made_with()}")
    elif texts:
        wrong += [name for name, text in compiled(list(KERNELS)).items() if read_draft(name) != text]
    return wrong


def main() -> int:
    """Write or check all of them."""
    if "--into" in sys.argv:
        compile_into(sys.argv[2], sys.argv[3])
        return 0
    if "--check" in sys.argv or "--current" in sys.argv:
        wrong = differences(texts="--check" in sys.argv)
        for name in wrong:
            print(f"{name}: not of the present sources; python tools/write_drafts.py")
        return int(bool(wrong))
    for path in FOLDER.glob("*.xz"):
        if path.name not in {f"{name}.ll.xz" for name in KERNELS}:
            path.unlink()
            print(f"{path.name}: of a kernel that is gone, removed")
    anew = index().get("made_with") != made_with()
    old = [name for name in KERNELS if anew or not is_current(name, kind_of_machine())]
    for name, text in compiled(old).items():
        if write_draft(name, text):
            print(f"{name}: {(FOLDER / f'{name}.ll.xz').stat().st_size:,} bytes")
    write_index(kind_of_machine(), made_with(), list(KERNELS))
    return 0


if __name__ == "__main__":
    sys.exit(main())
