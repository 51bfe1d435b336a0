"""What a run is asked to do, checked: tolerances or step, recording, budgets."""

from __future__ import annotations

import math
import numbers
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.tolerances import Tolerance
from unhurried_heron.errors import MethodError, OptionError, as_text, excerpt, listing, near_spelling
from unhurried_heron.families.registry import family_of
from unhurried_heron.input.definitions import QUANTITY
from unhurried_heron.input.values import is_finite_number, number_array
from unhurried_heron.kernels.memory.control import SMALLEST_RELATIVE_STEP
from unhurried_heron.methods.catalogue import FOR_SMOOTH
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.room import refuse_memory

# times every so long
_MAX_TIMES: Final = 2.0**53

Record = str | int | Sequence[float] | Array


@dataclass(frozen=True)
class Budget:
    """The most a run may use; whatever is left out is unlimited.

    Parameters
    ----------
    steps : int, optional
        Attempted steps.
    rate_evaluations : int, optional
        Calls of the rates; the run ends before the first step that would begin beyond it.
    seconds : float, optional
        Wall-clock time.

    Raises
    ------
    OptionError
        A limit is not positive.
    """

    steps: int | None = None
    rate_evaluations: int | None = None
    seconds: float | None = None

    def __post_init__(self) -> None:
        for name in ("steps", "rate_evaluations", "seconds"):
            value = getattr(self, name)
            whole = name == "seconds" or isinstance(value, numbers.Integral)
            if value is not None and not (whole and positive(value)):
                raise OptionError(
                    f"the budget of {name} is not usable",
                    name=name,
                    location="budget",
                    expected="a positive number" if name == "seconds" else "a positive whole number",
                    given=excerpt(value),
                )
            if value is not None:
                # whole numbers and numbers of NumPy are no others
                object.__setattr__(self, name, float(value) if name == "seconds" else int(value))


_UNBOUNDED: Final = Budget()


def positive(value: Any) -> bool:
    """Whether a value is a positive finite real number."""
    return is_finite_number(value) and float(value) > 0


def positive_option(value: Any, name: str) -> float:
    """Return a positive finite number.

    Raises
    ------
    OptionError
    """
    if not positive(value):
        raise OptionError(
            f"{name} is not usable", name=name, location=name, expected="a positive number", given=excerpt(value)
        )
    return float(value)


def check_size(method: Method, n: int) -> None:
    """Refuse a method for a system that is larger than its family can do.

    Raises
    ------
    MethodError
    """
    most = family_of(method).most_states
    if most is not None and n > most:
        raise MethodError(
            f"{method.name} is for smaller systems",
            name=method.name,
            location="method",
            expected=f"at most {most:,} states, or an explicit method such as {FOR_SMOOTH}",
            given=f"{n:,} states",
        )


def check_fits(method: Method, step: Any, rtol: Tolerance, atol: Tolerance) -> None:
    """Refuse a method without error estimate where one is needed, and a step together with tolerances.

    Raises
    ------
    MethodError, OptionError
    """
    if step is None and not method.adaptive:
        raise MethodError(
            f"{method.name} has no error estimate, so it cannot choose its steps",
            name=method.name,
            location="method",
            expected=f"step=… or count=… for fixed steps, or a method that estimates its error, such as {FOR_SMOOTH}",
            given="no step",
        )
    if step is not None and not capabilities(method).takes_fixed_steps:
        raise MethodError(
            f"{method.name} is made for steps of its own choice",
            name=method.name,
            location="step",
            expected="tolerances, or a method of one order such as adams-pece-4 or backward-differentiation-2",
            given=f"step={excerpt(step)}",
        )
    if step is not None:
        if not isinstance(step, str):
            positive_option(step, "step")
        if rtol is not None or atol is not None:
            raise OptionError(
                "a fixed step and a tolerance exclude each other",
                name="step",
                location="step",
                expected="either step=… or rtol=… and atol=…",
                given=f"step={excerpt(step)}, rtol={excerpt(rtol)}, atol={excerpt(atol)}",
            )


