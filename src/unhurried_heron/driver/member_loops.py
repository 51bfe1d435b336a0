"""Loops over members in compiled code: each thread takes one part of the members after another."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.driver.march import March
from unhurried_heron.driver.member_times import MemberTimes
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.step_measures import laid_out
from unhurried_heron.kernels.machine_code.loading import Kernel
from unhurried_heron.kernels.machine_code.prepare import load_kernels
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.kernels.memory.bundles import address_table
from unhurried_heron.kernels.memory.sweep import FULL, ROOM, StepMeasures, Sweep

# Attempts between two looks at whether to stop.
_SLICE: Final = 4096
# Attempts after which a member without a budget is left to a run by itself, which watches for steps that collapse.
_MOST: Final = 1_000_000
# A count that no march reaches.
_UNLIMITED: Final = 2**62
# Events that fit into the buffer of a loop at first.
_EVENT_ROOM: Final = 4096
# What there is of each member.
BY_MEMBER: Final = ("recorded", "finals", "ends", "reasons", "counts", "measures")


class FoundEvents(NamedTuple):
    """Events of members, in the order of members and then of time.

    ``members``, ``which`` int64 (n_events,): whose they are, and which of the events; ``times`` (n_events,), ``states``
    (n_events, n_states): the states before; ``modes`` (n_events, n_modes): the parameters that events change, after it.
    """

    members: IntArray
    which: IntArray
    times: Array
    states: Array
    modes: Array


class Members(NamedTuple):
    """What members of a sweep left.

    ``recorded`` (n_members, n_times, n_states): states at the times that are recorded, NaN beyond an end before;
    ``finals`` (n_members, n_states) and ``ends`` (n_members,): state and time at the end; ``reasons`` (n_members,):
    `Reason` of each, NO_ROOM where it must march by itself (known times cannot be told apart, or are too many);
    ``counts`` (n_members, len(COUNTED)): what each took; ``measures`` (n_members, n_quantities, 3): the smallest
    and the largest value and the integral of each quantity that was measured.
    """

    recorded: Array
    finals: Array
    ends: Array
    reasons: IntArray
    counts: IntArray
    measures: Array
    events: FoundEvents


class Worker:
    """What one thread marches with.

    Attributes
    ----------
    stopped : bool
        Whether it was stopped from outside.
    """

    def __init__(self, march: March, request: RunRequest, functions: Sequence[NativeFunction]) -> None:
        self._march, self._request, self._functions = march, request, functions
        (self._kernel,) = load_kernels("march.sweep.march_members")
        self._stop = np.zeros(1, dtype=np.int64)

    @property
    def stopped(self) -> bool:
        """Whether it was stopped from outside."""
        return bool(self._stop[0])

    def stop(self) -> None:
        """Leave the members that march."""
        self._stop[0] = 1

    def march_part(
        self, found: Members, times: MemberTimes, parameters: Array, initial: Array, part: slice
    ) -> FoundEvents:
        """March some of the members.

        Parameters
        ----------
        found : Members
            To be filled.
        times : MemberTimes
        parameters : ndarray, shape (n_members, n_parameters)
        initial : ndarray, shape (n_members, n_states)
        part : slice
            Which.

        Returns
        -------
        FoundEvents
        """
        own = found._replace(**{name: getattr(found, name)[part] for name in BY_MEMBER})
        measured = _measured(self._march, self._functions, own.measures)
        loop = _laid_out(self._march, self._request, own, times.of(part), parameters[part], initial[part])
        loop = loop._replace(step_measures=address_table(*measured), stop=self._stop)
        return _march(self._kernel, self._march, loop)


def shared(
    workers: Sequence[Worker], parts: Sequence[slice], march: Callable[[Worker, slice], FoundEvents]
) -> list[FoundEvents]:
    """Let threads take one part after another, so that a slower processor takes fewer; return events by part.

    Parameters
    ----------
    workers : sequence of Worker
    parts : sequence of slice
    march : callable

    Returns
    -------
    list of FoundEvents

    Raises
    ------
    BaseException
        The members that march are left.
    """
    waiting, events = deque(range(len(parts))), dict[int, FoundEvents]()

    def work(worker: Worker) -> None:
        while not worker.stopped:
            try:
                index = waiting.popleft()
            except IndexError:
                return
            events[index] = march(worker, parts[index])

    with ThreadPoolExecutor(len(workers)) as executor:
        running = [executor.submit(work, worker) for worker in workers]
        try:
            for each in running:
                each.result()
        except BaseException:
            for worker in workers:
                worker.stop()
            raise
    return [events[index] for index in range(len(parts))]


def _measured(march: March, functions: Sequence[NativeFunction], results: Array) -> StepMeasures:
    """Return what takes the steps of a march into measures.

    Parameters
    ----------
    march : March
    functions : sequence of NativeFunction
    results : ndarray, shape (n_members, n_functions, 3)

    Returns
    -------
    StepMeasures
    """
    system, output = march.system, march.output
    nonnegative = np.asarray(system.nonnegative)[: system.n_nonnegative]
    return laid_out(functions, (output.starts, output.steps, output.coefficients), nonnegative, results)


def no_events(n: int, n_modes: int) -> FoundEvents:
    """Return the events of nobody, of a problem with so many states and modes."""
    nothing = np.empty(0, dtype=np.int64)
    return FoundEvents(nothing, nothing, np.empty(0), np.empty((0, n)), np.empty((0, n_modes)))


def _march(kernel: Kernel, march: March, sweep: Sweep) -> FoundEvents:
    """March the members of one loop to their endings, with more memory where they need it; return their events.

    Parameters
    ----------
    kernel : Kernel
        The loop.
    march : March
    sweep : Sweep

    Returns
    -------
    FoundEvents
    """
    found, table = [no_events(march.system.n, march.watch.n_modes if march.watch.acting else 0)], address_table(*sweep)
    while True:
        answer = kernel(table)
        count = int(sweep.n_found[0])
        kept = sweep.event_members, sweep.event_which, sweep.event_times, sweep.event_states, sweep.event_modes
        found.append(FoundEvents._make(each[:count].copy() for each in kept))
        sweep.n_found[0] = 0
        if answer == ROOM:
            march.make_room_again()
            sweep = sweep._replace(data=march.initial_table)
        elif answer == FULL:
            # what one member needs may be more than there is
            sweep = sweep._replace(**_event_buffer(sweep.event_room * (1 if count else 4), march))
        else:
            break
        table = address_table(*sweep)
    return FoundEvents._make(map(np.concatenate, zip(*found, strict=True)))


def _event_buffer(room: int, march: March) -> dict[str, Any]:
    """Return memory for events, by the fields of `Sweep`."""
    n, n_modes = march.system.n, march.watch.n_modes if march.watch.acting else 0
    return {
        "event_room": room,
        "event_times": np.empty(room),
        "event_states": np.empty((room, n)),
        "event_members": np.empty(room, dtype=np.int64),
        "event_which": np.empty(room, dtype=np.int64),
        "n_modes": n_modes,
        "event_modes": np.empty((room, n_modes)),
    }


def _times(request: RunRequest) -> Array:
    return np.empty(0) if request.times is None else request.times


def _laid_out(
    march: March, request: RunRequest, found: Members, own: MemberTimes, parameters: Array, initial: Array
) -> Sweep:
    """Lay out what the loop works on.

    Parameters
    ----------
    march : March
    request : RunRequest
    found : Members
        To be filled.
    own : MemberTimes
    parameters : ndarray, shape (n_members, n_parameters)
    initial : ndarray, shape (n_members, n_states)

    Returns
    -------
    Sweep
    """
    times, budget, system = _times(request), request.budget, march.system
    data: Any = march.initial_table
    return Sweep(
        initialise=march.initialise.address,
        march=march.kernel.address,
        data=data,
        table=march.table,
        next=np.zeros(1, dtype=np.int64),
        n_members=len(initial),
        parameters=np.ascontiguousarray(parameters, dtype=np.float64),
        initial=np.ascontiguousarray(initial, dtype=np.float64),
        n_own=own.sources.size,
        own_sources=own.sources,
        own_begins=own.begins,
        own_parts=own.parts,
        part_begins=own.part_begins,
        n_narrow=own.part_begins.size,
        parts=system.parts,
        alone=own.alone,
        n_times=times.size,
        at_start=int(times.size > 0 and times[0] == request.problem.interval[0]),
        recorded=found.recorded,
        finals=found.finals,
        ends=found.ends,
        reasons=found.reasons,
        counts=found.counts,
        **_event_buffer(_EVENT_ROOM if request.events else 0, march),
        n_found=np.zeros(1, dtype=np.int64),
        step_measures=np.zeros(1, dtype=np.int64),
        n_measures=found.measures[0].size if len(initial) else 0,
        measures=found.measures,
        attempts=budget.steps or _MOST,
        evaluations=budget.rate_evaluations or _UNLIMITED,
        slice=_SLICE,
        stop=np.zeros(1, dtype=np.int64),
    )
