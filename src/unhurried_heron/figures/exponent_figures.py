"""Lyapunov exponents against the time over which they were found."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.dynamics.exponents import Exponents
from unhurried_heron.figures.figures import VERBATIM, figure_of, finish, legend, style_of
from unhurried_heron.input.rules import instance
from unhurried_heron.text.numbers import with_unit

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_EXPONENTS: Final = instance(Exponents, "what exponents returns")


def draw_exponents(exponents: Exponents, *, axes: Any = None) -> Figure:
    """Draw how Lyapunov exponents converge: what they would have been with less time, with their intervals.

    Parameters
    ----------
    exponents : Exponents
    axes : Axes, optional
        The caller's.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    OptionError
        These are no exponents.
    """
    _EXPONENTS(exponents, "exponents", "draw_exponents", message="these are no exponents")
    figure, (ax,) = figure_of(1, axes)
    problem = exponents.problem
    unit = problem.units.get("t", "")
    order = (-exponents.convergence[-1]).argsort(kind="stable")
    for k, (value, width) in enumerate(zip(exponents.values, exponents.half_widths, strict=True)):
        style = style_of(k)
        ax.plot(exponents.times, exponents.convergence[:, order[k]], linewidth=1.6,
                label=f"{value:.4g} ± {width:.2g}", **style)  # fmt: skip
        ax.axhspan(value - width, value + width, color=style["color"], alpha=0.15, linewidth=0)
    ax.set_xscale("log")
    ax.axhline(0.0, color="0.4", linewidth=0.8)
    ax.set_xlabel(with_unit("time", unit), **VERBATIM)
    ax.set_ylabel(with_unit("Lyapunov exponents", f"1/{unit}" if unit else ""), **VERBATIM)
    ax.set_title(f"{problem.title or 'Lyapunov exponents'}: {exponents.verdict}", loc="left", **VERBATIM)
    legend(ax, own=axes is None)
    finish(ax)
    return figure
