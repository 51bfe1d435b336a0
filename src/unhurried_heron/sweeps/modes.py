"""What events have left of members: parameters at any times, and times beside jumps."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.model.action import modes_of

if TYPE_CHECKING:
    from unhurried_heron.driver.member_loops import Members

# Parameters that differ between members: their indices, and their values, shape (n_members, n_changing).
Changing = tuple[IntArray, Array]
_NONE: Final = np.empty(0, dtype=np.int64)


def at_times(request: RunRequest, members: Members, done: Any, changing: Changing, times: Array) -> Changing:
    """Return the parameters that differ between members or that events change, at times.

    Parameters
    ----------
    request : RunRequest
    members : Members
    done : ndarray of bool, shape (n_members,)
        Of which members.
    changing : (ndarray of int64, ndarray of shape (n_done, n_changing))
        What differs where they begin.
    times : ndarray, shape (n_done, n_times)

    Returns
    -------
    (ndarray of int64, ndarray of shape (n_done, n_times, n_parameters))
    """
    problem, events = request.problem, members.events
    names = problem.model.parameters
    slots = [names.index(name) for name in modes_of(problem.model, request.events, problem.units)]
    count, size = times.shape
    indices, begins = changing
    if not slots or not events.times.size:
        return indices, np.repeat(begins[:, None, :], size, axis=1)
    acting = np.isin(events.which, [k for k, event in enumerate(request.events) if event.then is not None])
    own = acting & done[events.members]
    whose: Any = (np.cumsum(done) - 1)[events.members[own]]
    when, modes = events.times[own], events.modes[own]
    # where each member's events begin among all
    first = np.searchsorted(whose, np.arange(count))
    sign = np.sign(problem.interval[1] - problem.interval[0])
    many = np.empty((count, size), dtype=np.int64)
    for k in range(size):
        passed = sign * when <= sign * times[whose, k]
        many[:, k] = np.bincount(whose[passed], minlength=count)
    own_values = {index: begins[:, j] for j, index in enumerate(indices.tolist())}
    starts = np.column_stack([
        own_values.get(slot, np.full(count, problem.parameters[names[slot]])) for slot in slots
    ])  # fmt: skip
    left = modes[np.maximum(first[:, None] + many - 1, 0)] if len(modes) else np.empty((count, size, len(slots)))
    now = np.where((many > 0)[:, :, None], left, starts[:, None, :])
    kept = [j for j, index in enumerate(indices.tolist()) if index not in slots]
    together = np.concatenate([_NONE, indices[kept], np.array(slots, dtype=np.int64)])
    return together, np.concatenate([np.repeat(begins[:, None, kept], size, axis=1), now], axis=2)


def beside_jumps(request: RunRequest, members: Members, done: Any) -> Array:
    """Return the times at which derived quantities are asked: just beyond an event that acts, where both are one.

    Parameters
    ----------
    request : RunRequest
    members : Members
    done : ndarray of bool, shape (n_members,)

    Returns
    -------
    ndarray, shape (n_done, n_times)
    """
    times, events = np.empty(0) if request.times is None else request.times, members.events
    found = np.tile(times, (int(done.sum()), 1))
    acting = [k for k, event in enumerate(request.events) if event.then is not None]
    at_once = np.isin(events.which, acting) & np.isin(events.times, times) & done[events.members]
    row, onwards = np.cumsum(done) - 1, np.copysign(np.inf, request.problem.interval[1] - request.problem.interval[0])
    order, when = np.argsort(times), events.times[at_once]
    found[row[events.members[at_once]], order[np.searchsorted(times[order], when)]] = np.nextafter(when, onwards)
    return found
