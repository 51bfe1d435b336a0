"""Where a solution leaves a switch that it slides along: its share, a jump of the switch, and what comes then."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.complementarity import SLIDES
from unhurried_heron.driver.event_continuation import final_modes
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.slide import Slide
from unhurried_heron.driver.slide_detection import (
    _COMES,
    NEAR,
    names_around,
    slide_along,
    standing_of,
)
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.input.event import Event
from unhurried_heron.model.model import Model
from unhurried_heron.model.sliding import (
    JUMPS,
    LEEWAY,
    Sliding,
    Standing,
    sliding_along,
    surfaces_of,
)
from unhurried_heron.model.switch_types import HeldSwitch
from unhurried_heron.problem.jump_sides import going_on
from unhurried_heron.run.run import Run

# Tolerances beyond which a state is no longer on a switch.
_AWAY = 100.0


def jumps(request: RunRequest, run: Run, model: Model) -> tuple[Event, ...]:
    """Return the events at which what a solution slides along may jump away from it.

    Parameters
    ----------
    request : RunRequest
    run : Run
        As far as it came.
    model : Model

    Returns
    -------
    tuple of Event
    """
    made = model.made_by(Sliding)
    if made is None:
        return ()
    names, problem = names_in(*(each.gap for each in made.surfaces)), request.problem
    now, end = run.data.trajectory.end_time, problem.interval[1]
    rows = [table.kinks for key, table in problem.inputs.items() if key in names and not table.smoothness]
    times = np.concatenate([np.empty(0), *rows])
    times = times[(np.minimum(now, end) < times) & (times < np.maximum(now, end))]
    beside = JUMPS[: len(made.beside)]
    if not times.size:
        return beside
    # the march stops at the next one
    return (*beside, Event(at=float(times[np.argmin(np.abs(times - now))]), name="jumps beside", stop=True))


def slide_beyond_jump(request: RunRequest, run: Run, model: Model, roots: dict[str, float]) -> Slide | None:
    """Return what becomes of switches that were slid along and have jumped away; None where none has.

    Parameters
    ----------
    request : RunRequest
    run : Run
        Its end is there.
    model : Model
    roots : dict of str to float
        As `RunRequest.roots`.

    Returns
    -------
    Slide or None
    """
    around, standings = around_end(request, run, model, roots), surfaces_of(model)
    state = run.data.trajectory.end_state
    choice = [SLIDES] * len(standings)
    for k, each in enumerate(standings):
        gap, square = float(evaluate(each.gap, around)), allowed(request, state, each, around)[1]
        if gap * gap > _AWAY * _AWAY * square:
            choice[k] = int(gap > 0.0)
    if all(side == SLIDES for side in choice):
        return None
    along = [each.switch for each, side in zip(standings, choice, strict=True) if side == SLIDES]
    return Slide(standings, tuple(choice), sliding_along(model.whole, along) or model.whole)


def inconsistent_switch(request: RunRequest, run: Run, model: Model, roots: dict[str, float]) -> int | None:
    """Return a switch whose share is outside 0 to 1 where a motion along it begins; None where it can begin.

    Other switches that were crossed at the same time may have changed it since the motion was found.

    Parameters
    ----------
    request : RunRequest
    run : Run
    model : Model
    roots : dict of str to float
        As `RunRequest.roots`.

    Returns
    -------
    int or None
    """
    around = names_around(request, run.data.trajectory.end_time, run.data.trajectory.end_state) | final_modes(run)
    around |= switch_values(model.whole, around) | roots
    for index, surface in enumerate(surfaces_of(model)):
        if not -LEEWAY <= float(evaluate(surface.share, around)) <= 1.0 + LEEWAY:
            return index
    return None


def slide_after_leaving(request: RunRequest, run: Run, model: Model, index: int, roots: dict[str, float]) -> Slide:
    """Return what becomes of the switches at the end of a run that leaves one of those it slides along.

    Parameters
    ----------
    request : RunRequest
    run : Run
    model : Model
    index : int
        The switch that is left.
    roots : dict of str to float
        As `RunRequest.roots`.

    Returns
    -------
    Slide
    """
    crossed = list[str]()
    around = around_end(request, run, model, roots, crossed)
    standings = standing_of(model, crossed)
    surfaces = surfaces_of(model)
    gone = surfaces[index]
    share = float(evaluate(gone.share, around))
    free = next(k for k, each in enumerate(standings) if each.switch.slot == gone.switch.slot)
    first = [SLIDES if k < len(surfaces) else int(around[each.switch.slot]) for k, each in enumerate(standings)]
    first[free] = int(share > 0.5)
    comes = min(abs(share), abs(share - 1.0)) <= _COMES
    slide = slide_along(request, standings, around, tuple(first), free if comes else -1)
    if slide is not None:
        return slide
    along = [each.switch for each, side in zip(standings, first, strict=True) if side == SLIDES]
    return Slide(standings, tuple(first), sliding_along(model.whole, along) or model.whole)


def around_end(
    request: RunRequest, run: Run, model: Model, roots: dict[str, float], crossed: list[str] | None = None
) -> dict[str, Any]:
    """Return the value of every name at the end of a run, switches on the side to which they were crossed last.

    Parameters
    ----------
    request : RunRequest
    run : Run
    model : Model
    roots : dict of str to float
        As `RunRequest.roots`.
    crossed : list of str, optional
        Is filled with the switches that were crossed there, the last one first.

    Returns
    -------
    dict of str to float or ndarray
    """
    found, end = run.data.switch_log, run.data.trajectory.end_time
    time = going_on(end, request.problem.interval)
    known = {each.text: each for each in model.whole.rates.switches if isinstance(each, HeldSwitch)}
    around = names_around(request, time, run.data.trajectory.end_state) | final_modes(run)
    around |= switch_values(model.whole, around) | roots
    for row in np.flatnonzero(np.abs(found.times - end) <= tolerance_in_time(run)):
        switch = known.get(found.texts[found.which[row]])
        if switch is not None:
            around[switch.slot] = switch.as_written(float(found.values[row]))
            if crossed is not None:
                crossed.insert(0, switch.slot)
    return around


def allowed(request: RunRequest, state: Array, standing: Standing, around: dict[str, Any]) -> tuple[Array, float]:
    """Return how states move to change the formula of a switch within their tolerances, and the square of that change.

    Parameters
    ----------
    request : RunRequest
    state : ndarray, shape (n_states,)
    standing : Standing
    around : dict of str to float or ndarray

    Returns
    -------
    (ndarray, float)
    """
    partials = np.zeros(state.size)
    for index, node in standing.partials:
        partials[index] = float(evaluate(node, around))
    moves = (request.relative * np.abs(state) + request.absolute + 1e-300) ** 2 * partials
    return moves, float(partials @ moves)


def switch_values(model: Model, around: dict[str, Any]) -> dict[str, float]:
    """Return the values of the switches at a time and a state."""
    return {
        each.slot: float(evaluate(each.live, around)) for each in model.rates.switches if isinstance(each, HeldSwitch)
    }


def tolerance_in_time(run: Run) -> float:
    """Return within what time of the end of a run crossings belong to one change of the motion."""
    return NEAR * abs(run.data.trajectory.end_time - run.problem.interval[0])
