"""Figures of the plane of h lambda: regions of methods over each other, and a run in the region of its method."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.errors import RunError
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, legend, style_of
from unhurried_heron.input.rules import TRUTH, several
from unhurried_heron.methods.method import Method, is_method
from unhurried_heron.run.run import Run
from unhurried_heron.stability.regions import Stability, Window, checked_window, stability
from unhurried_heron.stability.stability_limited_steps import StabilityLimitedSteps, stability_limited_steps
from unhurried_heron.stability.step_limit import LargestStep
from unhurried_heron.text.numbers import with_unit

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Points of a region in each direction.
_POINTS: Final = 500
# More regions than this are drawn by
_BORDERS: Final = 7
# this many of them, chosen by their size.
_OF_MANY: Final = 4
# Opacity of a region, through which what lies below is seen.
_FADED: Final = 0.1
# Height of a figure of regions in inches.
_TALL: Final = 8.0
# Inches beside the plane.
_BESIDE: Final = 3.4
# The largest width in inches.
_WIDE: Final = 12.8


def draw_stability(
    methods: str | Method | Stability | Iterable[str | Method | Stability],
    *,
    window: Window | None = None,
    order_star: bool = False,
    axes: Any = None,
) -> Figure:
    """Draw the borders of the stability regions of methods over each other; each is stable on its shaded side.

    Parameters
    ----------
    methods : str, Method or Stability, or several
    window : ((left, right), (bottom, top)), optional
        Of the plane of z = h lambda; by default what shows all regions.
    order_star : bool
        Draw where |R(z)| > |exp(z)| instead (G. Wanner, E. Hairer and S. P. Norsett, BIT 18 (1978) 475-489).
    axes : Axes, optional

    Returns
    -------
    Figure

    Raises
    ------
    MethodError
        A method is unknown, or does not tell its stability function.
    OptionError
        The window has no extent.
    """
    single = isinstance(methods, str | Stability) or is_method(methods)
    listed: Any = [methods] if single else several("methods")(methods, "methods", "draw_stability")
    regions = [each if isinstance(each, Stability) else stability(each) for each in listed]
    around = _around([each.window for each in regions])
    shown = checked_window(around if window is None else window)
    order_star = TRUTH(order_star, "order_star", "draw_stability")
    figure, ax = _plane(shown, axes)
    for index, region in enumerate(regions):
        found = region.map(shown, _POINTS)
        values = found.amplification
        if order_star:
            values = values / np.exp(found.x)
        _draw_border(ax, found.x, found.y, np.nan_to_num(values, nan=1e9, posinf=1e9), index, region)
    _finish_plane(ax, shown)
    what = "Order star" if order_star else "Stability region"
    ax.set_title(f"{what}s" if len(regions) > 1 else f"{what} of {regions[0].name}", loc="left", **VERBATIM)
    legend(ax, own=axes is None)
    return figure


def _draw_border(ax: Axes, x: Any, y: Any, values: Any, index: int, region: Stability) -> None:
    """Draw the border of a stability region.

    Parameters
    ----------
    ax : Axes
    x : ndarray, shape (m,)
    y : ndarray, shape (k,)
    values : ndarray, shape (k, m)
        The amplification.
    index : int
        Of the style.
    region : Stability
    """
    style = style_of(index)
    ax.contourf(x, y, values, levels=[-1.0, 1.0], colors=[style["color"]], alpha=_FADED)
    ax.contour(x, y, values, levels=[1.0], colors=[style["color"]], linestyles=[style["linestyle"]], linewidths=1.8)
    ax.plot([], [], label=region.name, linewidth=1.8, **style)
    if region.region.real == 0.0 and np.isfinite(region.region.imaginary):
        # all of it, where it is a part of the axis, which has no border
        ax.plot(
            [0.0, 0.0],
            [-region.region.imaginary, region.region.imaginary],
            linewidth=max(2.0, 8.0 - 2.5 * index),
            **style,
        )


def _finish_plane(ax: Axes, window: Window) -> None:
    ax.axhline(0.0, color="0.4", linewidth=0.8, zorder=1)
    ax.axvline(0.0, color="0.4", linewidth=0.8, zorder=1)
    ax.set_xlim(*window[0])
    ax.set_ylim(*window[1])
    ax.set_aspect("equal", adjustable="box")
    ax.set_xlabel("real part of h λ")
    ax.set_ylabel("imaginary part of h λ")
    finish(ax)


def _around(windows: Sequence[Window]) -> Window:
    sides = np.array(windows)
    left, right, top = float(sides[:, 0, 0].min()), float(sides[:, 0, 1].max()), float(sides[:, 1, 1].max())
    return (left, right), (-top, top)


def draw_run_in_region(
    run: Run | StabilityLimitedSteps | LargestStep, *, window: Window | None = None, axes: Any = None
) -> Figure:
    """Draw the eigenvalues along a run times its steps, coloured by time, over the region of the method.

    Of a largest stable step, the eigenvalues times that step.

    Points crowded at the border tell that stability held the steps back; points far inside, that accuracy did.

    Parameters
    ----------
    run : Run | StabilityLimitedSteps | LargestStep
    window : Window or None, optional
    axes : Axes or sequence of Axes, optional
        The caller's; None for a figure of its own.

    Returns
    -------
    Figure

    Raises
    ------
    RunError
        The run kept neither its steps nor a ledger.
    """
    given = run.steps() if isinstance(run, LargestStep) else run
    found = given if isinstance(given, StabilityLimitedSteps) else stability_limited_steps(given)
    if not found.times.size:
        raise RunError("there is no step to draw", name="run", location="draw_run_in_region", given="none",
                       expected="a run of one step at least")  # fmt: skip
    points = found.z[np.isfinite(found.z).all(axis=1)]
    shown = checked_window(window) if window is not None else _holding(found, points)
    figure, ax = _plane(shown, axes)
    for index, region in enumerate(_some(found.regions)):
        drawn = region.map(shown, _POINTS)
        values = np.nan_to_num(drawn.amplification, nan=1e9, posinf=1e9)
        _draw_border(ax, drawn.x, drawn.y, values, index, region)
    times = np.repeat(found.times[:, None], found.z.shape[1], axis=1)
    dots = ax.scatter(found.z.real, found.z.imag, c=times, s=26, cmap="viridis", zorder=3, linewidths=0.4, ec="white")
    ax.figure.colorbar(dots, ax=ax, label=with_unit("time", found.unit), pad=0.02, shrink=0.8)
    _finish_plane(ax, shown)
    names = list(dict.fromkeys(region.name for region in found.regions))
    subtitle = f"{100 * found.share:.3g} % of the steps limited by stability"
    if isinstance(run, LargestStep):
        subtitle = f"the largest stable step, {run.step:.4g}, {'seen' if run.confirmed else 'foreseen'}"
    subject = ", ".join(filter(None, (found.title, names[0] if len(names) == 1 else "")))
    ax.set_title(f"{subject}\n{subtitle}" if subject else subtitle, loc="left", **VERBATIM)
    if len(names) > 1:
        legend(ax, own=False)
    return figure


def _some(regions: tuple[Stability, ...]) -> list[Stability]:
    """Return all regions of a few, and of many some, from the smallest to the largest."""
    if len(regions) <= _BORDERS:
        return list(regions)
    by_size = sorted(regions, key=lambda region: region.region.real)
    return [by_size[k] for k in np.linspace(0, len(regions) - 1, _OF_MANY).round().astype(int)]


def _plane(window: Window, axes: Any) -> tuple[Figure, Axes]:
    """Return a figure as wide as the plane needs that is drawn with equal units, or the caller's axes."""
    if axes is not None:
        figure, (ax,) = figure_of(1, axes)
        return figure, ax
    from matplotlib.figure import Figure

    (left, right), (bottom, top) = window
    across = (_TALL - 1.2) * (right - left) / (top - bottom)
    wide = min(_WIDE, across + _BESIDE)
    tall = min(_TALL, 1.2 + (wide - _BESIDE) * (top - bottom) / (right - left))
    made = Figure(figsize=(wide, max(tall, 4.5)), dpi=100, layout="constrained")
    return made, made.subplots()


def _holding(found: StabilityLimitedSteps, points: Any) -> Window:
    """Return a window with the regions and nearly all points; those far out would hide the rest."""
    (left, right), (_, top) = _around([each.window for each in found.regions])
    if points.size:
        left = min(left, max(float(np.quantile(points.real, 0.02)), 4.0 * left))
        right = max(right, min(float(np.quantile(points.real, 0.98)), 2.0 * max(right, 1.0)))
        top = max(top, min(float(np.quantile(np.abs(points.imag), 0.98)), 2.0 * top))
    return (left, right), (-top, top)
