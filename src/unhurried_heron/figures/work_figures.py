"""Figures of steps and of work: what runs cost, and where."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from unhurried_heron.accuracy.comparison import WORK, Comparison
from unhurried_heron.errors import RunError, as_text
from unhurried_heron.figures.figures import COLOURS, VERBATIM, figure_of, finish, finish_in_time, legend, style_of
from unhurried_heron.figures.overlay import labels_of, runs_of
from unhurried_heron.figures.records import steps_record
from unhurried_heron.input.rules import among, instance
from unhurried_heron.run.run import Run
from unhurried_heron.text.numbers import with_unit
from unhurried_heron.text.pictures import Picture, work_picture

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Colours of steps by the method that took them, none of which is that of refused steps, over a faint line.
_KINDS, _FAINT = ("#0072B2", "#009E73", "#CC79A7", "#E69F00"), "#BBBBBB"
_MARKERS = ("o", "s", "^", "D", "v", "P", "X")
# Runs without an error that are named below a figure,
_MAX_MISSING = 6
# in lines of this many characters.
_NOTE_WIDTH = 110


def _order_colour(index: int, count: int) -> Any:
    """Return the colour of one of several rising orders."""
    from matplotlib import colormaps

    return colormaps["viridis"](0.9 * index / max(count - 1, 1))


def draw_steps(run: Run | Sequence[Run], *, labels: Sequence[str] | None = None, axes: Any = None) -> Figure:
    """Draw the size of each attempted step against time, refused ones marked; of several runs the accepted ones.

    Where method or order change along the run, the steps of each have a colour of their own.

    Parameters
    ----------
    run : Run | Sequence[Run]
    labels : sequence of str, or None, optional
        One for each run; None for those that tell the runs apart.
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        The run kept no ledger.
    """
    if not isinstance(run, Run):
        return _draw_steps_of(run, labels, axes)
    record = steps_record(run)
    figure, (ax,) = figure_of(1, axes)
    many = record.accepted.x.size > 2000
    several = len(record.kinds) > 0
    ax.plot(
        record.accepted.x,
        record.accepted.y,
        label=record.accepted.label,
        color=_FAINT if several else COLOURS[0],
        marker="" if many or several else ".",
        linewidth=1.0,
        markersize=5,
        # a curve of a million points is drawn quickly as an image
        rasterized=many,
    )
    for index, kind in enumerate(record.kinds):
        colour = _order_colour(index, len(record.kinds)) if record.by_order else _KINDS[index % len(_KINDS)]
        ax.plot(kind.x, kind.y, ".", label=kind.label, color=colour, markersize=6, rasterized=many)
    ax.plot(
        record.refused.x,
        record.refused.y,
        "x",
        label=record.refused.label,
        color=COLOURS[1],
        markersize=7,
        zorder=3,
    )
    ax.set_yscale("log")
    ax.set_xlabel(record.time_label, **VERBATIM)
    ax.set_ylabel(record.step_label, **VERBATIM)
    ax.set_title(record.title, loc="left", **VERBATIM)
    legend(ax, own=axes is None)
    finish(ax)
    return figure


def _draw_steps_of(runs: Sequence[Run], labels: Sequence[str] | None, axes: Any) -> Figure:
    """Draw the accepted steps of several runs against time, over each other.

    Parameters
    ----------
    runs : Sequence[Run]
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.
    axes : Axes or sequence of Axes
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        One kept no ledger.
    """
    listed = runs_of(runs, "draw_steps")
    run_labels = labels_of(listed, labels, "draw_steps")
    figure, (ax,) = figure_of(1, axes)
    for index, (run, label) in enumerate(zip(listed, run_labels, strict=True)):
        ledger = run.ledger[run.ledger["accepted"]]
        ax.plot(ledger["time"], ledger["step"].abs(), label=f"{label}: {len(ledger):,}", linewidth=1.2,
                rasterized=len(ledger) > 2000, **style_of(index))  # fmt: skip
    ax.set_yscale("log")
    unit = listed[0].problem.units.get("t", "")
    finish_in_time(ax, listed[0].problem, with_unit("step", unit), own=axes is None)
    ax.set_title(f"{listed[0].problem.title or 'Runs'}: accepted steps", loc="left", **VERBATIM)
    return figure


def draw_work(comparison: Comparison, *, work: str = "rate evaluations", axes: Any = None) -> Figure:
    """Draw the largest error of each run of a comparison against its work, one curve for each method.

    Parameters
    ----------
    comparison : Comparison
    work : str
        A column of the comparison that counts work: "rate evaluations", "accepted", "solves", "seconds", ….
    axes : Axes, optional

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        ``work`` counts no work.
    """
    instance(Comparison, "what compare returns")(comparison, "comparison", "draw_work", message="this is no comparison")
    among(WORK)(work, "work", message=f"'{as_text(work)}' does not count work", error=RunError)
    picture = work_picture(comparison, work)
    figure, (ax,) = figure_of(1, axes)
    draw_series(ax, picture)
    ax.set_title(picture.title, loc="left", **VERBATIM)
    if picture.series or picture.floor:
        legend(ax, own=axes is None)
    if not picture.series:
        ax.text(0.5, 0.5, "no error was measured", transform=ax.transAxes, ha="center", va="center", color="0.3")
    if picture.missing:
        more = len(picture.missing) - _MAX_MISSING
        missing = [*picture.missing[:_MAX_MISSING], *([f"{more} more"] if more > 0 else [])]
        note = textwrap.fill("no error: " + "; ".join(missing), _NOTE_WIDTH)
        ax.annotate(note, (0.0, -0.14), xycoords="axes fraction", fontsize="small", color="0.3", va="top",
                    **VERBATIM)  # fmt: skip
    finish(ax)
    return figure


def draw_series(ax: Axes, picture: Picture) -> None:
    """Draw the series of a picture and its floor over logarithmic axes; those without points keep their colour."""
    for index, series in enumerate(picture.series):
        if series.x:
            marker = _MARKERS[index % len(_MARKERS)]
            ax.plot(series.x, series.y, label=series.label, marker=marker, linewidth=1.6, **style_of(index))
    ax.set_xscale("log")
    ax.set_yscale("log")
    if picture.floor is not None and picture.floor > 0:
        ax.axhline(picture.floor, color="0.5", linestyle=":", label=picture.floor_label)
    ax.set_xlabel(picture.x_label, **VERBATIM)
    ax.set_ylabel(picture.y_label)
