"""Bifurcation pictures from sections: where the solutions of a sweep pass an event, over what varies."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.errors import OptionError, as_text, excerpt, listing
from unhurried_heron.figures.figures import COLOURS, VERBATIM, figure_of, finish
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.rules import among, instance
from unhurried_heron.sweeps.sweep import Sweep
from unhurried_heron.text.numbers import with_unit
from unhurried_heron.units.quantities import number_in

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_A_SWEEP: Final = instance(Sweep, "a Sweep, what sweep returns")
# Points above which they are drawn as small as can be.
_MANY: Final = 3000


def draw_sections(
    sweep: Sweep, event: str, name: str | None = None, *, after: float | str | None = None, axes: Any = None
) -> Figure:
    """Draw a state wherever an event happened, over the parameter that varies.

    Where solutions cycle, there are as many points above a value as the event happens in a turn; where they are
    chaotic, there is a cloud.

    Parameters
    ----------
    sweep : Sweep
        Over one parameter, or starting value.
    event : str
        Its name: where solutions pass it, the section is taken.
    name : str, optional
        The state that is drawn; by default the first.
    after : float or str, optional
        Only what happened from this time on, also with a unit; by default in the second half of the interval.
    axes : Axes, optional
        The caller's.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    OptionError
        There is no such event or state, or several things vary.
    """
    _A_SWEEP(sweep, "sweep", "draw_sections")
    problem, varied = sweep.problem, sweep.axes.axes
    among([each.name for each in problem.events])(event, "event", "draw_sections",
                                                  message=f"there is no event '{as_text(event)}'")  # fmt: skip
    shown = among(problem.states)(problem.states[0] if name is None else name, "name", "draw_sections",
                                  message=f"there is no state '{as_text(name)}'")  # fmt: skip
    axis = varied[0].variations[0]
    if len(varied) != 1 or axis.values.dtype.kind != "f":
        raise OptionError("sections are drawn over one number that varies", name="sweep", location="draw_sections",
                          expected="a sweep over one parameter or starting value",
                          given=listing([each.dimension for each in varied]))  # fmt: skip
    start, end = problem.interval
    unit = problem.units.get("t", "")
    since: Any = 0.5 * (start + end) if after is None else after
    if isinstance(since, str):
        since = number_in(since, unit, "after")
    if not isinstance(since, int | float) or not np.isfinite(since):
        raise OptionError("this is no time", name="after", location="draw_sections", expected="a time of the interval",
                          given=excerpt(after))  # fmt: skip
    frame = sweep.events
    own = frame[(frame["name"] == event) & ((frame["time"] - since) * np.sign(end - start) >= 0.0)]
    figure, (ax,) = figure_of(1, axes)
    if axes is None:
        figure.set_size_inches(11.0, 7.0)
    size = 1.5 if len(own) > _MANY else 3.5
    ax.plot(own[axis.label], own[shown], "o", markersize=size, markeredgewidth=0, color=COLOURS[0])
    label = str(sweep.dataset[axis.label].attrs.get("long_name", axis.name))
    ax.set_xlabel(with_unit(label, axis.unit), **VERBATIM)
    ax.set_ylabel(with_unit(f"{shown} at '{event}'", problem.units.get(group_of(shown), "")), **VERBATIM)
    ax.set_title(f"{problem.title or 'Sweep'}: {shown} at '{event}'", loc="left", **VERBATIM)
    finish(ax)
    return figure
