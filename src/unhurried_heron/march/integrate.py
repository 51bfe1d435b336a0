"""`integrate`: one function for every method."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from unhurried_heron.errors import IncompleteRunWarning, OptionError
from unhurried_heron.families.registry import family_of
from unhurried_heron.march.options import (
    Budget,
    Record,
    Tolerance,
    budget_of,
    check_fits,
    check_size,
    one_of,
    record_times,
    refuse_no_problem,
    steps_wanted,
    tolerances,
)
from unhurried_heron.march.quiet import QUIET
from unhurried_heron.methods.catalogue import DEFAULT, find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, Tally
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array
from unhurried_heron.words.event import Event
from unhurried_heron.words.said import listed

if TYPE_CHECKING:
    from unhurried_heron.families.family import Family
    from unhurried_heron.kernels.memory.control import Reason
    from unhurried_heron.march.driver import Driver


def integrate(
    problem: Problem,
    method: str | Method = DEFAULT,
    *,
    rtol: Tolerance = None,
    atol: Tolerance = None,
    step: float | None = None,
    record: Record = "steps",
    events: Iterable[Event] = (),
    parameters: Mapping[str, Any] | None = None,
    initial: Mapping[str, Any] | None = None,
    interval: tuple[Any, Any] | None = None,
    switches: bool = True,
    budget: Budget | Mapping[str, Any] | None = None,
    starting_step: float | None = None,
    largest_step: float | None = None,
    linear: Literal["dense", "banded", "sparse"] | None = None,
    ledger: bool | None = None,
    progress: bool | None = None,
    on_interrupt: Literal["raise", "return"] = "raise",
) -> Run:
    """Compute the solution of an initial-value problem.

    Parameters
    ----------
    problem : Problem
        What to integrate.
    method : str, RungeKutta or Collocation
        Name of a method (see `methods`), or one of your own.
    rtol, atol : float, or mapping of str to float
        Allowed error per step: ``atol + rtol * |state|``, for all states or by name. Without them ``rtol`` is 1e-7 and
        ``atol`` is a thousandth of ``rtol`` in the unit of each state.
    step : float, optional
        A fixed step instead of tolerances; the last one is shortened to land on the end.
    record : "steps", int or sequence of float
        What to keep: every accepted step, which makes the solution a function of time; so many equally spaced times,
        both ends included; or these times. With a count or times, memory does not grow with the steps. A run that ends
        before the last of them records where it ended as well.
    events : iterable of Event
        What to look for, besides the problem's own events.
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
    linear : {"dense", "banded", "sparse"}, optional
        How an implicit method solves its linear systems; by default what suits the size and the pattern of the
        Jacobian. ``run.options`` tells it.
    ledger : bool, optional
        Whether to keep one row for each attempted step; by default where every step is recorded.
    progress : bool, optional
        Show a progress bar always or never; by default after about two seconds in a terminal.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return the part done, labelled as interrupted.

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
    refuse_no_problem(problem, "integrate")
    chosen = find_method(method)
    check_fits(chosen, step, rtol, atol)
    one_of(on_interrupt, "on_interrupt", {"raise": '"raise"', "return": '"return"'})
    one_of(switches, "switches", {True: "True", False: "False"})
    one_of(ledger, "ledger", {None: "None", True: "True", False: "False"})
    one_of(progress, "progress", {None: "None", True: "True", False: "False"})
    extra, limits = listed(events, "events"), budget_of(budget)
    if parameters is not None or initial is not None or interval is not None:
        problem = problem.with_(parameters=parameters, initial=initial, interval=interval)
    problem.refuse_open()
    family = family_of(chosen)
    check_size(chosen, problem.model.layout.size)
    fixed, first, longest = steps_wanted(
        problem.interval, step=step, starting_step=starting_step, largest_step=largest_step
    )
    times = record_times(problem, record)
    # a changed copy checks the new events as the problem's own were checked
    watched = problem.with_(events=(*problem.events, *extra)).events if extra else problem.events
    relative, absolute = tolerances(problem, rtol, atol)
    state = problem.start
    start, end = problem.interval

    from unhurried_heron.march.driver import Driver
    from unhurried_heron.march.layout import lay_out
    from unhurried_heron.march.passage import Passage
    from unhurried_heron.march.progress import ProgressBar
    from unhurried_heron.march.recorder import StepRecorder, TimeRecorder
    from unhurried_heron.native.system import native_system

    kind = _linear_kind(problem, family, chosen, linear, held=switches, fixed=fixed is not None)
    full = not family.implicit or (kind == "dense" and not _differenced(problem))
    native = native_system(problem, watched, with_jacobian=family.implicit, held=switches, full=full)
    scales = family.scale(chosen, relative, absolute, state, fixed is not None)
    keep_ledger = times is None if ledger is None else ledger
    wanted = None if times is None else np.append(times, np.copysign(np.inf, end - start))
    march = lay_out(chosen, native, state, scales, watched, fixed=fixed is not None, linear=kind,
                    wanted=wanted, ledger=keep_ledger)  # fmt: skip
    control = march.control
    control["time"] = control["origin"] = start
    control["end"] = end
    control["adaptive"] = int(fixed is None)
    control["bad_component"] = -1
    control["largest_step"] = longest

    control["order"] = min(chosen.order, chosen.embedded_order)
    given = fixed if fixed is not None else first
    if given is not None:
        control["step"] = np.copysign(given, end - start)
    passage = Passage(problem, march, len(watched), fixed=fixed is not None, held=switches)
    passage.begin()
    recorder = StepRecorder() if times is None else TimeRecorder(times, start, state)
    driver = Driver(march, recorder, limits, passage, keep_ledger=keep_ledger)
    bar = ProgressBar(progress, problem.title or chosen.name, start, end)
    try:
        reason = driver.drive(bar)
    finally:
        bar.close()
    # also where the run was just done: a loop over short runs must not swallow Ctrl-C
    if driver.ctrl_c and on_interrupt == "raise":
        raise KeyboardInterrupt
    trajectory = recorder.trajectory(float(control["time"][0]), march.system.state.copy())
    ending = _ending(reason, driver, problem, chosen, watched, trajectory.largest(), absolute, fixed=fixed is not None)
    if not ending.as_asked and ending.reason not in ("budget", "interrupted") and not QUIET.get():
        warnings.warn(f"{ending} (The run holds what was done; see run.ending.)", IncompleteRunWarning, stacklevel=2)
    counts = {key: int(control[key][0]) for key in Tally.__dataclass_fields__ if key != "seconds"}
    options = {"rtol": rtol, "atol": atol, "step": fixed, "record": record}
    if family.implicit:
        options["linear"] = kind
    if fixed is None:
        options |= {"rtol": _simplest(problem, relative), "atol": _simplest(problem, absolute)}
    return Run(
        problem=problem,
        method=chosen.name,
        options=options,
        ending=ending,
        tally=Tally(**counts, seconds=driver.seconds),
        _trajectory=trajectory,
        _watched=watched,
        _events=driver.events(),
        _ledger=driver.ledger(),
        _crossings=tuple(passage.crossings),
        _landings=tuple(passage.marks),
    )


