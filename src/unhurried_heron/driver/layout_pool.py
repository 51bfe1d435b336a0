"""Marches that were laid out for an earlier run wait with the model they belong to, for the next run of the same kind.

Laying out costs more than a short run. What differs from run to run is written anew (`set_up`); all else must be
the same, and is what a march is asked for by. One march serves one run at a time: a run takes it away.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from unhurried_heron.driver.march import March
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.families.error_scale import ErrorScale

# Larger marches are laid out quickly compared with their runs; the room for steps alone takes up to four million.
_MAX_BYTES = 6_000_000
# Marches of one model that wait to be used again,
_MAX_WAITING = 8
# and how much they take together.
_MAX_BYTES_WAITING = 24_000_000


def key_of(request: RunRequest, scales: ErrorScale, kind: str) -> tuple[Any, ...]:
    """Return what a march must have been laid out for to serve a run.

    Parameters
    ----------
    request : RunRequest
    scales : ErrorScale
    kind : str
        Of linear algebra: "dense", "banded" or "sparse".

    Returns
    -------
    tuple[Any, ...]
    """
    problem, times = request.problem, request.times
    if 8 * problem.model.layout.size > _MAX_BYTES or callable(request.preconditioner):
        # No march of this size is waiting, and none with a function that may be another each time.
        return (object(),)
    # an event in words depends on units, too; a function may have no hash
    events = (*map(id, request.events), *problem.units.items()) if request.events else ()
    tolerances = scales.relative.tobytes(), scales.absolute.tobytes(), repr(scales.newton), repr(scales.between)
    room = None if times is None else times.size
    inputs = tuple(map(id, problem.inputs.values()))
    return (
        id(request.method),
        id(request.starter),
        request.controller,
        *tolerances,
        room,
        request.ledger,
        request.adapts,
        request.held,
        kind,
        request.linear,
        request.preconditioner,
        request.nonnegative.tobytes(),
        inputs,
        *events,
    )


def take(request: RunRequest, key: tuple[Any, ...]) -> March | None:
    """Return a march that was laid out before, which nobody else has any more."""
    kept: dict[Any, list[tuple[March, Any]]] = request.problem.model.kept
    waiting = kept.get(key, [])
    # other threads take marches, too
    with suppress(IndexError):
        march = waiting.pop()[0]
        if not waiting:
            kept.pop(key, None)
        return march
    return None


def give_back(request: RunRequest, march: March) -> None:
    """Keep a march whose run came to its end for the next one."""
    kept = request.problem.model.kept
    # Recorded states belong to the run alone.
    march.release()
    # what stood in for iterations would do so in the next run from its start
    if march.size <= _MAX_BYTES and not march.last("stood_in"):
        for oldest in [*kept]:
            sizes = [each.size for waiting in [*kept.values()] for each, _ in waiting]
            if len(sizes) >= _MAX_WAITING or sum(sizes) + march.size > _MAX_BYTES_WAITING:
                kept.pop(oldest, None)
        # Objects that the key names by their identity are kept alive with it.
        alive = request.method, request.starter, request.events, *request.problem.inputs.values()
        kept.setdefault(march.key, []).append((march, alive))
