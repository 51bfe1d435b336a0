"""Compiling kernels ahead of their use, several at once where there are processors for it.

Run as a module with the names of kernels (``module.function``), it compiles these and leaves them on disk.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Final

from unhurried_heron.deadline import not_counted
from unhurried_heron.kernels.machine_code.cache import user_cache
from unhurried_heron.kernels.machine_code.loading import Kernel, cache_folder, is_ready, load_kernel

# about how long they take to compile
KERNELS: Final = {
    "fully_implicit.step.family": 2.9,
    "diagonally_implicit.family": 2.5,
    "rosenbrock.family": 1.5,
    "implicit_multistep.family": 1.5,
    "explicit_multistep.family": 0.4,
    "variable_differentiation.family": 1.5,
    "variable_adams.family": 0.6,
    "variable_stages.family": 0.3,
    "stiffness_switching.family": 0.3,
    "stiffness_switching.changed": 0.1,
    "closed_form_starter.family": 0.1,
    "partitioned.family": 0.1,
    "implied_rates.write": 0.1,
    "implied_rates.constraints": 0.1,
    "implied_rates.correct": 0.1,
    "stabilised.family": 0.3,
    "march.loop.march": 0.5,
    "fully_implicit.damped_newton.solve_block": 0.8,
    "linear_algebra.eigenvalues.growth": 0.4,
    "linear_algebra.roots.largest": 0.3,
    "march.events.search": 0.4,
    "march.crossing.cross": 0.4,
    "march.initialise.initialise": 0.1,
    "march.known_order.put_in_order": 0.3,
    "march.sweep.march_members": 0.3,
    "march.step_measures.measure_run": 0.2,
    "linear_algebra.dense_lu.factor": 0.4,
    "explicit_runge_kutta.family": 0.15,
    "linear_algebra.dense_lu.solve": 0.2,
    "linear_algebra.banded_lu.factor": 0.4,
    "linear_algebra.banded_lu.solve": 0.2,
    "linear_algebra.incomplete_lu.factor": 0.2,
    "linear_algebra.gmres.solve": 0.2,
    "linear_algebra.fill_in.count": 0.1,
    "march.polynomial.evaluate_rows": 0.1,
    "enclosures.cells.enclose_cells": 0.1,
    "enclosures.window_search.find_windows": 0.2,
}
_announced: list[bool] = []


def load_kernels(*names: str) -> list[Kernel]:
    """Return kernels by name, after compiling those that never were on this machine."""
    missing = [name for name in names if not is_ready(name)]
    # If other processes wait, they were told when the kernel was compiled.
    if missing and not _announced and not any(map(is_ready, KERNELS)):
        _announced.append(True)
        print("unhurried-heron: compiling for this machine (once) …", file=sys.stderr)
    if not missing:
        return [load_kernel(name) for name in names]
    with not_counted():
        if len(missing) > 1:
            compile_together(missing)
        return [load_kernel(name) for name in names]


def compile_together(names: Iterable[str]) -> None:
    """Compile kernels in this process and in as many others as there are processors.

    What another process does not manage is compiled when it is loaded.
    """
    names = list(names)
    processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    shares: list[list[str]] = [[] for _ in range(min(len(names), processors) if _can_share() else 1)]
    for name in sorted(names, key=lambda name: -_cost(name)):
        min(shares, key=lambda share: sum(map(_cost, share))).append(name)
    helpers = []
    try:
        for share in shares[1:]:
            command = [sys.executable, "-m", __name__, *share]
            environment = {**os.environ, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))}
            quiet: Any = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.DEVNULL)
            helpers.append(subprocess.Popen(command, env=environment, **quiet))
        for name in shares[0]:
            load_kernel(name)
        for helper in helpers:
            helper.wait()
    except OSError:
        # no processes to be had
        return
    finally:
        for helper in helpers:
            helper.kill()
            helper.wait()


def _cost(name: str) -> float:
    """About how long a kernel takes to compile; one of a family from outside is taken for long."""
    return KERNELS.get(name, 5.0)


def lasting_folder() -> Path | None:
    """Return the folder of compiled kernels if what is left there is found by other processes."""
    folder = cache_folder()
    try:
        return folder if folder is not None and folder.parent == user_cache() else None
    except RuntimeError:
        return None


def _can_share() -> bool:
    """Whether another process would find this Python and leave its work where this one looks for it."""
    return lasting_folder() is not None and Path(sys.executable or "").name.startswith("python")


if __name__ == "__main__":
    for given in sys.argv[1:]:
        load_kernel(given)
