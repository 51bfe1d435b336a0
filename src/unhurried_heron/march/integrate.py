"""`integrate`: one function for every method."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping
from typing import Any, Literal

import numpy as np

from unhurried_heron.errors import IncompleteRunWarning, OptionError, near_spelling
from unhurried_heron.march.error_scale import ErrorScale, error_scale
from unhurried_heron.march.options import (
    Budget,
    Record,
    Tolerance,
    check_fits,
    check_size,
    positive_option,
    record_times,
    tolerances,
)
from unhurried_heron.methods.catalogue import Method, find_method
from unhurried_heron.methods.collocation import Collocation
from unhurried_heron.problem.event import Event
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Tally
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array

DEFAULT_METHOD = "dormand-prince-54"


def integrate(
    problem: Problem,
    method: str | Method = DEFAULT_METHOD,
    *,
    rtol: Tolerance = None,
    atol: Tolerance = None,
    step: float | None = None,
    record: Record = "steps",
    events: Iterable[Event] = (),
    parameters: Mapping[str, Any] | None = None,
    switches: bool = True,
    budget: Budget | Mapping[str, Any] | None = None,
    starting_step: float | None = None,
    largest_step: float | None = None,
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
    switches : bool
        Whether to land on jumps and kinks (``problem.switches``) and start again beyond each, which keeps the order of
        the method; otherwise the error estimate alone has to notice them.
    budget : Budget or mapping, optional
        The most steps, rate evaluations or seconds to use.
    starting_step, largest_step : float, optional
        Size of the first step, otherwise estimated; bound on every step.
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
    chosen = find_method(method)
    check_fits(chosen, step, rtol, atol)
    if on_interrupt not in ("raise", "return"):
        raise OptionError(
            "on_interrupt is not usable",
            name="on_interrupt",
            place="on_interrupt",
            expected='"raise" or "return"',
            given=repr(on_interrupt),
        )
    if not isinstance(switches, bool):
        raise OptionError(
            "switches are on or off", name="switches", place="switches", expected="True or False", given=repr(switches)
        )
    if parameters:
        problem = problem.with_(parameters=parameters)
    problem.refuse_open()
    check_size(chosen, problem.model.layout.size)
    times = record_times(problem, record)
    extra = tuple(events)
    # a changed copy checks the new events as the problem's own were checked
    watched = problem.with_(events=(*problem.events, *extra)).events if extra else problem.events
    limits = _budget(budget)
    relative, absolute = tolerances(problem, rtol, atol)
    state = problem.start
    start, end = problem.interval

    from unhurried_heron.kernels.control import Reason
    from unhurried_heron.march.driver import Driver
    from unhurried_heron.march.endings import ending_of
    from unhurried_heron.march.families import lay_out
    from unhurried_heron.march.passage import Passage
    from unhurried_heron.march.progress import ProgressBar
    from unhurried_heron.march.recorder import StepRecorder, TimeRecorder
    from unhurried_heron.native.system import native_system

    native = native_system(problem, watched, with_jacobian=isinstance(chosen, Collocation), held=switches)
    scales = error_scale(chosen, relative, absolute, state, fixed=step is not None)
    march = lay_out(chosen, native, state, scales, watched, fixed=step is not None)
    control = march.control
    control["time"] = control["origin"] = start
    control["end"] = end
    control["adaptive"] = int(step is None)
    control["bad_component"] = -1
    control["largest_step"] = np.inf if largest_step is None else positive_option(largest_step, "largest_step")

    def step_towards(until: float) -> tuple[float, int]:
        interval = (float(control["time"][0]), until)
        size, calls = _estimate_starting_step(interval, march, scales, chosen)
        return float(np.copysign(size, end - start)), calls

    passage = Passage(problem, march, len(watched), None if step is not None else step_towards, held=switches)
    passage.begin()
    if step is not None:
        control["step"] = np.copysign(step, end - start)
    elif starting_step is not None:
        control["step"] = np.copysign(positive_option(starting_step, "starting_step"), end - start)
    else:
        control["step"], control["rate_evaluations"] = step_towards(float(control["end"][0]))
    keep_ledger = times is None if ledger is None else ledger
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
    end_time = float(control["time"][0])
    found = driver.events()
    bad = int(control["bad_component"][0])
    details: dict[str, object] = {
        "interrupted": driver.interrupted,
        "budget": driver.exhausted,
        "event": watched[int(control["stopped_by"][0])].name if reason is Reason.EVENT else "",
        "switch": passage.endless,
        "component": problem.states[bad] if bad >= 0 else "",
        "bad_time": float(control["bad_time"][0]),
        "fixed": step is not None,
    }
    ending = ending_of(reason, end_time, problem, chosen, details)
    if not ending.as_asked and ending.reason not in ("budget", "interrupted"):
        warnings.warn(f"{ending} (The run holds what was done; see run.ending.)", IncompleteRunWarning, stacklevel=2)
    counts = {key: int(control[key][0]) for key in Tally.__dataclass_fields__ if key != "seconds"}
    options = {"rtol": rtol, "atol": atol, "step": step, "record": record}
    if step is None:
        options |= {"rtol": _simplest(problem, relative), "atol": _simplest(problem, absolute)}
    return Run(
        problem=problem,
        method=chosen.name,
        options=options,
        ending=ending,
        tally=Tally(**counts, seconds=driver.seconds),
        _trajectory=recorder.trajectory(end_time, march.system.state.copy()),
        _watched=watched,
        _events=found,
        _ledger=driver.ledger(),
        _crossings=tuple(passage.crossings),
        _landings=tuple(passage.marks),
    )


def _budget(budget: Budget | Mapping[str, Any] | None) -> Budget:
    if budget is None or isinstance(budget, Budget):
        return budget or Budget()
    known = list(Budget.__dataclass_fields__)
    for name in budget:
        if name not in known:
            raise OptionError(
                f"there is no budget of '{name}'{near_spelling(str(name), known)}",
                name="budget",
                place="budget",
                expected="one of " + ", ".join(known),
                given=str(name),
            )
    return Budget(**budget)


def _estimate_starting_step(
    interval: tuple[float, float], march: Any, scales: ErrorScale, method: Method
) -> tuple[float, int]:
    from unhurried_heron.march.start import starting_step
    from unhurried_heron.native.rows import evaluate_rows

    rates = march.native.rates

    def evaluate(time: float, state: Array) -> Array | None:
        out = evaluate_rows(rates, np.array([time]), state[None, :])
        if not out.size:
            rates.raise_pending("rates")
        return out[0] if out.size else None

    state = march.system.state
    scale = scales.relative * np.abs(state) + scales.absolute
    scale = np.where(scale > 0, scale, np.maximum(scales.relative, 1e-300))
    order = min(method.order, method.embedded_order)
    return starting_step(evaluate, state, interval, scale, order)


def _simplest(problem: Problem, values: Array) -> float | dict[str, float]:
    """One number where all states share it, else a number for each by name."""
    if (values == values[0]).all():
        return float(values[0])
    return dict(zip(problem.states, values.tolist(), strict=True))
