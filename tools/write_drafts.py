"""Write the kernels' texts that come with the package, or see whether they belong to the present sources.

Usage: python tools/write_drafts.py [--check]; after any edit in `kernels/`, or in `expression_ir`, `vector_ir` or
`batched_steps` of `codegen/`. Without it a kernel is compiled from its source at its first use, which takes several
times as long; exit code 1 of ``--check`` says so.
"""

from __future__ import annotations

import sys

from unhurried_heron.codegen.jit import kind_of_machine
from unhurried_heron.kernels.machine_code.drafts import FOLDER, read_draft, write_draft
from unhurried_heron.kernels.machine_code.prepare import KERNELS


def main() -> int:
    """Write or check all of them."""
    if "--check" in sys.argv:
        old = [name for name in KERNELS if read_draft(name, kind_of_machine()) is None]
        extra = {path.name for path in FOLDER.iterdir()} - {f"{name}.ll.xz" for name in KERNELS}
        for name in (*old, *extra):
            print(f"{name}: not of the present sources; python tools/write_drafts.py")
        return int(bool(old or extra))
    from unhurried_heron.kernels.machine_code.compiling import compile_named

    for path in FOLDER.iterdir():
        if path.name not in {f"{name}.ll.xz" for name in KERNELS}:
            path.unlink()
            print(f"{path.name}: of a kernel that is gone, removed")
    for name in KERNELS:
        if read_draft(name, kind_of_machine()) is not None:
            continue
        text, symbol = compile_named(name)
        write_draft(name, kind_of_machine(), symbol, text)
        print(f"{name}: {(FOLDER / f'{name}.ll.xz').stat().st_size:,} bytes")
    return 0


if __name__ == "__main__":
    sys.exit(main())