def step_for_count(problem: Problem, step: Any, count: Any) -> Any:
    """Return the fixed step that is requested, as a size or as a count.

    Raises
    ------
    OptionError
        Both are given, or the count is no positive whole number.
    """
    if count is None:
        return step
    if step is not None:
        raise OptionError("a step and a count of steps exclude each other", name="count", location="count",
                          expected="either step=… or count=…",
                          given=f"step={excerpt(step)}, count={excerpt(count)}")  # fmt: skip
    if not isinstance(count, numbers.Integral) or isinstance(count, bool) or not 0 < int(count) < 2**53:
        raise OptionError("the count of steps is not usable", name="count", location="count",
                          expected="a positive whole number", given=excerpt(count))  # fmt: skip
    start, end = problem.interval
    return abs(end - start) / int(count)


def in_time(problem: Problem, value: Any, location: str) -> Any:
    """Return an option that may be a quantity of time as a plain number.

    Raises
    ------
    UnitError
    """
    if not isinstance(value, str):
        return value
    from unhurried_heron.units.quantities import in_unit_of

    return in_unit_of(value, problem.units.get("t", ""), location)


def steps_wanted(
    problem: Problem, *, step: Any, starting_step: Any, largest_step: Any
) -> tuple[float | None, float | None, float]:
    """Return the fixed step, the first step and the bound on all steps, each a size; None and infinity where not given.

    Raises
    ------
    OptionError, UnitError
        One is not positive, or below the spacing of the times; or a fixed step is given with one of the others.
    """
    interval = problem.interval
    named = {"step": step, "starting_step": starting_step, "largest_step": largest_step}
    named = {name: in_time(problem, value, name) for name, value in named.items()}
    given = {name: positive_option(value, name) for name, value in named.items() if value is not None}
    beside = [name for name in given if name != "step"]
    if step is not None and beside:
        raise OptionError(
            f"a fixed step and {beside[0]} exclude each other",
            name=beside[0],
            location=beside[0],
            expected="step=… alone, or tolerances with starting_step=… and largest_step=…",
            given=f"step={excerpt(step)}, {beside[0]}={excerpt(named[beside[0]])}",
        )
    smallest = SMALLEST_RELATIVE_STEP * max(map(abs, interval))
    for name, size in given.items():
        if size < smallest:
            raise OptionError(
                f"{name} is below the spacing of floating-point times",
                name=name,
                location=name,
                expected=f"at least {smallest:.3g} for times up to {max(map(abs, interval)):g}",
                given=excerpt(named[name]),
            )
    return given.get("step"), given.get("starting_step"), given.get("largest_step", math.inf)


def refuse_control(method: Method, control: Any, *, fixed: bool) -> None:
    """Refuse step control for steps that follow no error, or a rule of their own.

    Raises
    ------
    OptionError
    """
    if control is not None and (fixed or not family_of(method).takes_controller):
        what = "fixed steps follow no error" if fixed else f"{method.name} chooses step and order together"
        raise OptionError(what, name="step_control", location="step_control",
                          expected="no step_control=…, or a one-step method with tolerances",
                          given=excerpt(control))  # fmt: skip


def refuse_no_problem(problem: Any, location: str) -> None:
    """Refuse what is no problem.

    Raises
    ------
    OptionError
    """
    if not isinstance(problem, Problem):
        raise OptionError(
            "a problem is wanted",
            name="problem",
            location=location,
            expected="a Problem: Problem.from_text(…), from_rates(…) or from_file(…)",
            given=excerpt(problem),
        )


def one_of(value: Any, name: str, allowed: Mapping[Any, str]) -> None:
    """Refuse a value that is none of a few; the mapping tells how each is written.

    Raises
    ------
    OptionError
    """
    if not any(value is each or (isinstance(value, str) and value == each) for each in allowed):
        raise OptionError(
            f"{name} is not usable",
            name=name,
            location=name,
            expected=" or ".join(allowed.values()),
            given=excerpt(value),
        )


