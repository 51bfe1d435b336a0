"""Figures of what was learnt: order of convergence, errors and drifts along runs, steps of several runs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.accuracy.certificate import Certificate
from unhurried_heron.accuracy.comparison import Comparison
from unhurried_heron.accuracy.conserved_quantities import drifts, ends_of_steps, scale_of
from unhurried_heron.accuracy.convergence import Convergence
from unhurried_heron.errors import RunError
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, finish_in_time, legend, style_of
from unhurried_heron.figures.overlay import labels_of, runs_of
from unhurried_heron.figures.work_figures import draw_series
from unhurried_heron.input.rules import instance
from unhurried_heron.run.run import Run
from unhurried_heron.text.pictures import convergence_picture, positive, setting_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# The triangle of an order spans this factor of the step,
_RUN: Final = 0.5
# and lies this factor below the line.
_GAP: Final = 0.45
# Errors above this are of no interest and would flatten all others.
_MAX: Final = 30.0


def draw_convergence(found: Convergence, *, axes: Any = None) -> Figure:
    """Draw the largest error against the step, both logarithmic, with a triangle of the slope each method shows.

    Parameters
    ----------
    found : Convergence
    axes : Axes, optional

    Returns
    -------
    Figure

    Raises
    ------
    OptionError
    """
    instance(Convergence, "what convergence returns")(
        found, "found", "draw_convergence", message="this is no study of orders"
    )
    figure, (ax,) = figure_of(1, axes)
    if axes is None:
        figure.set_size_inches(12.8, 8.0)
    picture = convergence_picture(found)
    draw_series(ax, picture)
    for index, orders in enumerate(found.orders):
        straight = [row for row in found.rows if row["method"] == orders.method and row["straight"]]
        if straight:
            _triangle(ax, straight, orders.observed, style_of(index)["color"])
    known = [row["largest error"] for row in found.rows if row["largest error"]]
    ax.set_ylim(0.1 * min([found.floor or 1.0, *known]), min(ax.get_ylim()[1], _MAX))
    ax.set_title(picture.title, loc="left", **VERBATIM)
    legend(ax, own=axes is None)
    finish(ax)
    return figure


def _triangle(ax: Axes, rows: Sequence[dict[str, Any]], order: float, colour: str) -> None:
    """Draw a slope triangle below the middle of the straight part.

    Parameters
    ----------
    ax : Axes
    rows : sequence of dict
        Those of the straight part.
    order : float
        The slope.
    colour : str
    """
    middle = rows[len(rows) // 2]
    right, low = middle["step"], _GAP * _RUN**order * middle["largest error"]
    left = _RUN * right
    high = low / _RUN**order
    ax.plot([left, right, right, left], [low, low, high, low], color=colour, linewidth=0.9)
    ax.annotate(f"{order:.2f}", (right, np.sqrt(low * high)), xytext=(3, 0), textcoords="offset points",
                fontsize="small", color=colour, va="center")  # fmt: skip


def draw_digits(certificate: Certificate, *, axes: Any = None) -> Figure:
    """Draw how many digits of each state are certain, at each time a bar for each, and how many were asked for.

    Parameters
    ----------
    certificate : Certificate
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    OptionError
        This is no certificate.
    """
    instance(Certificate, "what certify returns")(
        certificate, "certificate", "draw_digits", message="this is no certificate"
    )
    figure, (ax,) = figure_of(1, axes)
    states = list(dict.fromkeys(row["state"] for row in certificate.rows))
    times = list(dict.fromkeys(row["time"] for row in certificate.rows))
    wide = 0.8 / max(len(times), 1)
    for index, time in enumerate(times):
        digits = [row["digits"] for row in certificate.rows if row["time"] == time]
        at = np.arange(len(states)) + wide * (index - 0.5 * (len(times) - 1))
        unit = certificate.problem.units.get("t", "")
        ax.bar(at, digits, 0.9 * wide, label=f"t = {time:.6g} {unit}".rstrip(), color=style_of(index)["color"])
    ax.axhline(certificate.digits_wanted, color="0.3", linestyle="--", label=f"{certificate.digits_wanted} asked for")
    ax.set_xticks(np.arange(len(states)), states)
    ax.set_ylabel("certain digits")
    done = "certified" if certificate.certified else "not certified"
    ax.set_title(f"{certificate.problem.title or 'Digits'}: {done}", loc="left", **VERBATIM)
    legend(ax, own=axes is None)
    finish(ax)
    return figure


def draw_errors(comparison: Comparison, *, axes: Any = None) -> Figure:
    """Draw the error of each run of a comparison against time, relative to each state's largest size.

    Parameters
    ----------
    comparison : Comparison
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        No run of it came to its end.
    """
    instance(Comparison, "what compare returns")(
        comparison, "comparison", "draw_errors", message="this is no comparison"
    )
    pairs = zip(comparison.rows, comparison.error_curves, strict=True)
    shown = [(row, curve) for row, curve in pairs if curve is not None]
    if not shown:
        raise RunError("there is no error to draw", name="comparison", location="draw_errors",
                       expected="a run that came to its end", given="none")  # fmt: skip
    figure, (ax,) = figure_of(1, axes)
    for index, (row, (times, errors)) in enumerate(shown):
        ax.plot(times, positive(errors), linewidth=1.4, label=f"{row['method']}, {setting_of(row)}",
                **style_of(index))  # fmt: skip
    ax.set_yscale("log")
    finish_in_time(ax, comparison.problem, "error, relative to each state's size", own=axes is None)
    ax.set_title(f"{comparison.problem.title or 'Comparison'}: error against time", loc="left", **VERBATIM)
    return figure


def draw_drift(runs: Run | Sequence[Run] | Comparison, quantity: str | None = None, *, axes: Any = None) -> Figure:
    """Draw how far a conserved quantity has moved along runs, relative to its largest size.

    Parameters
    ----------
    runs : Run, sequence of Run, or Comparison
    quantity : str, optional
        A state, derived quantity or formula; by default the first that the problem says is conserved.
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        Nothing is said to be conserved.
    """
    if isinstance(runs, Comparison):
        pairs = [(f"{row['method']}, {setting_of(row)}", run)
                 for row, run in zip(runs.rows, runs.runs, strict=True) if run is not None]  # fmt: skip
        labels, listed = [label for label, _ in pairs], [run for _, run in pairs]
    else:
        listed = runs_of(runs, "draw_drift")
        labels = labels_of(listed, None, "draw_drift")
    wanted = quantity if quantity is not None else next(iter(listed[0].problem.conserved), None) if listed else None
    if not isinstance(wanted, str):
        raise RunError("nothing is said to be conserved", name="quantity", location="draw_drift", given="none",
                       expected='a quantity, or conserved=["energy"] where the problem is made')  # fmt: skip
    figure, (ax,) = figure_of(1, axes)
    for index, (label, run) in enumerate(zip(labels, listed, strict=True)):
        rows = ends_of_steps(run)
        ax.plot(run.times[rows], positive(np.abs(drifts(run, wanted))[rows]), linewidth=1.4, label=label,
                **style_of(index))  # fmt: skip
    ax.set_yscale("log")
    label = f"drift of {wanted}, {scale_of(listed[0], wanted)[1]}"
    finish_in_time(ax, listed[0].problem, label, own=axes is None)
    ax.set_title(f"{listed[0].problem.title or 'Runs'}: drift of {wanted}", loc="left", **VERBATIM)
    return figure
