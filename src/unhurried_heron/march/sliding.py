"""Going on along a switch to which both sides lead back, until one of them leads away."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Final

import numpy as np

from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.layout import Values
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.march.asked import Asked
from unhurried_heron.march.endings import Stop, ending_of
from unhurried_heron.march.joining import joined
from unhurried_heron.march.layout import March
from unhurried_heron.march.onwards import met_at_end, modes_left, onwards, seen_by
from unhurried_heron.march.options import Budget
from unhurried_heron.march.widths import widths_of
from unhurried_heron.model.model import Model
from unhurried_heron.model.sliding import LEAVES, SlidingModel, Surface, sliding_along, sliding_model
from unhurried_heron.model.switch import HeldSwitch
from unhurried_heron.problem.at_places import surroundings
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.happened import Crossed
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array
from unhurried_heron.words.event import Event

# so many crossings of one switch in one place are looked at, and so many at most
SOON, AT_LAST = 6, 60
_SLIDES: Final = ": sliding"
Once = Callable[[Asked], tuple[Run, "Slide | None", int]]


@dataclass(frozen=True)
class Slide:
    """Where a run begins to slide: the switch, and the model along it and those that it slides along already."""

    switch: HeldSwitch
    model: SlidingModel

    @property
    def text(self) -> str:
        """The switch in words."""
        return self.switch.text


def slide_at(asked: Asked, march: March, last: list[int]) -> Slide | None:
    """Return along what a march that crosses one switch again and again slides; None where it does not.

    ``last``: the numbers of the last two switches that were crossed.
    """
    beyond = march.native.beyond
    if beyond is None or not asked.held or len(last) < 2:
        return None
    switch = beyond.switches[int(last[1])]
    if last[0] != last[1] or not isinstance(switch, HeldSwitch):
        return None
    problem, context = asked.problem, march.native.context
    model = problem.model.remembered(("sliding", switch.slot), lambda: sliding_model(problem.model, switch))
    if model is None:
        return None
    around = _around(asked, march.last("time"), march.system.state)
    around |= dict(zip(context.parameters, context.values.tolist(), strict=True))
    around |= {slot: float(context.array[place]) for slot, place in context.slots.items()}
    sign = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
    above, below = (sign * float(evaluate(node, around)) for node in (model.above, model.below))
    return Slide(switch, model) if above < 0.0 < below else None


def _around(asked: Asked, time: float, state: Array) -> dict[str, Any]:
    return surroundings(asked.problem, time, state) | widths_of(asked)


def goes_on_sliding(asked: Asked, run: Run, slide: Slide, once: Once) -> Run:
    """Return a whole run, which slides along switches, and leaves them, as often as it has to."""
    whole, events, model = _without_chatter(run, slide.text), asked.events, slide.model
    end = asked.problem.interval[1]
    while whole._trajectory.end_time != end:
        # what acts may jump off the switch
        along = [replace(event, stop=True) if event.then is not None else event for event in events]
        part, again, stopped = once(_from(asked, whole, model, (*along, *LEAVES[: len(model.surfaces)])))
        part = part if again is None else _without_chatter(part, again.text)
        whole = _appended(asked, whole, _of_sliding(part, _texts(model), len(events)))
        asked = replace(asked, budget=_left(asked.budget, part))
        if again is not None:
            model = again.model
            continue
        acted = (
            stopped < len(events) and events[stopped].then is not None and not _ends(events[stopped], whole, stopped)
        )
        left = stopped >= len(events)
        if part.ending.reason != "event" or not (left or acted):
            return whole
        if part._trajectory.end_time == end:
            break
        begin, marks = whole, []
        if left:
            begin, gone = _put_back(asked, whole, model), model.surfaces[stopped - len(events)]
            marks = [(gone.switch.text, _side(asked, begin, gone))]
            rest = sliding_along(asked.problem.model, (each.switch for each in model.surfaces if each is not gone))
            if isinstance(rest, SlidingModel):
                whole, model = _marked(begin, *marks[0]), rest
                continue
        part, again, _ = once(_from(asked, begin, asked.problem.model, asked.events))
        part = part if again is None else _without_chatter(part, again.text)
        whole = _appended(asked, whole, _leaving(part, *marks[0]) if marks else part)
        if again is None:
            return whole
        model, asked = again.model, replace(asked, budget=_left(asked.budget, part))
    reached = ending_of(Stop(Reason.REACHED_END, end), asked.problem, asked.method)
    return replace(whole, ending=reached)


def _texts(model: SlidingModel) -> str:
    return ", ".join(each.switch.text for each in model.surfaces)


def _marked(run: Run, text: str, side: float) -> Run:
    """Return a run at whose end a switch is left, while others are slid along further."""
    found, rows = run._crossed, 0 if run._ledger is None else len(run._ledger)
    own = Crossed(np.array([run._trajectory.end_time]), np.array([0]), np.array([side]), np.array([-1]), (text,))
    return replace(run, _crossed=found.followed_by(own, rows))


def _side(asked: Asked, run: Run, surface: Surface) -> float:
    """Return what a switch becomes where a run leaves it, in the user's words."""
    around = _around(asked, run._trajectory.end_time, run._trajectory.end_state) | modes_left(run)
    share = float(evaluate(surface.share, around | _live(asked.problem, around)))
    return surface.switch.told(float(share > 0.5))


