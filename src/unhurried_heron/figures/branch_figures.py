"""Bifurcation diagrams: branches of equilibria over a parameter, with folds, branch points and Hopf points."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.dynamics.branch import Branches
from unhurried_heron.dynamics.cycle import Cycle
from unhurried_heron.errors import OptionError, excerpt, listing
from unhurried_heron.figures.figures import COLOURS, VERBATIM, figure_of, finish, legend
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.rules import among, instance
from unhurried_heron.text.numbers import with_unit

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_BRANCHES: Final = instance(Branches, "what equilibria returns over a parameter")
_CYCLE: Final = instance(Cycle, "what cycle returns")
# Panels that are drawn where no state is named.
_MAX_PANELS: Final = 4
# How each kind is marked; of Hopf points those whose cycles are stable are filled.
_MARKERS: Final[dict[str, dict[str, Any]]] = {
    "fold": {"marker": "s", "markerfacecolor": "white", "markersize": 8},
    "branch point": {"marker": "X", "markerfacecolor": "white", "markersize": 10},
    "Hopf point": {"marker": "D", "markerfacecolor": "0.7", "markersize": 8},
    "Hopf point, supercritical": {"marker": "D", "markerfacecolor": "black", "markersize": 8},
    "Hopf point, subcritical": {"marker": "D", "markerfacecolor": "white", "markersize": 8},
    "corner": {"marker": "^", "markerfacecolor": "white", "markersize": 8},
}


def draw_branches(branches: Branches, *names: str, cycles: Sequence[Cycle] = (), axes: Any = None) -> Figure:
    """Draw equilibria over a parameter: stable ones as full lines, the others dashed, bifurcations marked.

    Parameters
    ----------
    branches : Branches
        What `equilibria` returns over a parameter.
    *names : str
        States, a panel for each; by default all, or the first four.
    cycles : sequence of Cycle, optional
        Of the same problem with other values of the parameter: their largest and smallest values are drawn as dots,
        filled where they are stable.
    axes : Axes or sequence of Axes, optional
        The caller's, one for each panel.

    Returns
    -------
    matplotlib.figure.Figure

    Raises
    ------
    OptionError
        These are no branches or cycles, or there is no such state.
    """
    _BRANCHES(branches, "branches", "draw_branches", message="these are no branches")
    states, parameter = branches.problem.states, branches.parameter
    for name in names:
        among(states)(name, "names", "draw_branches", message=f"there is no state '{excerpt(name)}'")
    for each in cycles:
        _CYCLE(each, "cycles", "draw_branches", message="this is no cycle")
        if each.problem.states != states or parameter not in each.problem.parameters:
            raise OptionError("a cycle is of another problem", name="cycles", location="draw_branches",
                              expected="cycles of the problem whose branches are drawn",
                              given=listing(each.problem.states))  # fmt: skip
    shown = names or states[:_MAX_PANELS]
    figure, panels = figure_of(len(shown), axes)
    if axes is None and len(shown) == 1:
        figure.set_size_inches(11.0, 7.0)
    units = branches.problem.units
    for ax, name in zip(panels, shown, strict=True):
        _draw_lines(ax, branches, states.index(name))
        _draw_cycles(ax, branches, cycles, name)
        _draw_marks(ax, branches, name)
        ax.set_ylabel(with_unit(name, units.get(group_of(name), "")), **VERBATIM)
        ax.set_xlim(*branches.over)
        finish(ax)
    if branches.branches or cycles:
        legend(panels[0], own=axes is None)
    panels[-1].set_xlabel(with_unit(parameter, units.get(parameter, "")), **VERBATIM)
    panels[0].set_title(
        f"{branches.problem.title or 'Equilibria'}: equilibria over {parameter}", loc="left", **VERBATIM
    )
    return figure


def _draw_lines(ax: Axes, branches: Branches, index: int) -> None:
    """Draw a state along all branches.

    Parameters
    ----------
    ax : Axes
    branches : Branches
    index : int
        Of the state.
    """
    known: set[bool] = set()
    for branch in branches:
        for stable, part in branch.stretches:
            label = "_nolegend_" if stable in known else "stable" if stable else "unstable"
            known.add(stable)
            style: dict[str, Any] = {"color": COLOURS[0], "linewidth": 2.2}
            if not stable:
                style = {"color": COLOURS[1], "linewidth": 1.6, "linestyle": (0, (5, 2.5))}
            ax.plot(branch.values[part], branch.states[part, index], label=label, **style)


def _draw_cycles(ax: Axes, branches: Branches, cycles: Sequence[Cycle], name: str) -> None:
    """Draw the largest and smallest values of cycles.

    Parameters
    ----------
    ax : Axes
    branches : Branches
    cycles : sequence of Cycle
    name : str
        The state.
    """
    for stable, label in ((True, "stable cycle, largest and smallest"), (False, "cycle, unstable or not told")):
        own = [each for each in cycles if bool(each.stable) is stable]
        if own:
            at = np.array([each.problem.parameters[branches.parameter] for each in own])
            ends = np.array([each.extent(name) for each in own])
            ax.plot(np.tile(at, 2), ends.T.ravel(), "o", markersize=4.5, color=COLOURS[2],
                    markerfacecolor=COLOURS[2] if stable else "white", label=label)  # fmt: skip


def _draw_marks(ax: Axes, branches: Branches, name: str) -> None:
    """Mark bifurcations, each kind once in the legend.

    Parameters
    ----------
    ax : Axes
    branches : Branches
    name : str
        The state.
    """
    known: set[str] = set()
    for each in branches.bifurcations:
        label = "_nolegend_" if each.words in known else each.words
        known.add(each.words)
        ax.plot([each.value], [each[name]], linestyle="none", markeredgecolor="black", markeredgewidth=1.4, zorder=6,
                label=label, clip_on=False, **_MARKERS[each.words])  # fmt: skip
