"""Moving pictures: first what is shown in each frame, then the frames drawn one by one."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError
from unhurried_heron.figures.figures import VERBATIM, finish, style_of, verbatim
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.text.numbers import with_unit

# Points of the curve between two frames at least,
_BETWEEN: Final = 4
# and in the whole film.
_POINTS: Final = 3000
# Opacity of the whole curve behind the moving one.
_FAINT: Final = 0.15
# Shades in which a tail fades.
_SHADES: Final = 24


@dataclass(frozen=True)
class MovingRecord:
    """What an animation shows.

    Attributes
    ----------
    times : ndarray, shape (n_frames,)
        Of the frames, evenly spaced.
    fine : ndarray, shape (n_fine,)
        Times at which the curves are known, those of the frames among them.
    curves : tuple of ndarray, shape (n_fine, n_names)
        One for each run; NaN where a jump parts a curve.
    labels, axes : tuple of str
        Of the curves, and of the quantities with their units.
    time_label, title : str
    """

    times: Array
    fine: Array
    curves: tuple[Array, ...]
    labels: tuple[str, ...]
    axes: tuple[str, ...]
    time_label: str
    title: str


def moving_record(runs: Sequence[Run], names: Sequence[str], labels: Sequence[str], frames: int) -> MovingRecord:
    """Return what a film of runs shows, frame by frame, from the first start to the last end.

    Parameters
    ----------
    runs : Sequence[Run]
    names : Sequence[str]
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.
    frames : int

    Returns
    -------
    MovingRecord

    Raises
    ------
    OptionError
        The runs kept no steps, or go in different directions.
    RunError
        A name is unknown.
    """
    if not all(isinstance(run.data.trajectory, StepTrajectory) for run in runs):
        raise OptionError("an animation needs the steps of the run", name="run", location="animate",
                          expected='integrate with record="steps"', given="recorded times")  # fmt: skip
    ends = np.array([[run.times[0], run.times[-1]] for run in runs])
    ways = np.sign(ends[:, 1] - ends[:, 0])
    if (ways != ways[0]).any() or ways[0] == 0.0:
        raise OptionError("runs of one animation go the same way in time", name="run", location="animate",
                          expected="runs that last, all one way", given=str(ends.tolist()))  # fmt: skip
    begin = ends[:, 0].min() if ways[0] > 0 else ends[:, 0].max()
    end = ends[:, 1].max() if ways[0] > 0 else ends[:, 1].min()
    times = np.linspace(begin, end, frames)
    between = max(_BETWEEN, math.ceil(_POINTS / (frames - 1)))
    jumps = np.unique(np.concatenate([run.data.trajectory.jumps.times for run in runs]))
    # Both sides of a jump are drawn one after the other, so that it is vertical.
    grid = np.setdiff1d(np.union1d(times, np.linspace(begin, end, between * (frames - 1) + 1)), jumps)
    fine = np.concatenate([grid, jumps, jumps])
    before = np.arange(fine.size) < grid.size + jumps.size
    order = np.lexsort((~before, ways[0] * fine))
    fine, before = fine[order], before[order]
    curves = []
    for run, (first, last) in zip(runs, ends, strict=True):
        within = (fine >= min(first, last)) & (fine <= max(first, last))
        values = np.full((fine.size, len(names)), np.nan)
        for side, chosen in (("before", within & before), ("after", within & ~before)):
            values[chosen] = run.at(fine[chosen], list(names), side=side).reshape(-1, len(names))
        curves.append(values)
    units = runs[0].problem.units
    title = runs[0].problem.title if len({run.problem.title for run in runs}) == 1 else ""
    return MovingRecord(times, fine, tuple(curves), tuple(labels), tuple(with_unit(n, units.get(n, "")) for n in names),
                        with_unit("time", units.get("t", "")), title)  # fmt: skip


class Film:
    """Draws the frames of an animation.

    Parameters
    ----------
    record : MovingRecord
    phase : bool
        Whether quantities are drawn against each other.
    tail : float
        How long the tail is, in time; all that came before at infinity.
    turn : float
        By how many degrees the camera turns about the vertical, in space.
    """

    def __init__(self, record: MovingRecord, *, phase: bool, tail: float, turn: float) -> None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        self._record, self._phase, self._tail, self._turn = record, phase, tail, turn
        # all that came before does not fade
        self._shares = np.linspace(0.15, 1.0, _SHADES) if np.isfinite(tail) else np.ones(1)
        self.figure = Figure(figsize=(9.6, 6.4) if phase else (9.6, 5.4), dpi=80, layout="constrained")
        canvas: Any = FigureCanvasAgg
        self._canvas: Any = canvas(self.figure)
        space = phase and len(record.axes) == 3
        if phase:
            panels = [self.figure.add_subplot(projection="3d" if space else None)]
        else:
            panels = list(self.figure.subplots(len(record.axes), 1, sharex=True, squeeze=False)[:, 0])
        self._panels: list[Any] = panels
        self._title_text = self.figure.suptitle(self._title(record.times[0]), x=0.01, ha="left", **VERBATIM)
        self._lines: list[tuple[int, int, list[Any], Any]] = []
        for which, curve in enumerate(record.curves):
            for panel in range(len(panels)):
                self._lines.append((which, panel, *self._prepared(which, panel, self._points(curve, panel))))
        self._label()
        # the layout of the first frame is that of all
        self._canvas.draw()
        self.figure.set_layout_engine("none")

    def _points(self, curve: Array, panel: int) -> Array:
        return curve if self._phase else np.column_stack([self._record.fine, curve[:, panel]])

    def _prepared(self, which: int, panel: int, points: Array) -> tuple[list[Any], Any]:
        """Prepare the curve of a run in a panel; return its artists and its points.

        Parameters
        ----------
        which : int
            The run.
        panel : int
        points : ndarray, shape (n, 2) or (n, 3)

        Returns
        -------
        (list of Artist, object)
        """
        ax, colour = self._panels[panel], style_of(which)["color"]
        ax.plot(*points.T, color=colour, alpha=_FAINT, linewidth=1.2)
        shades = [ax.plot(*points[:1].T, color=colour, alpha=share, linewidth=2.0, solid_capstyle="butt")[0]
                  for share in self._shares]  # fmt: skip
        shades[-1].set_label(self._record.labels[which])
        (head,) = ax.plot(*points[:1].T, "o", color=colour, markersize=7)
        return shades, head

    def _label(self) -> None:
        record = self._record
        if self._phase:
            (ax,) = self._panels
            for set_label, text in zip((ax.set_xlabel, ax.set_ylabel), record.axes, strict=False):
                set_label(text, **VERBATIM)
            if len(record.axes) == 3:
                ax.set_zlabel(record.axes[2], **VERBATIM)
            else:
                finish(ax)
        else:
            for ax, text in zip(self._panels, record.axes, strict=True):
                ax.set_ylabel(text, **VERBATIM)
                finish(ax)
            self._panels[-1].set_xlabel(record.time_label, **VERBATIM)
        if len(record.curves) > 1:
            verbatim(self._panels[0].legend(loc="upper left"))

    def frames(self) -> Iterator[Any]:
        """Yield the frames as arrays of red, green, blue and opacity, uint8 (height, width, 4)."""
        record = self._record
        sign = 1.0 if record.times[-1] > record.times[0] else -1.0
        for count, time in enumerate(record.times):
            last = int(np.searchsorted(sign * record.fine, sign * time, side="right"))
            for which, panel, shades, head in self._lines:
                self._show(self._points(record.curves[which], panel), last, shades, head)
            if self._turn:
                self._panels[0].view_init(azim=-60.0 + self._turn * count / (record.times.size - 1))
            self._title_text.set_text(self._title(time))
            self._canvas.draw()
            yield np.asarray(self._canvas.buffer_rgba()).copy()

    def _title(self, time: float) -> str:
        record = self._record
        step = abs(record.times[1] - record.times[0])
        digits = max(0, 1 - math.floor(math.log10(step)))
        shown = f"{time:.{digits}f}" if digits < 7 and abs(time) < 1e9 else f"{time:.6g}"
        return f"{record.title + ': ' if record.title else ''}{record.time_label} {shown}"

    def _show(self, points: Array, last: int, shades: list[Any], head: Any) -> None:
        """Set the tail up to a row, its shades from the oldest to the newest part, and the head.

        Parameters
        ----------
        points : ndarray, shape (n, 2) or (n, 3)
            The curve.
        last : int
        shades : list of Artist
            Parts of the tail.
        head : Artist
            Where the curve is now.
        """
        fine = self._record.fine
        reach = np.abs(fine[:last] - fine[last - 1]) <= self._tail
        begin = int(np.argmax(reach))
        edges = np.linspace(begin, last - 1, len(shades) + 1).round().astype(int)
        for shade, first, beyond in zip(shades, edges[:-1], edges[1:], strict=True):
            _set(shade, points[first : beyond + 1])
        known = np.flatnonzero(np.isfinite(points[:last]).all(axis=1))
        _set(head, points[known[-1:]])


def _set(line: Any, points: Array) -> None:
    if points.shape[1] == 3:
        line.set_data_3d(*points.T)
    else:
        line.set_data(*points.T)
