"""Going on along a switch to which both sides lead back, until one of them leads away."""

from __future__ import annotations

from dataclasses import replace
from typing import Final

import numpy as np

from unhurried_heron.arrays import BoolArray
from unhurried_heron.driver.complementarity import SLIDES, TRUE
from unhurried_heron.driver.concatenation import concatenated
from unhurried_heron.driver.continuation import continuation_request, remaining_budget
from unhurried_heron.driver.endings import ending_of
from unhurried_heron.driver.event_continuation import event_counts, final_modes
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.slide import Once, Part, Slide
from unhurried_heron.driver.slide_detection import (
    AT_LAST,
    names_around,
)
from unhurried_heron.driver.sliding_ends import (
    allowed,
    inconsistent_switch,
    jumps,
    slide_after_leaving,
    slide_beyond_jump,
    switch_values,
    tolerance_in_time,
)
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.input.event import Event
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.model.sliding import (
    LEAVES,
    Surface,
    surfaces_of,
)
from unhurried_heron.model.switch_types import RootSwitch
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.event_log import SwitchLog
from unhurried_heron.run.run import Run
from unhurried_heron.text.ending_facts import StabilityLimit, Stop

# How often a march that finds no motion along a resting root tries again at later crossings.
MAX_UNANSWERED = 20
# Changes of the motion within this share of the interval are at one time.
_IN_PLACE: Final = 1e-10
_SLIDES: Final = ": sliding"
# Tolerances by which a state is put beside a switch that is left.
_BESIDE = 1e-3


def continue_sliding(request: RunRequest, first: Part, slide: Slide, once: Once) -> tuple[Run, StabilityLimit | None]:
    """Return a whole run, which slides along switches and leaves them, and where stability last limited its steps.

    Parameters
    ----------
    request : RunRequest
    first : Part
        What the march left that came to the switches.
    slide : Slide
        The motion along them with which it goes on.
    once : callable
        What makes the run of a single march from a request.

    Returns
    -------
    tuple[Run, StabilityLimit | None]
    """
    request = replace(request, widths=first.widths)
    whole, end, events = _with_entry(request, first.run, slide), request.problem.interval[1], request.events
    limit, roots = first.limit, first.roots | _sides_of(slide)
    model, changes = slide.model, [whole.data.trajectory.end_time]
    while whole.data.trajectory.end_time != end:
        surfaces = surfaces_of(model)
        gone = inconsistent_switch(request, whole, model, roots)
        if gone is not None and len(changes) <= AT_LAST:
            slide = slide_after_leaving(request, whole, model, gone, roots)
            whole, model = _with_entry(request, whole, slide, surfaces), slide.model
            roots |= _sides_of(slide)
            changes.append(whole.data.trajectory.end_time)
            continue
        # An event that acts may move the state off the switch.
        along = [replace(event, stop=True) if event.then is not None and surfaces else event for event in events]
        own = (*LEAVES[: len(surfaces)], *jumps(request, whole, model))
        part, again, stopped, limit_of_part, left_at, *_ = once(
            replace(continuation_request(request, whole, model, (*along, *own)), roots=roots)
        )
        limit, roots = limit_of_part or limit, roots | left_at
        ours = surfaces and part.ending.reason is EndingReason.EVENT and stopped >= len(events)
        jumped = ours and stopped >= len(events) + len(surfaces)
        left = ours and not jumped
        acted = (
            surfaces and part.ending.reason is EndingReason.EVENT and not ours and events[stopped].then is not None
            and not _ends_run(events[stopped], whole, stopped)
        )  # fmt: skip
        part = _without_repeated_crossings(whole, part)
        whole = _appended(request, whole, _marked_as_sliding(part, surfaces, len(events)) if surfaces else part)
        request = replace(request, budget=remaining_budget(request.budget, part))
        now = whole.data.trajectory.end_time
        changes = [time for time in changes if abs(now - time) <= _IN_PLACE * abs(end - request.problem.interval[0])]
        changes.append(now)
        if len(changes) > AT_LAST:
            texts = ", ".join(f"'{each.switch.text}'" for each in surfaces)
            stop = Stop(Reason.SWITCHING, now, switch=f"sliding along {texts}")
            return replace(whole, ending=ending_of(stop, request.problem, request.method)), limit
        if again is None and jumped:
            again = slide_beyond_jump(request, whole, model, roots)
            if again is None:
                continue
        if again is None and not (left or acted):
            return whole, limit
        if again is None and left:
            again = slide_after_leaving(request, whole, model, stopped - len(events), roots)
        # The event may have moved the state anywhere.
        roots = {} if acted else roots
        if again is not None:
            whole = _with_entry(request, whole, again, surfaces)
            roots |= _sides_of(again)
        model = request.problem.model if again is None else again.model
    reached = ending_of(Stop(Reason.REACHED_END, end), request.problem, request.method)
    return replace(whole, ending=reached), limit


def _sides_of(slide: Slide) -> dict[str, float]:
    """Return the values of the roots that are left, by the names of their switches."""
    return {
        standing.switch.slot: float(side)
        for standing, side in slide
        if side != SLIDES and isinstance(standing.switch, RootSwitch)
    }


