"""Figures: states against time, step sizes against time, error against work.

Each draws on axes of the caller or on a figure of its own, and changes no global setting.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from unhurried_heron.errors import OptionError
from unhurried_heron.figures.overlay import difference_record, labels_of, levels_of, overlay_record, runs_of
from unhurried_heron.figures.records import Map, StatesRecord, states_record
from unhurried_heron.run.run import Run
from unhurried_heron.text.numbers import with_unit

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# colours that stay apart for colour-blind eyes (M. Okabe and K. Ito, 2008), with a line style to tell more curves
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
_LINES = ("-", "--", ":", "-.")
# Marks of one event in a figure.
_MAX_MARKS = 40
# Settings of texts that hold names of the user's, in which a dollar sign is a dollar sign.
VERBATIM: dict[str, Any] = {"parse_math": False}


def style_of(index: int) -> dict[str, Any]:
    """Return colour and line of a curve by its index."""
    return {
        "color": COLOURS[index % len(COLOURS)],
        "linestyle": _LINES[index // len(COLOURS) % len(_LINES)],
    }


def figure_of(rows: int, axes: Any, *, shared: bool = True) -> tuple[Figure, list[Axes]]:
    """Return a figure with a number of panels one below the other, or the caller's axes.

    Parameters
    ----------
    rows : int
        Panels.
    axes : Axes or sequence of Axes
        The caller's; None for a figure of its own.
    shared : bool, optional
        Whether they share the horizontal axis.

    Returns
    -------
    tuple[Figure, list[Axes]]

    Raises
    ------
    OptionError
        These do not fit.
    """
    if axes is not None:
        given = list(axes) if isinstance(axes, Sequence) or hasattr(axes, "__len__") else [axes]
        if len(given) != rows or not all(hasattr(each, "plot") for each in given):
            raise OptionError(
                "the axes do not fit the figure",
                name="axes",
                location="axes",
                expected=f"{rows} axes, one for each unit" if rows > 1 else "one Axes",
                given=f"{len(given)}, of type {type(given[0]).__name__}" if given else "none",
            )
        return given[0].figure, given
    from matplotlib.figure import Figure

    # The figure is wide enough for a legend beside the curves.
    figure = Figure(figsize=(12.8, max(4.5, min(8.0, 2.2 * rows + 1.3))), dpi=100, layout="constrained")
    made = figure.subplots(rows, 1, sharex=shared, squeeze=False)
    return figure, list(made[:, 0])


def finish(ax: Axes) -> None:
    """Give axes a quiet grid, also where a logarithmic one spans less than two decades; no frame above and right."""
    ax.grid(True, color="0.9", linewidth=0.8)
    for axis, scale, limits in ((ax.xaxis, ax.get_xscale(), ax.get_xlim()), (ax.yaxis, ax.get_yscale(), ax.get_ylim())):
        if scale == "log" and max(limits) < 100.0 * min(limits):
            axis.grid(True, which="minor", color="0.93", linewidth=0.6)
    ax.set_axisbelow(True)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)


def draw_states(
    run: Run | Sequence[Run],
    names: Sequence[str] | None = None,
    *,
    labels: Sequence[str] | None = None,
    exact: bool = False,
    points: bool = False,
    levels: Mapping[str, Any] | None = None,
    along: Mapping[str, Any] | None = None,
    axes: Any = None,
) -> Figure:
    """Draw states (or the named states and derived quantities) against time, one panel for each unit.

    On a figure of its own, curves of one unit that differ much in size get panels of their own.

    Parameters
    ----------
    run : Run, or sequence of Run
        Several are laid over each other: of other methods, steps, starts, parameters.
    names : sequence of str, optional
        What to draw; all states by default.
    labels : sequence of str, optional
        What to call each of several runs; by default what tells them apart.
    exact : bool
        Whether to draw the closed forms, dashed, where the (first) problem has them.
    points : bool
        Whether to mark the computed points.
    levels : mapping of str to float or str, optional
        Horizontal lines by name: a number for the first panel, a quantity for the first of its kind.
    along : mapping of str, optional
        Physical coordinates of indexed states that are drawn as maps: an indexed derived quantity, a formula of ``i``
        and parameters ("(i - 0.5)*thickness"), or numbers; where there are two indices, a tuple of two.
    axes : Axes or sequence of Axes, optional
        Where to draw: one for each unit among the names.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    RunError
        A name is unknown.
    OptionError
        The number of axes, or of labels, does not fit.
    """
    runs = runs_of(run, "draw_states")
    run_labels = labels_of(runs, labels, "draw_states")
    if len(runs) == 1 and not (exact or points):
        record = states_record(runs[0], names, split_sizes=axes is None, along=along)
    else:
        record = overlay_record(runs, names, run_labels, exact=exact, points=points, along=along)
    return _draw_record(record, axes, runs[0].method, levels)


def draw_difference(one: Run, other: Run, names: Sequence[str] | None = None, *, axes: Any = None) -> Figure:
    """Draw the first run less the second, one panel for each unit.

    Parameters
    ----------
    one : Run
    other : Run
    names : Sequence[str] or None, optional
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        A name is unknown.
    OptionError
        The runs have no time in common, or the number of axes does not fit.
    """
    runs_of([one, other], "draw_difference")
    return _draw_record(difference_record(one, other, names), axes, one.method, None)


def _draw_record(record: StatesRecord, axes: Any, method: str, levels: Mapping[str, Any] | None) -> Figure:
    """Draw curves, one panel for each group of them.

    Parameters
    ----------
    record : StatesRecord
    axes : Axes or sequence of Axes
        The caller's; None for a figure of its own.
    method : str
        For labels of curves that are there already.
    levels : mapping of str to ndarray, or None
        Levels of events, by unit.

    Returns
    -------
    Figure
    """
    timed = all(shown.x_label == record.time_label for shown in record.maps)
    figure, panels = figure_of(len(record.panels) + len(record.maps), axes, shared=timed)
    units = [label.rpartition("[")[2].rstrip("]") if "[" in label else "" for label, _ in record.panels]
    lines = levels_of(levels, units)
    for index, (ax, (label, curves)) in enumerate(zip(panels, record.panels, strict=False)):
        drawn = [str(line.get_label()) for line in ax.lines if not str(line.get_label()).startswith("_")]
        for curve in curves:
            style = style_of(len(drawn) + curves.index(curve) if drawn else curve.index)
            if curve.exact:
                style = {"color": "0.2", "linestyle": "--", "zorder": 3}
            dots: dict[str, Any] = {"marker": "o", "markersize": 4} if curve.dots else {}
            ax.plot(curve.x, curve.y, label=_unused_label(curve.label, method, drawn), linewidth=1.8, **style, **dots)
            if curve.points is not None:
                ax.plot(*curve.points, "o", color=style["color"], markersize=4, label="_nolegend_")
        for _, name, value in (line for line in lines if line[0] == index):
            ax.axhline(value, color="0.4", linewidth=1.2, linestyle=(0, (6, 3)), label=name, zorder=1)
        ax.set_ylabel(label, **VERBATIM)
        _draw_marks(ax, record)
        legend(ax, own=axes is None)
        finish(ax)
    panels[-1].set_xlabel(record.time_label, **VERBATIM)
    for ax, shown in zip(panels[len(record.panels) :], record.maps, strict=True):
        _draw_map(ax, shown)
    panels[0].set_title(record.title, loc="left", **VERBATIM)
    return figure


def _unused_label(label: str, method: str, taken: Sequence[str]) -> str:
    """Return a label that no curve on the axes has yet.

    Parameters
    ----------
    label : str
    method : str
    taken : sequence of str
        Labels on the axes.

    Returns
    -------
    str
    """
    tried = [label, f"{label}, {method}", *(f"{label}, {method} ({count})" for count in range(2, len(taken) + 3))]
    return next(each for each in tried if each not in taken)


def legend(ax: Axes, *, own: bool) -> None:
    """Put the legend beside the curves of a figure of our own; on the caller's axes inside, where it is whole."""
    if own:
        verbatim(ax.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), frameon=False))
    else:
        verbatim(ax.legend(loc="best", framealpha=0.8))


