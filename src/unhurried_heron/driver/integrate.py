"""`integrate`: one function for every method."""

from __future__ import annotations

import time
import warnings
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal, TypeAlias

from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.checked_request import checked_request
from unhurried_heron.driver.execution import execute
from unhurried_heron.driver.options import (
    refuse_no_problem,
)
from unhurried_heron.driver.ready import key_of, recall, remember
from unhurried_heron.driver.recorded_times import Record
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.tolerances import Tolerance
from unhurried_heron.errors import IncompleteRunWarning, OptionError
from unhurried_heron.families.controller import Controller
from unhurried_heron.input.event import Event
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import QUIET
from unhurried_heron.run.run import Run

# What makes iterations on linear systems few: by name, or a function of the matrix.
Preconditioner: TypeAlias = Literal["incomplete", "cells", "multigrid", "none"] | Callable[[Any], Any]


def integrate(
    problem: Problem,
    method: str | Method = DEFAULT,
    *,
    rtol: Tolerance = None,
    atol: Tolerance = None,
    step: float | str | None = None,
    count: int | None = None,
    record: Record = "steps",
    into: str | Path | None = None,
    events: Iterable[Event] = (),
    parameters: Mapping[str, Any] | None = None,
    initial: Mapping[str, Any] | None = None,
    interval: tuple[Any, Any] | None = None,
    switches: bool = True,
    budget: Budget | Mapping[str, Any] | None = None,
    starting_step: float | str | None = None,
    largest_step: float | str | None = None,
    linear: Literal["dense", "banded", "sparse", "krylov"] | None = None,
    preconditioner: Preconditioner | None = None,
    step_control: str | Controller | None = None,
    local_extrapolation: bool | None = None,
    starter: str | Method | None = None,
    ledger: bool | None = None,
    trace: bool = False,
    progress: bool | None = None,
    on_interrupt: Literal["raise", "return"] = "raise",
) -> Run:
    """Compute the solution of an initial-value problem.

    Parameters
    ----------
    problem : Problem
        What to integrate.
    method : str or Method
        Name of a method (see `methods`), or one of your own. Where it has no second solution and no ``step`` is given,
        its error is estimated by step doubling.
    rtol, atol : float, or mapping of str to float
        Allowed error per step: ``atol + rtol * |state|``, for all states or by name. Without them ``rtol`` is 1e-7 and
        ``atol`` is a thousandth of ``rtol`` in the unit of each state. Steps and absolute tolerances may be said with
        a unit: "0.5 s", "2 mg/l".
    step : float or str, optional
        A fixed step instead of tolerances; the last one is shortened to land on the end.
    count : int, optional
        So many fixed steps of one length, instead of ``step``.
    record : "steps", int, str or sequence of float
        What to keep: every accepted step, which makes the solution a function of time; a count of equally spaced times,
        both ends included; a spacing of times from the start, "30 min"; or these times. With a count or times, memory
        does not grow with the steps. A run that ends before the last of them records where it ended as well.
    into : str or Path, optional
        A file that takes the states at recorded times as they come, ``.nc`` (NetCDF) or ``.zarr``, with coordinates,
        units and the ending. Memory then holds few of them; ``run`` reads them from disk.
    events : iterable of Event
        What to look for, besides the problem's own events; one takes the place of one of these by its name.
    parameters : mapping of str, optional
        Other values for parameters, and values for those left open.
    initial : mapping of str, optional
        Other starting values.
    interval : tuple, optional
        Another interval.
    switches : bool
        Whether to land on jumps and kinks (``problem.switches``) and start again beyond each, which keeps the order of
        the method; otherwise the error estimate alone has to notice them.
    budget : Budget or mapping, optional
        The most steps, rate evaluations or seconds to use.
    starting_step, largest_step : float, optional
        Size of the first step, otherwise estimated; bound on every step. Neither goes with a fixed ``step``.
    linear : {"dense", "banded", "sparse", "krylov"}, optional
        How an implicit method solves its linear systems; by default what suits the size and the pattern of the
        Jacobian. "krylov": iterations with products of the Jacobian. ``run.options`` tells it.
    preconditioner : {"incomplete", "cells", "multigrid", "none"} or callable, optional
        What makes iterations few: incomplete factors of shift*M - J without fill-in, which is usual where its pattern
        is known; the blocks of states with equal indices; algebraic multigrid (an extra of its own); a function that
        takes the matrix, a sparse array or where there is none a LinearOperator of SciPy's, and returns what solves
        with an approximation of it, a function of a vector or an object with ``solve``. With "none" there is no matrix
        at all: products are differences of the rates.
    step_control : str or Controller, optional
        How steps follow the error: "elementary", "proportional-integral", "predictive", "digital-filter",
        "smooth-digital-filter", or one of your own; by default what suits the family of the method.
    local_extrapolation : bool, optional
        Whether an explicit pair continues with its solution of higher order, and not with the lower one that its
        estimate belongs to; by default as its authors meant it. Step doubling has two solutions as well: that of the
        half steps, and their extrapolation, which is one order higher.
    starter : str or Method, optional
        What gives a multistep method its first values: a one-step method, by default one of its order, or "exact": the
        closed forms of the problem. It also takes steps that are cut short, and starts again beyond switches.
    ledger : bool, optional
        Whether to keep one row for each attempted step; by default where every step is recorded.
    trace : bool
        Whether to keep every call of the rates, with its time, state, answer and purpose: ``run.trace``. Of additive
        methods those of the two parts of the rates, too.
    progress : bool, optional
        Show a progress bar always or never; by default after about two seconds in a terminal.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return the part done, labelled as interrupted. Where the program
        has set a handler of its own for it, that is called once the run has stopped, and the part done is returned.

    Returns
    -------
    Run
        Also where the run could not be finished: ``run.ending`` tells why, and a warning is given.

    Raises
    ------
    MethodError, OptionError
        The method is unknown or unfit, or an option is unusable.
    OpenParameterError
        Parameters are still open.
    Exception
        Whatever a Python rate function raises, with its own traceback.

    Examples
    --------
    >>> pond = Problem.from_text("level' = -leak*level", initial={"level": 1.0}, parameters={"leak": 0.5},
    ...                          interval=(0, 2))
    >>> run = integrate(pond, rtol=1e-9)
    >>> round(run.final["level"], 7)
    0.3678794
    """
    begun = time.perf_counter()
    refuse_no_problem(problem, "integrate")
    if parameters is not None or initial is not None or interval is not None:
        problem = problem.with_(parameters=parameters, initial=initial, interval=interval)
    usual = switches is True and progress is None and on_interrupt == "raise" and trace is False and ledger is None
    rare = (
        into,
        budget,
        starting_step,
        largest_step,
        linear,
        preconditioner,
        step_control,
        local_extrapolation,
        starter,
    )
    plain = usual and type(events) in (tuple, list) and all(each is None for each in rare)
    key = key_of(method, rtol, atol, step, count, record, events) if plain else None
    request = recall(problem, key)
    if request is not None:
        return _finished(execute(request, progress, on_interrupt, time.perf_counter() - begun))
    request = checked_request(
        problem,
        method,
        begun,
        rtol=rtol,
        atol=atol,
        step=step,
        count=count,
        record=record,
        events=events,
        switches=switches,
        budget=budget,
        starting_step=starting_step,
        largest_step=largest_step,
        linear=linear,
        preconditioner=preconditioner,
        step_control=step_control,
        local_extrapolation=local_extrapolation,
        starter=starter,
        ledger=ledger,
        trace=trace,
        progress=progress,
        on_interrupt=on_interrupt,
    )
    remember(key, request)
    if into is not None:
        return _finished(
            _into(into, request, lambda it: execute(it, progress, on_interrupt, time.perf_counter() - begun))
        )
    return _finished(execute(request, progress, on_interrupt, time.perf_counter() - begun))


def _into(path: Any, request: RunRequest, execute: Callable[[RunRequest], Run]) -> Run:
    """Return a run whose recorded states went to a file as they came.

    Parameters
    ----------
    path : object
        Of the file.
    request : RunRequest
    execute : callable
        Makes the run.

    Returns
    -------
    Run

    Raises
    ------
    OptionError
        Every step is recorded, or there is no such kind of file.
    """
    if request.times is None:
        raise OptionError("steps do not go into a file as they come", name="into", location="into",
                          expected="record=…: a count, a spacing or times", given='record="steps"')  # fmt: skip
    from unhurried_heron.driver.rows_on_disk import RowsOnDisk

    sink, run = RowsOnDisk(path, request.problem), None
    try:
        run = execute(replace(request, sink=sink))
    finally:
        sink.close(run)
    return run


def _finished(run: Run) -> Run:
    """Return a run, with a warning where it did not come to its end."""
    if not run.ending.as_requested and not run.ending.reason.cut_short and not QUIET.get():
        warnings.warn(
            f"{run.ending} (The run holds what was done; see run.ending.)", IncompleteRunWarning, stacklevel=3
        )
    return run