def _of_texts(found: SwitchLog, texts: set[str]) -> BoolArray:
    return np.array([found.texts[which] in texts for which in found.which], dtype=bool)


def _with_entry(request: RunRequest, run: Run, slide: Slide, before: tuple[Surface, ...] = ()) -> Run:
    """Return a run with its end where a solution begins to slide along some switches and leaves others.

    Crossings back and forth there count as one.

    Parameters
    ----------
    request : RunRequest
    run : Run
    slide : Slide
    before : tuple of Surface, optional
        What it slid along.

    Returns
    -------
    Run
    """
    found, time = run.data.switch_log, run.data.trajectory.end_time
    close = np.abs(found.times - time) <= tolerance_in_time(run)
    rows, kept = 0 if run.data.ledger is None else len(run.data.ledger), np.ones(found.times.size, dtype=bool)
    slid, entries = {each.switch.slot for each in before}, []  # type: set[str], list[tuple[float, float, int, str]]
    for standing, side in slide:
        switch = standing.switch
        mine = np.flatnonzero(close & _of_texts(found, {switch.text}))
        kept[mine] = False
        first, row = (float(found.times[mine[0]]), int(found.rows[mine[0]])) if mine.size else (time, rows - 1)
        if side == SLIDES and switch.slot not in slid:
            entries.append((first, np.nan, row, switch.text + _SLIDES))
        elif side != SLIDES and (
            switch.slot in slid or (mine.size and switch.as_written(side) == found.values[mine[0]])
        ):
            entries.append((first, switch.as_written(side), row, switch.text))
    count = len(found.texts)
    own = SwitchLog(
        np.append(found.times[kept], [each[0] for each in entries]),
        np.append(found.which[kept], np.arange(count, count + len(entries))).astype(np.int64),
        np.append(found.values[kept], [each[1] for each in entries]),
        np.append(found.rows[kept], [each[2] for each in entries]).astype(np.int64),
        (*found.texts, *(each[3] for each in entries)),
        found.slid,
    )
    put = _projected(request, run, slide) if before or len(slide.standings) > 1 else run
    return put.with_data(switch_log=own)


def _without_repeated_crossings(whole: Run, part: Run) -> Run:
    """Return what goes on after a run without the crossings that are logged at the end of that."""
    found, logged, begin = part.data.switch_log, whole.data.switch_log, whole.data.trajectory.end_time
    near = np.abs(logged.times - begin) <= tolerance_in_time(whole)
    texts = {logged.texts[which].removesuffix(_SLIDES) for which in logged.which[near]}
    close = np.abs(found.times - begin) <= tolerance_in_time(whole)
    again = close & _of_texts(found, texts)
    left = SwitchLog(found.times[~again], found.which[~again], found.values[~again], found.rows[~again], found.texts,
                   found.slid)  # fmt: skip
    return part.with_data(switch_log=left)


def _ends_run(event: Event, whole: Run, index: int) -> bool:
    """Whether the user wants a run to end by an event.

    Parameters
    ----------
    event : Event
    whole : Run
    index : int
        Of the event.

    Returns
    -------
    bool
    """
    return event.stop or event.stop_after == event_counts(whole)[index]


def _projected(request: RunRequest, run: Run, slide: Slide) -> Run:
    """Return the run with its end on what is slid along, and beside what is left.

    The steps' errors have moved it by about a tolerance.

    Parameters
    ----------
    request : RunRequest
    run : Run
    slide : Slide

    Returns
    -------
    Run
    """
    trajectory = run.data.trajectory
    state = trajectory.end_state.copy()
    for standing, side in (*slide, *slide):
        around = names_around(request, trajectory.end_time, state) | final_modes(run)
        around |= switch_values(request.problem.model.whole, around)
        gap = float(evaluate(standing.gap, around))
        moves, size = allowed(request, state, standing, around)
        beside = 0.0 if side == SLIDES else _BESIDE * np.sqrt(size) * (1.0 if side == TRUE else -1.0)
        if size > 0.0 and (beside == 0.0 or gap * beside <= 0.0):
            state += (beside - gap) * moves / size
    return run.with_data(trajectory=replace(trajectory, end_state=state))


def _marked_as_sliding(run: Run, surfaces: tuple[Surface, ...], count: int) -> Run:
    """Return the part of a run along switches: every step is marked, and leaving a switch is no event.

    Parameters
    ----------
    run : Run
    surfaces : tuple[Surface, ...]
    count : int
        Number of the user's events.

    Returns
    -------
    Run
    """
    found, crossed, text = run.data.event_log, run.data.switch_log, ", ".join(each.switch.text for each in surfaces)
    rows = 0 if run.data.ledger is None else len(run.data.ledger)
    sliding = replace(crossed, slid=((0, rows, text + _SLIDES),))
    return run.with_data(event_log=found.only(found.which < count), switch_log=sliding)


def _appended(request: RunRequest, whole: Run, part: Run) -> Run:
    """Return a run with a further part, as one of the whole problem.

    Parameters
    ----------
    request : RunRequest
    whole : Run
    part : Run

    Returns
    -------
    Run
    """
    return concatenated(whole, request.problem, (whole, part), part.ending)
