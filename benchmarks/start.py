"""Starting cold: what an import loads, what `heron run` takes and where, and the first use on a machine."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from unhurried_heron.demo import demo_file
from unhurried_heron.methods.catalogue import COMPARED

HERON = Path(sys.executable).with_name("heron")
HEAVY = ("matplotlib", "pandas", "sympy", "numba", "scipy", "pydantic", "pint", "tomli_w")
# top-level packages whose import times are listed
LISTED = ("numpy", "numba", "llvmlite", "pydantic", "typer", "rich", "unhurried_heron")


def import_times(*command: str) -> dict[str, float]:
    """Own time of every module by its top-level package, in milliseconds."""
    done = subprocess.run([sys.executable, "-X", "importtime", *command], capture_output=True, text=True, check=True)
    taken: dict[str, float] = {}
    for line in done.stderr.splitlines():
        parts = line.removeprefix("import time:").split("|")
        if len(parts) == 3 and parts[0].strip().isdigit():
            name = parts[2].strip().partition(".")[0]
            taken[name] = taken.get(name, 0.0) + int(parts[0]) / 1e3
    return taken


def wall(*command: str, **environment: str) -> float:
    """Seconds of a whole process."""
    begun = time.perf_counter()
    subprocess.run(command, capture_output=True, check=True, env={**os.environ, **environment})
    return time.perf_counter() - begun


def report() -> None:
    """Print all of it."""
    loaded = import_times("-c", "import unhurried_heron")
    light = "ok" if not set(HEAVY) & set(loaded) else "MISSED"
    print(f"   import unhurried_heron: {sum(loaded.values()):.0f} ms; loads none of {', '.join(HEAVY)}: {light}")
    pond = str(demo_file("sluice-pond"))
    wall(str(HERON), "run", pond)
    times = [wall(str(HERON), "run", pond) for _ in range(7)]
    bare = statistics.median(wall(sys.executable, "-c", "pass") for _ in range(5))
    print(f"   heron run on the sluice pond, kernels on disk: median {statistics.median(times):.2f} s, "
          f"best {min(times):.2f} s (asked: about 1.2 s)")  # fmt: skip
    shares = import_times(str(HERON), "run", pond)
    listed = ", ".join(f"{name} {shares.get(name, 0):.0f}" for name in LISTED)
    others = sum(value for name, value in shares.items() if name not in LISTED)
    print(f"   of which imports, in ms: {listed}, all others {others:.0f}; Python itself {1e3 * bare:.0f}; the rest is "
          "reading the command line, compiling the equations, loading the kernel, the march and the table")  # fmt: skip
    for method in COMPARED:
        use = (
            "import unhurried_heron as uh; p = uh.Problem.from_text(\"x' = -x\", initial={'x': 1}, interval=(0, 1)); "
            f"uh.integrate(p, {method!r}).at(0.5)"
        )
        with tempfile.TemporaryDirectory() as cache:
            first = wall(sys.executable, "-c", use, UNHURRIED_HERON_CACHE=cache)
            second = wall(sys.executable, "-c", use, UNHURRIED_HERON_CACHE=cache)
        good = "ok" if first < 5 else "MISSED"
        print(f"   first use of {method} on a machine: {first:.1f} s (asked: under 5) {good}; again {second:.1f} s")
