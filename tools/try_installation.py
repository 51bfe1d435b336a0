"""Run a problem by a method of every family, and see whether each comes to the known end.

Usage: python tools/try_installation.py [--compile]; with ``--compile`` kernels are compiled from their sources, whether
or not their texts come with the package. It needs nothing but the package, so that it can be run with any versions of
its dependencies; exit code 1 tells that a method came to another end.
"""

from __future__ import annotations

import math
import platform
import sys
import tempfile
from importlib.metadata import version

import unhurried_heron as uh
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.kernels.machine_code import loading
from unhurried_heron.methods.catalogue import CATALOGUE

# share by which an end may differ from the closed form at the tolerance below
ALLOWED = 1e-4


def main() -> int:
    """Run all of them."""
    if "--compile" in sys.argv:
        loading.is_current = lambda name, kind: False  # type: ignore[attr-defined]  # no text is current
    # u = exp(-t), v = t exp(-t)
    problem = uh.Problem.from_text(
        "u' = -u\nv' = u - v", initial={"u": 1, "v": 0}, interval=(0, 2), events=[uh.Event("u = 0.5", "half")]
    )
    # the same twice, in two parts that move by each other, for methods that want such
    twins = uh.Problem.from_text(
        "u' = -a\nv' = a - b\na' = -u\nb' = u - v", initial={"u": 1, "v": 0, "a": 1, "b": 0}, interval=(0, 2),
        events=[uh.Event("u = 0.5", "half")],
    )  # fmt: skip
    families, wrong = {}, 0
    for name, method in CATALOGUE.items():
        families.setdefault(method.family, name)
    for family, name in families.items():
        adaptive = CATALOGUE[name].adaptive
        options = {"rtol": 1e-7} if adaptive else {"step": 2**-9}
        try:
            run = uh.integrate(problem, method=name, **options)
        except UnfitProblemError:
            # what differs between the two grows
            run = uh.integrate(twins, method=name, step=2**-14)
        error = abs(run.final["v"] / (2 * math.exp(-2)) - 1) + abs(run.events["time"][0] - math.log(2))
        wrong += not error < ALLOWED * (1 if adaptive else 30)
        print(f"{family}: {name}, {error:.1e}")
    versions = ", ".join(f"{each} {version(each)}" for each in ("numba", "llvmlite", "numpy", "scipy"))
    print(f"Python {platform.python_version()}, {versions}: {wrong} of {len(families)} families wrong")
    return int(wrong > 0 or not families)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        sys.exit(main())