def record_times(problem: Problem, record: Record) -> Array | None:
    """Return the times to record in the direction of the run, or None for every accepted step.

    Raises
    ------
    OptionError
        The count is too small, or times are not finite, outside the interval or out of order.
    """
    start, end = problem.interval
    if isinstance(record, str):
        return None if record == "steps" else _every(problem, record)
    if isinstance(record, numbers.Integral) and not isinstance(record, bool):
        return _equal_times(start, end, int(record), problem.model.layout.size)
    wanted: Any = record
    if isinstance(wanted, Sequence) and any(isinstance(each, str) for each in wanted):
        wanted = [in_time(problem, each, "record") for each in wanted]
    return _times_as_given(start, end, wanted)


def _every(problem: Problem, record: str) -> Array:
    """Return the times of a period from the start; the end of the interval only where it is one of them."""
    start, end = problem.interval
    quantity = QUANTITY.match(record) if len(record) < 200 else None
    if quantity is None:
        raise OptionError(f"cannot record '{record[:80]}'", name="record", location="record",
                          given=excerpt(record),
                          expected='"steps", every so long such as "30 min", a count of times, or times')  # fmt: skip
    every = positive_option(in_time(problem, record, "record"), "record")
    count = abs(end - start) / every
    if not count < _MAX_TIMES:
        raise OptionError("this many times do not fit into memory", name="record", location="record",
                          given=excerpt(record),
                          expected=f"a time above {abs(end - start) / _MAX_TIMES:.3g}")  # fmt: skip
    # as near to the end as rounding tells
    rows = int(count + 1e-9) + 1
    refuse_memory(rows, problem.model.layout.size + 1, "record")
    times = start + np.copysign(every, end - start) * np.arange(rows)
    inside: Array = np.clip(times, min(start, end), max(start, end))
    return inside


def _equal_times(start: float, end: float, count: int, n: int) -> Array:
    if count < 2:
        raise OptionError(
            "too few times to record",
            name="record",
            location="record",
            expected="a count of at least 2 (both ends are among them)",
            given=excerpt(count),
        )
    refuse_memory(count, n + 1, "record")
    return np.linspace(start, end, count) if count > 2 else np.array([start, end])


def _times_as_given(start: float, end: float, record: Any) -> Array:
    times = number_array(record)
    if times is None or times.ndim != 1 or times.size == 0 or not np.isfinite(times).all():
        raise OptionError(
            "the times to record are not usable",
            name="record",
            location="record",
            expected='"steps", a count of times, or a list of finite times',
            given=excerpt(record),
        )
    forward = np.sign(end - start)
    outside = (times < min(start, end)) | (times > max(start, end))
    if outside.any() or (np.diff(times) * forward <= 0).any():
        raise OptionError(
            "the times to record do not follow the interval",
            name="record",
            location="record",
            expected=f"times from {start:g} to {end:g}, each beyond the one before",
            given=f"{times[outside][0]:g}" if outside.any() else "times out of order",
        )
    return times


def budget_of(budget: Any) -> Budget:
    """Return the limits of a run.

    Raises
    ------
    OptionError
        It is neither a `Budget` nor a mapping, or limits something unknown.
    """
    if budget is None or isinstance(budget, Budget):
        return budget or _UNBOUNDED
    known = list(Budget.__dataclass_fields__)
    if not isinstance(budget, Mapping):
        raise OptionError(
            "this is no budget",
            name="budget",
            location="budget",
            expected="a mapping such as {'seconds': 10}, or a Budget",
            given=excerpt(budget),
        )
    for name in budget:
        if name not in known:
            raise OptionError(
                f"a run has no budget of '{as_text(name)}'{near_spelling(name, known)}",
                name="budget",
                location="budget",
                expected="one of " + listing(known),
                given=as_text(name),
            )
    return Budget(**budget)