def _linear_kind(
    problem: Problem, family: Family, method: Method, wanted: str | None, *, held: bool, fixed: bool
) -> str:
    """Return the linear algebra that suits an implicit method on a problem."""
    from unhurried_heron.families.linear import MOST_FULL, Entries, choose_linear, refuse_large
    from unhurried_heron.native.system import jacobian_entries

    n = problem.model.layout.size
    if not family.implicit:
        if wanted is not None:
            raise OptionError(
                f"{method.name} solves no linear systems",
                name="linear",
                place="linear",
                expected="an implicit method, or no choice of linear algebra",
                given=repr(wanted)[:80],
            )
        return "dense"
    known = jacobian_entries(problem, held=held) if n > MOST_FULL or wanted is not None else None
    kind = choose_linear(n, known and Entries(*known), wanted, fixed=fixed)
    if kind == "dense":
        refuse_large(method.name, n)
    return kind


def _differenced(problem: Problem) -> bool:
    """Whether the Jacobian is found by differences in groups of columns."""
    model = problem.model
    return isinstance(model.rates, NamedFunction) and model.jacobian is None and problem.said.sparsity is not None


def _ending(
    reason: Reason,
    driver: Driver,
    problem: Problem,
    method: Method,
    watched: tuple[Event, ...],
    largest: Array,
    absolute: Array,
    *,
    fixed: bool,
) -> Ending:
    from unhurried_heron.kernels.memory.control import Reason
    from unhurried_heron.march.doubts import held_back, noise
    from unhurried_heron.march.endings import ending_of

    control = driver.march.control
    bad = int(control["bad_component"][0])
    details: dict[str, object] = {
        "interrupted": driver.interrupted,
        "budget": driver.exhausted,
        "event": watched[int(control["stopped_by"][0])].name if reason is Reason.EVENT else "",
        "switch": driver.passage.endless,
        "component": problem.states[bad] if bad >= 0 else "",
        "bad_time": float(control["bad_time"][0]),
        "fixed": fixed,
        "stiff": not fixed and not driver.interrupted and held_back(driver.march, method),
        "noise": "" if fixed else noise(problem, largest, absolute),
        "steps": int(control["accepted"][0]),
    }
    return ending_of(reason, float(control["time"][0]), problem, method, details)


def _simplest(problem: Problem, values: Array) -> float | dict[str, float]:
    """One number where all states share it, else a number for each by name."""
    first, *others = set(values.tolist())
    return dict(zip(problem.states, values.tolist(), strict=True)) if others else first
