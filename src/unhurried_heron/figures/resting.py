"""Equilibria marked in figures of states against states."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Final

from unhurried_heron.dynamics.equilibrium import Equilibria
from unhurried_heron.errors import OptionError, listing
from unhurried_heron.input.rules import instance

_EQUILIBRIA: Final = instance(Equilibria, "what equilibria returns")
_COLOUR: Final = "#000000"
# Filled where it is stable; ways in and out make a cross.
_MARKERS: Final[dict[str, dict[str, Any]]] = {
    "stable": {"marker": "o", "markerfacecolor": _COLOUR},
    "unstable": {"marker": "o", "markerfacecolor": "white"},
    "saddle": {"marker": "X", "markerfacecolor": "white"},
    "open": {"marker": "D", "markerfacecolor": "white"},
}


def mark_equilibria(ax: Any, equilibria: Equilibria | None, names: Sequence[str], location: str) -> bool:
    """Mark equilibria, each kind once in the legend; return whether there were any.

    Parameters
    ----------
    ax : Axes
    equilibria : Equilibria or None
    names : sequence of str
        The states along the axes, two or three.
    location : str
        The function, for messages.

    Returns
    -------
    bool

    Raises
    ------
    OptionError
        These are none, or an axis is no state.
    """
    if equilibria is None:
        return False
    _EQUILIBRIA(equilibria, "equilibria", location, message="these are no equilibria")
    others = [name for name in names if name not in equilibria.problem.states]
    if others:
        raise OptionError(f"equilibria have no '{others[0]}'", name="equilibria", location=location,
                          expected="axes that are states: " + listing(equilibria.problem.states),
                          given=others[0])  # fmt: skip
    known: set[str] = set()
    for each in equilibria:
        kind = (
            "saddle"
            if each.kind.startswith("saddle")
            else {True: "stable", False: "unstable", None: "open"}[each.stable]
        )
        label = "_nolegend_" if each.words in known else each.words
        known.add(each.words)
        point = [[each[name]] for name in names]
        ax.plot(*point, linestyle="none", markeredgecolor=_COLOUR, markeredgewidth=1.4, markersize=9, zorder=6,
                label=label, **_MARKERS[kind])  # fmt: skip
    return bool(known)
