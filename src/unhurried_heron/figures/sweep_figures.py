"""Figures of sweeps: a quantity against time, coloured by what varies; a number of each member over what varies."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, excerpt, listing
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, legend, style_of
from unhurried_heron.input.rules import among, instance
from unhurried_heron.sweeps.axes import MEMBER, Axis
from unhurried_heron.sweeps.dataset import TALLY, TIME
from unhurried_heron.sweeps.sweep import Sweep
from unhurried_heron.text.numbers import number, with_unit

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_A_SWEEP: Final = instance(Sweep, "a Sweep, what sweep returns")
# Curves that are told apart by a legend; more have a bar of colours.
_MAX_CURVES: Final = 7
# Panels of a figure.
_MAX_PANELS: Final = 9
# Of draws, the quantiles between which bands are drawn, the outer first.
_BANDS: Final = ((0.05, 0.95), (0.25, 0.75))
# Lines of equal value on a map.
_CONTOURS: Final = 8


@dataclass(frozen=True)
class SweepPanel:
    """One panel: curves, bands or a map.

    Attributes
    ----------
    title : str
        What is fixed in it.
    x : ndarray, shape (n_x,)
    curves : tuple of (str, float, ndarray)
        Label, value that settles the colour, and values, shape (n_x,).
    bands : tuple of (str, ndarray, ndarray)
        Label, lower and upper values.
    map_y : ndarray, shape (n_y,), or None
    map_values : ndarray, shape (n_y, n_x), or None
    """

    title: str
    x: Array
    curves: tuple[tuple[str, float, Array], ...] = ()
    bands: tuple[tuple[str, Array, Array], ...] = ()
    map_y: Array | None = None
    map_values: Array | None = None


@dataclass(frozen=True)
class SweepRecord:
    """What a figure of a sweep shows.

    Attributes
    ----------
    title, x_label, y_label : str
    colour_label : str
        What the colours tell; of a map its quantity.
    panels : tuple of SweepPanel
    bar : bool
        Whether colours are told by a bar.
    dots : bool
        Whether curves are points that are not joined, as of draws.
    """

    title: str
    x_label: str
    y_label: str
    colour_label: str
    panels: tuple[SweepPanel, ...]
    bar: bool = False
    dots: bool = False


def draw_sweep(sweep: Sweep, quantity: str | None = None, *, by: str | None = None, axes: Any = None) -> Figure:
    """Draw one quantity of all members.

    What was recorded is drawn against time, one colour for each value of what varies (with a bar of colours where
    there are many), and of draws the median with bands of quantiles. A number of each member, as a measure or
    ``final_…``, is drawn against what varies: a curve, a map over two axes, maps side by side over three.

    Parameters
    ----------
    sweep : Sweep
    quantity : str, optional
        A variable of ``sweep.dataset``, or a measure as it was said; by default the first measure, else the first
        state.
    by : str, optional
        The dimension that the colours tell, or along which a number is drawn; by default the first.
    axes : Axes or sequence of Axes, optional
        The caller's, one for each panel.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    OptionError
        There is no such quantity, or more panels than can be seen.
    """
    record = sweep_record(sweep, quantity, by)
    figure, panels = figure_of(len(record.panels), axes, shared=True)
    limits = _limits(record)
    for ax, panel in zip(panels, record.panels, strict=True):
        if panel.map_values is not None:
            _draw_map(ax, panel, record, limits)
        else:
            _draw_curves(ax, panel, record, limits)
            if not record.bar and (len(panel.curves) > 1 or panel.bands):
                legend(ax, own=axes is None)
            finish(ax)
        ax.set_ylabel(record.y_label, **VERBATIM)
        if panel.title:
            ax.set_title(panel.title, loc="right", fontsize="medium", **VERBATIM)
    panels[-1].set_xlabel(record.x_label, **VERBATIM)
    panels[0].set_title(record.title, loc="left", **VERBATIM)
    if record.bar and record.panels[0].map_values is None:
        _draw_bar(figure, panels, record, limits)
    return figure


def sweep_record(sweep: Sweep, quantity: str | None, by: str | None) -> SweepRecord:
    """Return what a figure of a sweep shows.

    Parameters
    ----------
    sweep : Sweep
    quantity : str or None
    by : str or None

    Returns
    -------
    SweepRecord

    Raises
    ------
    OptionError
    """
    _A_SWEEP(sweep, "sweep", "draw_sweep")
    name = _variable(sweep, quantity)
    axes = {axis.dimension: axis for axis in sweep.axes.axes}
    first = among(axes)(by or next(iter(axes)), "by", "draw_sweep", message="there is no such dimension")
    data = sweep.dataset[name]
    extra = [dimension for dimension in data.dims if dimension not in (*axes, TIME)]
    if extra:
        raise OptionError(f"'{name}' is an indexed state", name=name, location="draw_sweep",
                          expected="a state or derived quantity without indices", given=name)  # fmt: skip
    label = with_unit(str(data.attrs.get("long_name", name)), data.attrs.get("units", ""))
    title = f"{sweep.problem.title or 'Sweep'}: {data.attrs.get('long_name', name)}"
    if TIME in data.dims:
        return _in_time(sweep, data, axes[first], (title, label))
    return _of_numbers(sweep, data, axes[first], (title, label))


def _variable(sweep: Sweep, quantity: Any) -> str:
    """Return the variable of a quantity.

    Raises
    ------
    OptionError
    """
    by_text = {measure.text: measure.name for measure in sweep.measures}
    numeric = [str(name) for name, each in sweep.dataset.data_vars.items()
               if each.dtype.kind in "fi" and each.dims[: len(sweep.axes.axes)] == sweep.axes.dimensions]  # fmt: skip
    if quantity is None:
        recorded = [name for name in numeric if TIME in sweep.dataset[name].dims]
        return next(iter([*by_text.values(), *recorded, *numeric]))
    known = [name for name in numeric if not name.startswith(TALLY)]
    found: str = by_text.get(quantity, quantity) if isinstance(quantity, str) else quantity
    if found not in numeric:
        raise OptionError("there is no such quantity of a sweep", name="quantity", location="draw_sweep",
                          expected="one of " + listing(known), given=excerpt(quantity))  # fmt: skip
    return found


def _label(sweep: Sweep, axis: Axis) -> str:
    each = axis.variations[0]
    return with_unit(str(sweep.dataset[each.label].attrs.get("long_name", each.name)), each.unit)


def _fixed(others: list[Axis], shape: Any) -> Iterator[tuple[str, dict[str, int]]]:
    """Yield each combination of what is fixed in a panel, in words and as indices.

    Raises
    ------
    OptionError
    """
    sizes = [axis.size for axis in others]
    if int(np.prod(sizes)) > _MAX_PANELS:
        raise OptionError(f"{int(np.prod(sizes))} panels are more than can be seen", name="sweep",
                          location="draw_sweep", expected=f"at most {_MAX_PANELS} combinations of what is not drawn",
                          given=" x ".join(f"{axis.size} {axis.dimension}" for axis in others))  # fmt: skip
    for indices in itertools.product(*map(range, sizes)):
        words = ", ".join(_value(axis, index) for axis, index in zip(others, indices, strict=True))
        yield words, dict(zip((axis.dimension for axis in others), indices, strict=True))


def _value(axis: Axis, index: int) -> str:
    each = axis.variations[0]
    value = each.values[index]
    text = str(value) if isinstance(value, str) else number(float(value), 6)
    return f"{each.name} = {text} {each.unit}".rstrip()


def _in_time(sweep: Sweep, data: Any, axis: Axis, labels: tuple[str, str]) -> SweepRecord:
    """Return curves against time.

    Parameters
    ----------
    sweep : Sweep
    data : DataArray
    axis : Axis
        What the colours tell.
    labels : (str, str)
        Title and label of the quantity.

    Returns
    -------
    SweepRecord
    """
    others = [other for other in sweep.axes.axes if other is not axis]
    times, panels = data[TIME].to_numpy(), []
    drawn = axis.dimension == MEMBER
    numbers = not isinstance(axis.variations[0].values[0], str)
    for words, indices in _fixed(others, data.shape):
        rows = data.isel(indices).transpose(axis.dimension, TIME).to_numpy()
        if drawn and axis.size > _MAX_CURVES:
            bands = tuple(
                (f"{low:.0%} to {high:.0%}", _quantile(rows, low), _quantile(rows, high)) for low, high in _BANDS
            )
            panels.append(SweepPanel(words, times, (("median", 0.0, _quantile(rows, 0.5)),), bands))
            continue
        curves = []
        for k in range(axis.size):
            shade = float(axis.variations[0].values[k]) if numbers and not drawn else float(k)
            curves.append((f"member {k}" if drawn else _value(axis, k), shade, rows[k]))
        panels.append(SweepPanel(words, times, tuple(curves)))
    bar = numbers and not drawn and axis.size > _MAX_CURVES
    time_label = with_unit("time", sweep.problem.units.get("t", ""))
    return SweepRecord(labels[0], time_label, labels[1], "" if drawn else _label(sweep, axis), tuple(panels), bar)


def _quantile(rows: Array, share: float) -> Array:
    """Return a quantile over members at each time, of those that were there; NaN where none was."""
    known = np.isfinite(rows).any(axis=0)
    found = np.full(rows.shape[1], np.nan)
    found[known] = np.nanquantile(rows[:, known], share, axis=0)
    return found


def _of_numbers(sweep: Sweep, data: Any, axis: Axis, labels: tuple[str, str]) -> SweepRecord:
    """Return a number of each member against what varies.

    Parameters
    ----------
    sweep : Sweep
    data : DataArray
    axis : Axis
        Along which it is drawn.
    labels : (str, str)
        Title and label of the number.

    Returns
    -------
    SweepRecord
    """
    title, label = labels
    others = [other for other in sweep.axes.axes if other is not axis]
    # what has no numbers cannot be an axis of a map
    across = next((other for other in others if other.variations[0].values.dtype.kind == "f" and other.size > 1), None)
    x, panels = _positions(axis), []
    order = np.argsort(x)
    if across is None or axis.dimension == MEMBER or across.dimension == MEMBER:
        for words, indices in _fixed(others, data.shape):
            values = data.isel(indices).to_numpy()
            panels.append(SweepPanel(words, x[order], ((label, 0.0, values[order]),)))
        dots = axis.dimension == MEMBER or axis.variations[0].values.dtype.kind != "f"
        return SweepRecord(title, _label(sweep, axis), label, "", tuple(panels), dots=dots)
    rest = [other for other in others if other is not across]
    y = _positions(across)
    for words, indices in _fixed(rest, data.shape):
        values = data.isel(indices).transpose(across.dimension, axis.dimension).to_numpy()
        ordered = values[np.ix_(np.argsort(y), order)]
        panels.append(SweepPanel(words, x[order], map_y=np.sort(y), map_values=ordered))
    return SweepRecord(title, _label(sweep, axis), _label(sweep, across), label, tuple(panels), bar=True)


def _positions(axis: Axis) -> Array:
    values = axis.variations[0].values
    return (
        np.asarray(values, dtype=np.float64) if values.dtype.kind == "f" else np.arange(len(values), dtype=np.float64)
    )


def _limits(record: SweepRecord) -> tuple[float, float]:
    """Return the least and the largest value that the colours tell."""
    maps = [panel.map_values[np.isfinite(panel.map_values)] for panel in record.panels if panel.map_values is not None]
    shade = [value for panel in record.panels for _, value, _ in panel.curves]
    values = np.concatenate(maps) if maps else np.array(shade)
    return (float(values.min()), float(values.max())) if values.size else (0.0, 1.0)


def _draw_curves(ax: Axes, panel: SweepPanel, record: SweepRecord, limits: tuple[float, float]) -> None:
    """Draw curves, over bands of quantiles where there are any.

    Parameters
    ----------
    ax : Axes
    panel : SweepPanel
    record : SweepRecord
    limits : (float, float)
        The least and the largest value that the colours tell.
    """
    from matplotlib import colormaps

    for index, (label, low, high) in enumerate(panel.bands):
        ax.fill_between(panel.x, low, high, color=style_of(0)["color"], alpha=0.18 + 0.17 * index, linewidth=0,
                        label=label)  # fmt: skip
    span = limits[1] - limits[0]
    for index, (label, value, values) in enumerate(panel.curves):
        style = style_of(index)
        if record.bar:
            style = {"color": colormaps["viridis"]((value - limits[0]) / span if span else 0.5)}
        if record.dots:
            ax.plot(panel.x, values, "o", markersize=3 if panel.x.size > 200 else 5, color=style["color"], label=label)
            continue
        few: dict[str, Any] = {"marker": "o", "markersize": 5} if len(panel.curves) == 1 and not panel.bands else {}
        ax.plot(panel.x, values, label=label, linewidth=1.8 if not record.bar else 1.2, **style, **few)


def _draw_map(ax: Axes, panel: SweepPanel, record: SweepRecord, limits: tuple[float, float]) -> None:
    """Draw a map with lines of equal value.

    Parameters
    ----------
    ax : Axes
    panel : SweepPanel
    record : SweepRecord
    limits : (float, float)
        The least and the largest value that the colours tell.
    """
    values, across = np.asarray(panel.map_values), np.asarray(panel.map_y)
    mesh = ax.pcolormesh(panel.x, across, values, shading="nearest", cmap="viridis", vmin=limits[0],
                         vmax=limits[1], rasterized=True)  # fmt: skip
    if min(values.shape) > 1 and limits[1] > limits[0]:
        lines = ax.contour(panel.x, across, values, levels=_CONTOURS, colors="white", linewidths=0.8)
        ax.clabel(lines, fontsize="small")
    ax.figure.colorbar(mesh, ax=ax, pad=0.02).set_label(record.colour_label, **VERBATIM)


def _draw_bar(figure: Figure, panels: list[Axes], record: SweepRecord, limits: tuple[float, float]) -> None:
    """Draw a bar of colours beside all panels.

    Parameters
    ----------
    figure : Figure
    panels : list of Axes
    record : SweepRecord
    limits : (float, float)
        The least and the largest value that the colours tell.
    """
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize

    colours = ScalarMappable(Normalize(*limits), "viridis")
    figure.colorbar(colours, ax=panels, pad=0.02).set_label(record.colour_label, **VERBATIM)