def verbatim(legend: Any) -> None:
    """Take the texts of a legend for names, and not for mathematics."""
    for text in legend.get_texts():
        text.set_parse_math(False)


def _draw_map(ax: Axes, shown: Map) -> None:
    mesh = ax.pcolormesh(shown.x, shown.y, shown.values, shading="nearest", cmap="viridis", rasterized=True)
    ax.figure.colorbar(mesh, ax=ax, pad=0.02).set_label(shown.label, **VERBATIM)
    ax.set_xlabel(shown.x_label, **VERBATIM)
    ax.set_ylabel(shown.y_label, **VERBATIM)
    # the first member lies on top, as the first layer of a column does
    ax.invert_yaxis()


def _draw_marks(ax: Axes, record: StatesRecord) -> None:
    names = list(dict.fromkeys(mark.name for mark in record.marks))
    for index, name in enumerate(names):
        times = [mark.time for mark in record.marks if mark.name == name]
        label = name if len(times) == 1 else f"{name} ({len(times)} times)"
        if len(times) > _MAX_MARKS:
            times = times[:_MAX_MARKS]
            label = f"{name} (first {_MAX_MARKS} shown)"
        for count, time in enumerate(times):
            shown = label if count == 0 else "_nolegend_"
            ax.axvline(time, color="0.55", linewidth=1.0, linestyle=_LINES[1 + index % 3], label=shown, zorder=1)


def finish_in_time(ax: Axes, problem: Any, label: str, *, own: bool) -> None:
    """Label axes of which one is the time, and finish them.

    Parameters
    ----------
    ax : Axes
    problem : Problem
    label : str
        Of the other axis.
    own : bool
        Whether the axes are of a figure of ours.
    """
    ax.set_xlabel(with_unit("time", problem.units.get("t", "")), **VERBATIM)
    ax.set_ylabel(label, **VERBATIM)
    legend(ax, own=own)
    finish(ax)
