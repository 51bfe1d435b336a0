"""A progress bar for runs that take a while, in a terminal only."""

from __future__ import annotations

import sys
import time
from typing import Any

# Seconds of a run before its bar is shown.
_SHOW_AFTER = 2.0


class ProgressBar:
    """Shows how far a run has come once it has taken about two seconds.

    ``show`` None: only if standard error is a terminal; True: always; False: never. ``counted``: what there is a number
    of besides the time.
    """

    def __init__(self, show: bool | None, title: str, start: float, end: float, counted: str = "steps") -> None:
        self._wanted = sys.stderr.isatty() if show is None else show
        self._forced = show is True
        self._title, self._start, self._end, self._counted = title, start, end, counted
        self._begun = time.perf_counter()
        self._bar: Any = None
        self._task: Any = None

    def update(self, now: float, steps: int) -> None:
        """Say where the run is; cheap until the bar is shown."""
        if not self._wanted or (self._bar is None and time.perf_counter() - self._begun < _SHOW_AFTER):
            return
        if self._bar is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn

            text = "t = {task.fields[now]:.5g}, " if self._counted == "steps" else ""
            text += "{task.fields[steps]:,} " + self._counted
            if self._counted == "members":
                text += ", {task.fields[rate]:,.0f} a second"
            self._bar = Progress(
                TextColumn("{task.description}", markup=False),
                BarColumn(),
                TaskProgressColumn(),
                TextColumn(text),
                TimeRemainingColumn(),
                console=Console(stderr=True, force_terminal=True if self._forced else None),
                transient=True,
            )
            self._task = self._bar.add_task(self._title, total=1.0, now=now, steps=steps, rate=0.0)
            self._bar.start()
        rate = steps / max(time.perf_counter() - self._begun, 1e-9)
        share = (now - self._start) / (self._end - self._start)
        self._bar.update(self._task, completed=share, now=now, steps=steps, rate=rate, refresh=True)

    def close(self) -> None:
        """Take the bar away."""
        if self._bar is not None:
            self._bar.stop()
