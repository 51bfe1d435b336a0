"""Along which switches a solution slides, and which it leaves."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.complementarity import SLIDES, sides_that_hold
from unhurried_heron.driver.march import March
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.slide import Slide
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.model.model import Model
from unhurried_heron.model.sliding import (
    LEAVES,
    Standing,
    can_slide,
    sliding_along,
    standing_on,
    surfaces_of,
)
from unhurried_heron.model.switch_types import HeldSwitch
from unhurried_heron.problem.pointwise import surroundings

# Crossings at one time after which it is asked whether they are a sliding motion.
SOON: Final = 6
# Crossings at one time, or changes of the motion, after which the run is given up.
AT_LAST: Final = 60
# Switches that a solution stands on and that are examined, and those of them that may depend on each other.
_MAX_STANDINGS, _MAX_DEPENDENT = len(LEAVES), 12
# Crossings within this share of the interval belong to one change of the motion.
NEAR: Final = 1e-9
# A share within this of 0 or 1 has reached its border continuously.
_COMES = 1e-3


def slide_at(request: RunRequest, march: March, last: list[int]) -> Slide | None:
    """Return along what a march that crosses switches again and again slides; None where it does not.

    Parameters
    ----------
    request : RunRequest
    march : March
    last : list of int
        The switches that were crossed at this time, in their order.

    Returns
    -------
    Slide or None
    """
    beyond, context, model = march.native.beyond, march.native.context, request.problem.model
    if beyond is None or not request.held:
        return None
    if march.last("leads_back"):
        # A root at rest is slid along alone: other switches have moved on by the time the question arises.
        last = last[-1:]
    crossed = [beyond.switches[k].slot for k in dict.fromkeys(last[::-1]) if can_slide(beyond.switches[k])]  # type: ignore[attr-defined]  # held ones have a slot
    standings = standing_of(model, crossed)
    around = names_around(request, march.last("time"), march.system.state)
    around |= dict(zip(context.parameters, context.values.tolist(), strict=True))
    around |= {slot: float(context.array[index]) for slot, index in context.slots.items()}
    found = slide_along(request, standings, around, (SLIDES,) * len(standings)) if standings and crossed else None
    return found if found is not None and surfaces_of(found.model) else None


def standing_of(model: Model, crossed: list[str]) -> tuple[Standing, ...]:
    """Return the switches that are slid along and those of some slots, the last ones first, as standings."""
    surfaces = [each.switch.slot for each in surfaces_of(model)]
    whole = model.whole
    known = {each.slot: each for each in whole.rates.switches if isinstance(each, HeldSwitch)}
    found = [_standing_on(whole, known[slot]) for slot in dict.fromkeys([*surfaces, *crossed])]
    return tuple(each for each in found if each is not None)[:_MAX_STANDINGS]


def _standing_on(model: Model, switch: HeldSwitch) -> Standing | None:
    found: Standing | None = model.remembered(("standing on", switch.slot), lambda: standing_on(model, switch))
    return found


def slide_along(
    request: RunRequest, standings: tuple[Standing, ...], around: dict[str, Any], first: tuple[int, ...], free: int = -1
) -> Slide | None:
    """Return what becomes of switches that a solution stands on, by the complementarity of their speeds and shares.

    Parameters
    ----------
    request : RunRequest
    standings : tuple[Standing, ...]
    around : dict of str to float or ndarray
        The value of every name that formulas use.
    first : tuple of int
        The sides that are tried first.
    free : int, optional
        The switch that may have any share; -1 for none.

    Returns
    -------
    Slide or None
    """
    whole, choice = request.problem.model.whole, list(first)
    sign = float(np.sign(request.problem.interval[1] - request.problem.interval[0]))
    for indices in _dependent_groups(standings):
        mine, count = [standings[k] for k in indices], len(indices)
        if count > _MAX_DEPENDENT:
            return None
        sides = np.meshgrid(*[[0.0, 1.0]] * count, indexing="ij")
        corners = around | {each.switch.slot: side for each, side in zip(mine, sides, strict=True)}
        speeds = np.stack([sign * np.broadcast_to(evaluate(each.speed, corners), (2,) * count) for each in mine], -1)
        own = indices.index(free) if free in indices else -1
        found = sides_that_hold(speeds, tuple(first[k] for k in indices), own) if np.isfinite(speeds).all() else None
        if found is None:
            return None
        for k, side in zip(indices, found, strict=True):
            choice[k] = side
    along = [each.switch for each, side in zip(standings, choice, strict=True) if side == SLIDES]
    slots = tuple(each.slot for each in along)
    model = whole.remembered(("sliding", slots), lambda: sliding_along(whole, along)) if along else whole
    return None if model is None else Slide(standings, tuple(choice), model)


def _dependent_groups(standings: tuple[Standing, ...]) -> list[list[int]]:
    """Return the indices of switches in groups, of which none depends on the sides of another."""
    groups: list[tuple[set[str], list[int]]] = []
    for k, each in enumerate(standings):
        slots = {each.switch.slot, *names_in(each.speed)} & {other.switch.slot for other in standings}
        met = [group for group in groups if group[0] & slots]
        groups = [group for group in groups if group not in met]
        groups.append((slots.union(*(group[0] for group in met)), sorted([k, *(k for group in met for k in group[1])])))
    return [indices for _, indices in groups]


def names_around(request: RunRequest, time: float, state: Array) -> dict[str, Any]:
    """Return the value of every name that formulas use, and the widths of roots.

    Parameters
    ----------
    request : RunRequest
    time : float
        In the unit of the problem's time.
    state : ndarray, shape (n_states,)

    Returns
    -------
    dict[str, Any]
    """
    return surroundings(request.problem, time, state) | {**request.widths}
