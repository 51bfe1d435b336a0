"""Figures: states against time, step sizes against time, error against work.

Each draws on axes of the caller or on a figure of its own, and changes no global setting.
"""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from unhurried_heron.accuracy.comparison import Comparison
from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.figures.overlay import difference_record, labels_of, levels_of, overlay_record, runs_of
from unhurried_heron.figures.records import Map, StatesRecord, states_record, steps_record, with_unit, work_record
from unhurried_heron.run.run import Run

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# colours that stay apart for colour-blind eyes (M. Okabe and K. Ito, 2008), with a line style to tell more curves
_COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
# of steps by the method that took them, none of which is that of refused ones, over a faint line
_KINDS, _FAINT = ("#0072B2", "#009E73", "#CC79A7", "#E69F00"), "#BBBBBB"
_LINES = ("-", "--", ":", "-.")
_MARKERS = ("o", "s", "^", "D", "v", "P", "X")
# Marks of one event in a figure.
_MAX_MARKS = 40
# of texts that hold names of the user's: a dollar sign in them is one
VERBATIM: dict[str, Any] = {"parse_math": False}
# Runs without an error that are named below a figure,
_MAX_MISSING = 6
# in lines of this many characters.
_NOTE_WIDTH = 110


def style_of(index: int) -> dict[str, Any]:
    """Return colour and line of a curve by its index."""
    return {
        "color": _COLOURS[index % len(_COLOURS)],
        "linestyle": _LINES[index // len(_COLOURS) % len(_LINES)],
    }


def figure_of(rows: int, axes: Any, *, shared: bool = True) -> tuple[Figure, list[Axes]]:
    """Return a figure with so many panels one below the other, or the caller's axes.

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

    # wide enough for a legend beside the curves, never over them
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
            ax.plot(curve.x, curve.y, label=_fresh(curve.label, method, drawn), linewidth=1.8, **style, **dots)
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


def _fresh(label: str, method: str, taken: Sequence[str]) -> str:
    """Return a label that no curve on the axes has yet."""
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


def _order_colour(index: int, count: int) -> Any:
    """Return the colour of one of several rising orders."""
    from matplotlib import colormaps

    return colormaps["viridis"](0.9 * index / max(count - 1, 1))


def draw_steps(run: Run | Sequence[Run], *, labels: Sequence[str] | None = None, axes: Any = None) -> Figure:
    """Draw the size of each attempted step against time, refused ones marked; of several runs the accepted ones.

    Where method or order change along the run, the steps of each have a colour of their own.

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
        color=_FAINT if several else _COLOURS[0],
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
        color=_COLOURS[1],
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


def finish_in_time(ax: Axes, problem: Any, label: str, *, own: bool) -> None:
    """Label axes of which one is the time, and finish them."""
    ax.set_xlabel(with_unit("time", problem.units.get("t", "")), **VERBATIM)
    ax.set_ylabel(label, **VERBATIM)
    legend(ax, own=own)
    finish(ax)


def draw_work(comparison: Comparison, *, work: str = "rate evaluations", axes: Any = None) -> Figure:
    """Draw the largest error of each run of a comparison against its work, one curve for each method.

    Parameters
    ----------
    comparison : Comparison
    work : str
        A column of the comparison that counts work: "rate evaluations", "accepted", "solves", "seconds", ….
    axes : Axes, optional

    Raises
    ------
    RunError
        ``work`` counts no work.
    """
    if not isinstance(comparison, Comparison):
        raise OptionError("this is no comparison", name="comparison", location="draw_work",
                          expected="what compare returns", given=excerpt(comparison))  # fmt: skip
    record = work_record(comparison, work)
    figure, (ax,) = figure_of(1, axes)
    for index, curve in enumerate(record.curves):
        marker = _MARKERS[index % len(_MARKERS)]
        ax.plot(curve.x, curve.y, label=curve.label, marker=marker, linewidth=1.6, **style_of(index))
    ax.set_xscale("log")
    ax.set_yscale("log")
    if record.floor is not None and record.floor > 0:
        ax.axhline(record.floor, color="0.5", linestyle=":", label="references disagree below")
    ax.set_xlabel(record.work_label, **VERBATIM)
    ax.set_ylabel("largest error, relative to each state's size")
    ax.set_title(record.title, loc="left", **VERBATIM)
    if record.curves or record.floor:
        legend(ax, own=axes is None)
    if not record.curves:
        ax.text(0.5, 0.5, "no error was measured", transform=ax.transAxes, ha="center", va="center", color="0.3")
    if record.missing:
        more = len(record.missing) - _MAX_MISSING
        missing = [*record.missing[:_MAX_MISSING], *([f"{more} more"] if more > 0 else [])]
        note = textwrap.fill("no error: " + "; ".join(missing), _NOTE_WIDTH)
        ax.annotate(note, (0.0, -0.14), xycoords="axes fraction", fontsize="small", color="0.3", va="top",
                    **VERBATIM)  # fmt: skip
    finish(ax)
    return figure
