"""Figures of states against states."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.dynamics.equilibrium import Equilibria
from unhurried_heron.errors import OptionError
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, legend, style_of, verbatim
from unhurried_heron.figures.overlay import PhaseCurve, PhaseRecord, labels_of, phase_record, runs_of
from unhurried_heron.figures.resting import mark_equilibria
from unhurried_heron.run.run import Run

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def draw_phase(
    run: Run | Sequence[Run],
    *names: str,
    labels: Sequence[str] | None = None,
    equal: bool = False,
    projections: bool = False,
    equilibria: Equilibria | None = None,
    axes: Any = None,
) -> Figure:
    """Draw one state or derived quantity against another, or three in space; arrows tell the direction of time.

    Parameters
    ----------
    run : Run, or sequence of Run
    *names : str
        Two or three states or derived quantities.
    labels : sequence of str, optional
        What to call each of several runs; by default what tells them apart.
    equal : bool
        Whether a unit is of the same length on all axes.
    projections : bool
        Of three names: whether to draw the three planes beside the curve in space.
    equilibria : Equilibria, optional
        To be marked, in space alone where there are three names: filled where stable, a cross for a saddle.
    axes : Axes, optional
        Where to draw; for three names, axes in three dimensions.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    RunError
        A name is unknown.
    OptionError
        There are not two or three names, or the axes do not fit.
    """
    runs, names = runs_of(run, "draw_phase"), tuple(str(name) for name in names)
    record = phase_record(runs, names, labels_of(runs, labels, "draw_phase"))
    n_axes = len(record.labels)
    if projections and (axes is not None or n_axes != 3):
        raise OptionError("projections are drawn beside a curve of three names", name="projections",
                          location="draw_phase", expected="three names, and no axes of your own",
                          given=f"{len(names)} names")  # fmt: skip
    if n_axes == 2:
        figure, (ax,) = figure_of(1, axes)
        if axes is None:
            figure.set_size_inches(10.4, 7.2)
        _draw_plane(ax, record, (0, 1), equal=equal)
        if mark_equilibria(ax, equilibria, names, "draw_phase") or len(runs) > 1:
            legend(ax, own=axes is None)
        ax.set_title(record.title, loc="left", **VERBATIM)
        return figure
    if axes is not None:
        if not hasattr(axes, "set_zlabel"):
            raise OptionError("the axes do not fit the figure", name="axes", location="draw_phase",
                              expected="axes in three dimensions", given=type(axes).__name__)  # fmt: skip
        _draw_space(axes, record, equal=equal)
        if mark_equilibria(axes, equilibria, names, "draw_phase"):
            verbatim(axes.legend(loc="upper left", frameon=False))
        return axes.figure  # type: ignore[no-any-return]  # a figure, of axes of any kind
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    parts = 2 if projections else 1
    space: Any = figure.add_subplot(parts, parts, 1, projection="3d")
    _draw_space(space, record, equal=equal)
    if mark_equilibria(space, equilibria, names, "draw_phase"):
        verbatim(space.legend(loc="upper left", frameon=False))
    if projections:
        for index, pair in enumerate(combinations(range(3), 2)):
            _draw_plane(figure.add_subplot(2, 2, index + 2), record, pair, equal=equal)
    figure.suptitle(record.title, x=0.01, ha="left", **VERBATIM)
    return figure


def _draw_plane(ax: Any, record: PhaseRecord, pair: tuple[int, int], *, equal: bool) -> None:
    """Draw curves in the plane of two of their coordinates.

    Parameters
    ----------
    ax : Axes
    record : PhaseRecord
    pair : (int, int)
        Which.
    equal : bool
        Whether both axes have one scale.
    """
    for index, curve in enumerate(record.curves):
        x, y = curve.points[:, pair[0]], curve.points[:, pair[1]]
        style = style_of(index)
        ax.plot(x, y, label=curve.label, linewidth=1.6, **style, **_dots(curve))
        for row in curve.arrows:
            ahead = _next(curve, row)
            ax.annotate("", (x[ahead], y[ahead]), (x[row], y[row]),
                        arrowprops={"arrowstyle": "-|>", "color": style["color"], "mutation_scale": 16})  # fmt: skip
        ax.plot(x[:1], y[:1], "o", color=style["color"], markersize=6, label="_nolegend_")
    ax.set_xlabel(record.labels[pair[0]], **VERBATIM)
    ax.set_ylabel(record.labels[pair[1]], **VERBATIM)
    if equal:
        ax.set_aspect("equal", adjustable="datalim")
    finish(ax)


# The length of an arrow head in space, as a share of the box.
_HEAD: Final = 0.04


def _arrow_head(start: Array, end: Array, span: Array) -> Array:
    """Return the corners of an arrow head in space, shape (3, 3), of one size in the box whatever the axes are.

    Parameters
    ----------
    start, end : ndarray, shape (3,)
        Along the curve.
    span : ndarray, shape (3,)
        The length of the box along each axis.

    Returns
    -------
    ndarray
    """
    way = (end - start) / span
    way /= max(float(np.linalg.norm(way)), 1e-300)
    across = np.cross(way, np.eye(3)[int(np.argmin(np.abs(way)))])
    across /= max(float(np.linalg.norm(across)), 1e-300)
    sides = [-_HEAD * (way + 0.5 * across), np.zeros(3), -_HEAD * (way - 0.5 * across)]
    corners: Array = start + np.array(sides) * span
    return corners


def _draw_space(ax: Any, record: PhaseRecord, *, equal: bool) -> None:
    """Draw curves in space.

    Parameters
    ----------
    ax : Axes
    record : PhaseRecord
    equal : bool
        Whether all axes have one scale.
    """
    for index, curve in enumerate(record.curves):
        style = style_of(index)
        ax.plot(*curve.points.T, label=curve.label, linewidth=1.2, **style, **_dots(curve))
        span = np.nanmax(curve.points, axis=0) - np.nanmin(curve.points, axis=0)
        span[span == 0.0] = 1.0
        for row in curve.arrows:
            head = _arrow_head(curve.points[row], curve.points[_next(curve, row)], span)
            ax.plot(*head.T, color=style["color"], linewidth=1.5, label="_nolegend_")
        ax.plot(*curve.points[:1].T, "o", color=style["color"], markersize=5, label="_nolegend_")
    ax.set_xlabel(record.labels[0], **VERBATIM)
    ax.set_ylabel(record.labels[1], **VERBATIM)
    ax.set_zlabel(record.labels[2], **VERBATIM)
    if equal:
        ax.set_aspect("equal")
    if len(record.curves) > 1:
        verbatim(ax.legend(loc="upper left", frameon=False))


def _dots(curve: PhaseCurve) -> dict[str, Any]:
    return {"marker": "o", "markersize": 4} if curve.dots else {}


def _next(curve: PhaseCurve, row: int) -> int:
    """Return the next row that lies elsewhere, the row itself at the end."""
    moved = np.flatnonzero((curve.points[row + 1 :] != curve.points[row]).any(axis=1))
    return row + 1 + int(moved[0]) if moved.size else row
