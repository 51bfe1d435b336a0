"""Writing a run: its table as CSV, its summary as JSON."""

from __future__ import annotations

import json
import math
import numbers
import platform
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any, BinaryIO

from unhurried_heron.disk import write_text, write_whole
from unhurried_heron.run.run import Run
from unhurried_heron.study.arguments import a_run
from unhurried_heron.version import VERSION


def write_csv(run: Run, path: str | Path, *, exact: bool = False) -> None:
    """Write times, states and derived quantities: one header row, every digit; complex numbers in two parts.

    Parameters
    ----------
    run : Run
    path : str or Path
    exact : bool
        Whether exact values and errors stand beside them, where the problem has closed forms.

    Raises
    ------
    OptionError
        This is no run.
    RunError
        Exact values are asked for, and there are none.
    OSError
        The file cannot be written; what was there stays.
    """
    run = a_run(run, "write_csv")

    def write(file: BinaryIO) -> None:
        for part, frame in enumerate(run.frames(exact=exact, parts=True)):
            # 17 significant digits bring every double back exactly; repr gives the fewest that do
            frame.to_csv(file, header=part == 0, lineterminator="\n", encoding="utf-8")

    write_whole(path, write)


def summary(run: Run) -> dict[str, Any]:
    """Return what `write_summary` writes: method, options, tally, ending, final values, versions, problem's hash."""
    import numba
    import numpy as np

    record = run.options.get("record")
    problem = run.problem
    return {
        "title": problem.title,
        "problem": {
            "hash": problem.fingerprint,
            "states": list(problem.states),
            "initial": dict(zip(problem.states, problem.start.tolist(), strict=True)),
            "parameters": dict(problem.parameters),
            "interval": list(problem.interval),
        },
        "method": run.method,
        "method selection": run.method_selection,
        "options": {
            **run.options,
            "record": record if isinstance(record, str | numbers.Integral) else [float(x) for x in np.asarray(record)],
        },
        "ending": asdict(run.ending),
        "tally": asdict(run.tally),
        "final": run.final_numbers,
        "events": _events(run),
        "versions": {
            "unhurried-heron": VERSION,
            "python": platform.python_version(),
            "numpy": np.__version__,
            "numba": numba.__version__,
        },
    }


def _events(run: Run) -> list[dict[str, Any]]:
    """Return what happened; of events that change something also what came of it."""
    states, entries, found = run.problem.states, [], run.data.event_log
    for row, (name, time, state) in enumerate(run.data.occurrences):
        entries.append({"name": name, "time": time, **dict(zip(states, state, strict=True))})
        if found.acting[row]:
            after = [*found.after[row].tolist(), *found.levels[row + 1].tolist()]
            entries[-1]["after"] = dict(zip((*states, *run.modes), after, strict=True))
    return entries


def write_summary(run: Run, path: str | Path) -> None:
    """Write a run's summary as JSON.

    Parameters
    ----------
    run : Run
    path : str | Path

    Raises
    ------
    OSError
        The file cannot be written.
    """
    run = a_run(run, "write_summary")
    write_text(path, json.dumps(_plain(summary(run)), indent=2) + "\n")


def _plain(value: Any) -> Any:
    """Return a value in the words of JSON, which has no NaN and no infinity: those become null."""
    if isinstance(value, Mapping):
        return {str(key): _plain(part) for key, part in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(part) for part in value]
    if isinstance(value, bool | str | int) or value is None:
        return value
    if isinstance(value, numbers.Integral):
        return int(value)
    if isinstance(value, numbers.Real):
        return float(value) if math.isfinite(value) else None
    return str(value)