def _live(problem: Problem, around: dict[str, Any]) -> dict[str, float]:
    """Return the values of the switches at a place."""
    switches = problem.model.rates.switches
    return {each.slot: float(evaluate(each.live, around)) for each in switches if isinstance(each, HeldSwitch)}


def _leaving(part: Run, text: str, side: float) -> Run:
    """Return the part of a run after a switch was left, which tells that once, as its first crossing."""
    found, begin = part._crossed, part.problem.interval[0]
    near = np.abs(found.times - begin) <= 1e-10 * abs(part.problem.interval[1] - begin)
    again = near & np.array([found.texts[which] == text for which in found.which], dtype=bool)
    own = np.array([len(found.texts)])
    left = Crossed(
        np.append(begin, found.times[~again]),
        np.append(own, found.which[~again]),
        np.append(side, found.values[~again]),
        np.append(-1, found.rows[~again]),
        (*found.texts, text),
        found.slid,
    )
    return replace(part, _crossed=left)


def _ends(event: Event, whole: Run, place: int) -> bool:
    """Whether the user wants a run to end by an event."""
    return event.stop or event.stop_after == seen_by(whole)[place]


def _left(budget: Budget, part: Run) -> Budget:
    """Return what a part of a run leaves of the budget."""
    tally = part.tally
    used = {"steps": tally.accepted + tally.refused, "rate_evaluations": tally.rate_evaluations}
    # the seconds are those of the whole call
    rest = {name: max(getattr(budget, name) - count, 1) for name, count in used.items() if getattr(budget, name)}
    return replace(budget, **rest)


def _from(asked: Asked, run: Run, model: Model, events: tuple[Any, ...]) -> Asked:
    """Ask for what goes on where a run ended."""
    problem, trajectory = asked.problem, run._trajectory
    counts = [*seen_by(run), *[0] * len(events)]
    met = tuple(onwards(event, counts[k], run) for k, event in enumerate(events))
    settled = replace(
        problem.settled,
        model=model,
        values={**problem.settled.values, **modes_left(run)},
        initial=Values(problem.model.layout, trajectory.end_state),
        interval=(trajectory.end_time, problem.interval[1]),
    )
    times = asked.times
    if times is not None:
        sign = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
        times = times[sign * times > sign * trajectory.end_time]
    begun = Problem(problem.said, settled)
    return replace(asked, problem=begun, events=met, times=times, met=met_at_end(run), first=None)


def _put_back(asked: Asked, run: Run, model: SlidingModel) -> Run:
    """Return the run with its end on the switch, from which the steps' errors have moved it by about a tolerance."""
    trajectory = run._trajectory
    state = trajectory.end_state.copy()
    for surface in (*model.surfaces, *model.surfaces):
        around = _around(asked, trajectory.end_time, state) | modes_left(run)
        around |= _live(asked.problem, around)
        gap = float(evaluate(surface.gap, around))
        slopes = np.zeros(state.size)
        for place, node in surface.slopes:
            slopes[place] = float(evaluate(node, around))
        allowed = (asked.relative * np.abs(state) + asked.absolute + 1e-300) ** 2
        size = float(slopes @ (allowed * slopes))
        if size > 0.0:
            state -= gap * allowed * slopes / size
    return replace(run, _trajectory=replace(trajectory, end_state=state))


def _without_chatter(run: Run, text: str) -> Run:
    """Return a run whose last crossings, back and forth over a switch, are one: where it begins to slide."""
    found = run._crossed
    last = found.texts.index(text)
    others = np.flatnonzero(found.which != last)
    first = int(others[-1]) + 1 if others.size else 0
    close = np.abs(found.times - run._trajectory.end_time) <= 1e-9 * abs(found.times[-1] - run.problem.interval[0])
    first = max(first, int(np.flatnonzero(close)[0]))
    kept = np.arange(first + 1)
    which, values = found.which[kept].copy(), found.values[kept].copy()
    which[-1], values[-1] = len(found.texts), np.nan
    texts = (*found.texts, text + _SLIDES)
    slides = Crossed(found.times[kept], which, values, found.rows[kept], texts, found.slid)
    return replace(run, _crossed=slides)


def _of_sliding(run: Run, text: str, count: int) -> Run:
    """Return the part of a run along a switch: every step is marked, and leaving the switch is no event."""
    found, crossed = run._happened, run._crossed
    rows = 0 if run._ledger is None else len(run._ledger)
    sliding = replace(crossed, slid=((0, rows, text + _SLIDES),))
    return replace(run, _happened=found.only(found.which < count), _crossed=sliding)


def _appended(asked: Asked, whole: Run, part: Run) -> Run:
    return joined(whole, asked.problem, (whole, part), part.ending)
