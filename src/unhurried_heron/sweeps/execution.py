"""Carrying out a sweep batch by batch: in this process, by an executor, into a folder."""

from __future__ import annotations

import pickle
import time
from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from typing import Any, Final

from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.sweeps.axes import Axes
from unhurried_heron.sweeps.batches import Batch, Shared, batches_of, march_batch, shared_of, slices_of
from unhurried_heron.sweeps.folder import Folder
from unhurried_heron.sweeps.outcome import Outcome

# Batches that an executor is given at once: so many wait that no worker does.
_IN_FLIGHT: Final = 64


def executor_of(given: Any) -> Any:
    """Return what carries out batches; a client of a cluster gives one.

    Raises
    ------
    OptionError
        It is none.
    """
    found = given.get_executor() if hasattr(given, "get_executor") else given
    if found is not None and not (isinstance(found, Executor) or callable(getattr(found, "submit", None))):
        raise OptionError("this is no executor", name="executor", location="sweep",
                          expected="an Executor of concurrent.futures, or a client of dask.distributed",
                          given=excerpt(given))  # fmt: skip
    return found


def march_in_batches(
    shared: Shared, axes: Axes, executor: Any, folder: Folder | None, threads: int | None, seconds: float | None
) -> Iterator[tuple[slice, Outcome | None]]:
    """Yield batches as they are done, in no certain order; what is done in a folder already is passed over.

    Parameters
    ----------
    shared : Shared
    axes : Axes
    executor : Executor or None
    folder : Folder or None
        Where outcomes go; they are not given back then.
    threads : int or None
        How many members march at once in a batch.
    seconds : float or None
        After which no further batch begins.

    Yields
    ------
    (slice, Outcome or None)
    """
    until = float("inf") if seconds is None else time.perf_counter() + seconds
    if executor is not None:
        yield from _by_executor(shared, axes, executor, folder, threads, until)
        return
    for index, members in enumerate(slices_of(axes.count, shared.batch_size)):
        if folder is not None and folder.has(index):
            yield members, None
            continue
        if time.perf_counter() > until:
            return
        outcome = shared.march(axes, members, threads)
        if folder is not None:
            folder.keep(index, members.start, shared, axes.flat(members), outcome)
        yield members, outcome if folder is None else None


def _by_executor(
    shared: Shared, axes: Axes, executor: Any, folder: Folder | None, threads: int | None, until: float
) -> Iterator[tuple[slice, Outcome | None]]:
    """Yield batches that an executor carries out.

    Parameters
    ----------
    shared : Shared
    axes : Axes
    executor : Executor
    folder : Folder or None
    threads : int or None
        In each batch; by default one, for there are several workers.
    until : float
        The time after which no further batch is given.

    Yields
    ------
    (slice, Outcome or None)

    Raises
    ------
    OptionError
        The problem cannot be sent to another process.
    """
    running: dict[Future[Any], slice] = {}
    try:
        batches = enumerate(batches_of(shared, axes, threads or 1))
        more = True
        while more or running:
            while more and len(running) < _IN_FLIGHT:
                index, (members, batch) = next(batches, (-1, (slice(0), None)))
                more = batch is not None and time.perf_counter() <= until
                if not more or batch is None:
                    break
                if folder is not None and folder.has(index):
                    yield members, None
                elif folder is not None:
                    running[executor.submit(march_into, batch, folder, index, members.start)] = members
                else:
                    running[executor.submit(march_batch, batch)] = members
            if running:
                done, _ = wait(running, return_when=FIRST_COMPLETED)
                for each in done:
                    yield running.pop(each), each.result()
    except (AttributeError, TypeError, pickle.PicklingError) as error:
        if "pickle" not in str(error):
            raise
        raise OptionError("this sweep cannot be sent to other processes", name="executor", location="sweep",
                          expected="equations, or functions that can be pickled: of a module, no lambda",
                          given=str(error)) from error  # fmt: skip
    finally:
        for each in running:
            each.cancel()


def march_into(batch: Batch, folder: Folder, index: int, first: int) -> None:
    """Let a batch march and keep what it leaves in a folder.

    Parameters
    ----------
    batch : Batch
    folder : Folder
    index : int
        Of the batch.
    first : int
        The index of its first member.
    """
    if not folder.has(index):
        folder.keep(index, first, shared_of(batch), batch.axes, march_batch(batch))
