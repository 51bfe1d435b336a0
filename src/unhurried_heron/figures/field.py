"""Direction fields: where the rates point, in the plane of two states or of one state and time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.dynamics.equilibrium import Equilibria
from unhurried_heron.errors import OptionError, as_text, excerpt, listing
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, legend, style_of
from unhurried_heron.figures.overlay import runs_of
from unhurried_heron.figures.resting import mark_equilibria
from unhurried_heron.input.rules import among, instance, whole
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.text.numbers import with_unit
from unhurried_heron.units.quantities import number_in

if TYPE_CHECKING:
    from matplotlib.figure import Figure

# Points of the grid of nullclines in each direction.
_FINE = 201
# Points of a drawn solution.
_POINTS = 1200
_TIME = "t"


@dataclass(frozen=True)
class FieldRecord:
    """A direction field: ``x`` (m,), ``y`` (k,), and at each point the rates along both axes, (k, m).

    ``nullclines``: the same on a finer grid (x, y, along x, along y), None without. ``curves``: solutions, each (n, 2).
    """

    title: str
    labels: tuple[str, str]
    x: Array
    y: Array
    along_x: Array
    along_y: Array
    nullclines: tuple[Array, Array, Array, Array] | None
    curves: tuple[tuple[str, Array], ...]

    @property
    def speed(self) -> Array:
        """How fast the solution crosses the window, in widths of it per unit of time, (k, m)."""
        wide, high = np.ptp(self.x), np.ptp(self.y)
        speed: Array = np.hypot(self.along_x / wide, self.along_y / high)
        return speed


def field_record(
    problem: Problem,
    names: Sequence[str],
    window: Sequence[tuple[Any, Any]],
    runs: Sequence[Run],
    arrows: int,
    *,
    nullclines: bool,
    at: float,
) -> FieldRecord:
    """Compute a direction field.

    Parameters
    ----------
    problem : Problem
    names : Sequence[str]
    window : pair of pairs of float or str
        The ends of both axes.
    runs : Sequence[Run]
    arrows : int
        Along each axis.
    nullclines : bool
        Whether they are computed, too.
    at : float
        The time of rates that depend on it.

    Returns
    -------
    FieldRecord

    Raises
    ------
    OptionError
        The names are no two states, or the window is none.
    """
    known = among([_TIME, *problem.states], "two of {}")
    for name in names if isinstance(names, list | tuple) else [names]:
        known(name, as_text(name), "draw_field", message=f"there is no state '{as_text(name)}'")
    if len(names) != 2 or names[0] == names[1] or names[1] == _TIME:
        raise OptionError("a field has two axes", name="names", location="draw_field",
                          expected='two states, or "t" and a state', given=excerpt(tuple(names)))  # fmt: skip
    spans = _spans(problem, names, window)
    x, y = (np.linspace(*span, arrows) for span in spans)
    fine = None
    if nullclines:
        wide, high = (np.linspace(*span, _FINE) for span in spans)
        fine = (wide, high, *_rates(problem, names, wide, high, at))
    curves = tuple(_curve(run, names) for run in runs)
    units = problem.units
    labels = tuple(with_unit("time" if name == _TIME else name, units.get(name, "")) for name in names)
    return FieldRecord(problem.title or "Direction field", (labels[0], labels[1]), x, y,
                       *_rates(problem, names, x, y, at), fine, curves)  # fmt: skip


def _curve(run: Run, names: Sequence[str]) -> tuple[str, Array]:
    """Return a run in the plane of the axes, shape (n, 2), with its label."""
    states = [name for name in names if name != _TIME]
    for name in states:
        if name not in run.problem.states:
            raise OptionError(f"a run has no state '{name}'", name="runs", location="draw_field",
                              expected="runs of the problem whose field is drawn",
                              given=listing(run.problem.states))  # fmt: skip
    times = run.times
    if isinstance(run.data.trajectory, StepTrajectory):
        times = np.linspace(run.times[0], run.ending.time, _POINTS)
        values = run.at(times, states)
    else:
        values = np.column_stack([run[name] for name in states])
    columns = [times if name == _TIME else values[:, states.index(name)] for name in names]
    return ", ".join(f"{name} from {run.problem.initial[name]:.4g}" for name in states), np.column_stack(columns)


def _spans(problem: Problem, names: Sequence[str], window: Sequence[tuple[Any, Any]]) -> list[tuple[float, float]]:
    """Return the window as numbers.

    Parameters
    ----------
    problem : Problem
    names : Sequence[str]
    window : pair of pairs of float or str
        The ends of both axes.

    Returns
    -------
    list[tuple[float, float]]

    Raises
    ------
    OptionError
        It is no window.
    """
    spans = []
    try:
        for name, (low, high) in zip(names, window, strict=True):
            ends = [number_in(end, problem.units.get(name, ""), "draw_field, window") for end in (low, high)]
            spans.append((ends[0], ends[1]))
    except (TypeError, ValueError):
        spans = []
    if len(spans) != 2 or not all(np.isfinite(span).all() and span[0] < span[1] for span in spans):
        raise OptionError("this is no window", name="window", location="draw_field",
                          expected="((from, to), (from, to)), each rising", given=excerpt(window))  # fmt: skip
    return spans


def _rates(problem: Problem, names: Sequence[str], x: Array, y: Array, at: float) -> tuple[Array, Array]:
    """Return the rates along both axes on a grid, NaN where there are none; other states as they start.

    Parameters
    ----------
    problem : Problem
    names : Sequence[str]
    x : ndarray, shape (m,)
    y : ndarray, shape (k,)
    at : float
        The time of rates that depend on it.

    Returns
    -------
    (ndarray, ndarray)
        Each of shape (k, m).
    """
    # Modules that compile are loaded only when something runs.
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_system

    native = native_system(problem, (), held=False)
    wide, high = np.meshgrid(x, y)
    states = np.tile(problem.start, (wide.size, 1))
    times = np.full(wide.size, at)
    indices = []
    for name, values in zip(names, (wide, high), strict=True):
        if name == _TIME:
            times = values.ravel()
            indices.append(-1)
        else:
            indices.append(problem.states.index(name))
            states[:, indices[-1]] = values.ravel()
    found, done = np.full(states.shape, np.nan), 0
    while done < wide.size:
        answered = evaluate_rows(native.rates, times[done:], states[done:])
        found[done : done + len(answered)] = answered
        stopped = native.rates.pending_error()
        if stopped is not None and done + len(answered) < wide.size:
            native.rates.raise_pending("the rates")
        # outside the domain there is no arrow
        done += len(answered) + 1
    if problem.model.mass is not None:
        inverse: Any = np.linalg.inv(problem.model.mass.full(problem.model.layout.size))
        found = (inverse @ found.T).T
    along = [np.ones(wide.shape) if index < 0 else found[:, index].reshape(wide.shape) for index in indices]
    return along[0], along[1]


def draw_field(
    problem: Problem,
    names: Sequence[str] | None = None,
    *,
    window: Sequence[tuple[Any, Any]],
    runs: Run | Sequence[Run] = (),
    nullclines: bool = False,
    arrows: int = 21,
    at: float | str | None = None,
    equilibria: Equilibria | None = None,
    axes: Any = None,
) -> Figure:
    """Draw the direction field of two states, or of one state against time.

    Arrows have one length, and the colour of the speed in widths of the window per unit of time.

    Parameters
    ----------
    problem : Problem
    names : sequence of str, optional
        Two states, or ``"t"`` and a state; by default the first two states, or time and the only one. All others are
        held at their starting values.
    window : pair of pairs
        ``((from, to), (from, to))`` of the two axes, numbers or quantities.
    runs : Run or sequence of Run
        Solutions that are drawn over the arrows, each with its starting values beside it.
    nullclines : bool
        Whether to draw where one of the two rates is zero.
    arrows : int
        How many of them along each axis.
    at : float or str, optional
        The time of rates that depend on it; by default the start of the interval.
    equilibria : Equilibria, optional
        To be marked: filled where stable, a cross for a saddle.
    axes : Axes, optional

    Returns
    -------
    Figure

    Raises
    ------
    OptionError
        The names, the window or the axes do not fit, or the problem has constraints.
    """
    instance(Problem, "a Problem")(problem, "problem", "draw_field", message="this has no direction field")
    if problem.model.mass is not None and problem.model.mass.constraints(problem.model.layout.size):
        raise OptionError("constraints leave no direction field: their states follow from the others", name="problem",
                          location="draw_field", expected="a problem without constraints, or draw_phase of its runs",
                          given=excerpt(problem.title))  # fmt: skip
    whole(2, 200)(arrows, "arrows", "draw_field", message="this number of arrows cannot be drawn")
    chosen: Any = list(problem.states[:2]) if problem.model.layout.size > 1 else [_TIME, problem.states[0]]
    time = problem.interval[0] if at is None else number_in(at, problem.units.get(_TIME, ""), "draw_field, at")
    shown = runs_of(runs, "draw_field") if runs else []
    chosen = chosen if names is None else names
    record = field_record(problem, chosen, window, shown, arrows, nullclines=nullclines, at=time)
    figure, (ax,) = figure_of(1, axes)
    if axes is None:
        figure.set_size_inches(10.4, 7.2)
    _draw(ax, record)
    if mark_equilibria(ax, equilibria, chosen, "draw_field") or record.curves or nullclines:
        legend(ax, own=False)
    return figure


def _draw(ax: Any, record: FieldRecord) -> None:
    from matplotlib.colors import LogNorm

    wide, high, speed = np.ptp(record.x), np.ptp(record.y), record.speed
    moving = np.isfinite(speed) & (speed > 0.0)
    with np.errstate(all="ignore"):
        ahead = record.along_x / wide / speed, record.along_y / high / speed
    length = 0.7 / (record.x.size - 1)
    x, y = np.meshgrid(record.x, record.y)
    shown = speed[moving]
    ranged = shown.size > 0 and shown.max() > 10.0 * shown.min()
    # of one length on the page, whatever the axes measure
    mesh = ax.quiver(
        x[moving], y[moving], ahead[0][moving] * wide * length, ahead[1][moving] * high * length, shown,
        angles="xy", scale_units="xy", scale=1.0, pivot="mid", cmap="viridis", width=0.0022,
        norm=LogNorm() if ranged else None, zorder=1,
    )  # fmt: skip
    ax.figure.colorbar(mesh, ax=ax, label="speed [widths of the window per unit of time]", pad=0.02)
    if record.nullclines is not None:
        grid_x, grid_y, *rates = record.nullclines
        for index, (rate, label) in enumerate(zip(rates, record.labels, strict=True)):
            if np.nanmin(rate) < 0.0 < np.nanmax(rate):
                line = {"colors": "0.25", "linewidths": 1.4, "linestyles": ("--", ":")[index]}
                ax.contour(grid_x, grid_y, rate, levels=[0.0], **line)
                name = label.partition(" [")[0]
                ax.plot([], [], color="0.25", linewidth=1.4, linestyle=("--", ":")[index], label=f"{name} stands still")
    for index, (label, points) in enumerate(record.curves):
        style = style_of(index + 1)
        ax.plot(*points.T, label=label, linewidth=1.9, zorder=3, **style)
        ax.plot(*points[:1].T, "o", color=style["color"], markersize=6, zorder=3, label="_nolegend_")
    ax.set_xlim(record.x[0], record.x[-1])
    ax.set_ylim(record.y[0], record.y[-1])
    ax.set_xlabel(record.labels[0], **VERBATIM)
    ax.set_ylabel(record.labels[1], **VERBATIM)
    ax.set_title(record.title, loc="left", **VERBATIM)
    finish(ax)
