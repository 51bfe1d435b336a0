"""Observed order: how fast errors fall as fixed steps shorten."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.accuracy.compare import chosen_methods
from unhurried_heron.accuracy.comparison import failed_rows
from unhurried_heron.arrays import Array
from unhurried_heron.driver.budget import Budget, budget_of
from unhurried_heron.driver.option_values import in_time
from unhurried_heron.driver.options import check_fits, refuse_no_problem, step_for_count
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import OptionError, excerpt, unforeseen
from unhurried_heron.input.rules import POSITIVE, several, whole
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.study.attempts import INTERRUPTED, Attempt, OnInterrupt, Outcome, attempt_run, raise_common_error
from unhurried_heron.study.reference import Kind, References, kind_of, shortened_to_stop, size_of
from unhurried_heron.text.document import Document

if TYPE_CHECKING:
    import pandas as pd

# Steps of the first, longest size on the interval.
_STEPS: Final = 16
# How often the step is halved by default.
_HALVINGS: Final = 8
# Ends of steps at which errors are measured.
_MAX_ROWS: Final = 2000
# Orders of a straight part stay within this of their mean,
_WITHIN: Final = 0.15
# and within this share of the order of the method more.
_SHARE: Final = 0.05
# From this order on errors fall so fast that steps are shortened by a smaller factor.
_HIGH: Final = 6
# Points that a straight part has at least.
_FEWEST: Final = 3
# Errors within this multiple of the error of the reference, or of rounding, tell no order.
_FLOOR: Final = 30.0
# Errors below this many roundings of the largest size are taken for rounding.
_ROUNDING: Final = 100 * float(np.finfo(float).eps)
# The default budget of all runs together, in seconds.
_SECONDS: Final = 20.0
COLUMNS: Final = (
    "method", "step", "steps", "error at end", "largest error", "order at end", "order", "straight", "rate evaluations",
    "ending",
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class Orders(ByValue):
    """What errors of one method at falling steps say of its order.

    Attributes
    ----------
    method : str
    promised : int
        The order that the method has by its coefficients.
    observed : float
        Slope of the largest error over the straight part, NaN without one; ``at_end`` of the error at the end.
    at_end : float
    span : (float, float)
        The longest and the shortest step of the straight part.
    rounding_from : float
        The step from which on errors no longer fall as they should, because rounding or the reference has taken over;
        NaN where none was that short.
    """

    method: str
    promised: int
    observed: float
    at_end: float
    span: tuple[float, float]
    rounding_from: float

    def __str__(self) -> str:
        from unhurried_heron.text.comparison_document import order_statement

        return order_statement(self)


@dataclass(frozen=True, eq=False)
class Convergence(ByValue):
    """Errors of methods at falling steps.

    Attributes
    ----------
    problem : Problem
    rows : tuple of dict
        One for each method and step, keyed by the columns of the frame.
    orders : tuple of Orders
        One for each method.
    reference : str
        What errors are measured against.
    floor : float
        Errors near or below it are not certain: how far two references part, or rounding.
    outcomes : tuple of Outcome
        What became of the run behind each row.
    """

    problem: Problem
    rows: tuple[dict[str, Any], ...]
    orders: tuple[Orders, ...]
    reference: str
    floor: float = 0.0
    outcomes: tuple[Outcome, ...] = field(default=(), repr=False)

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame, a row for each method and step.

        ``order`` is observed from the row before to this one, by the largest error; ``order at end`` by that at the
        end; ``straight`` tells the rows that an order is told by. Errors are relative to each state's largest size.
        """
        import pandas as pd

        return pd.DataFrame(list(self.rows), columns=list(COLUMNS))

    @property
    def failures(self) -> tuple[str, ...]:
        """Sentences on rows that did not reach the end."""
        from unhurried_heron.text.comparison_document import failures_of

        return failures_of(failed_rows(self.rows, self.outcomes))

    def document(self) -> Document:
        """Return errors and orders of each method at falling steps."""
        from unhurried_heron.text.comparison_document import convergence_document

        return convergence_document(self)

    def __str__(self) -> str:
        return str(self.document())


def convergence(
    problem: Problem,
    methods: str | Method | Iterable[str | Method],
    *,
    steps: Sequence[float | str] | None = None,
    step: float | str | None = None,
    count: int | None = None,
    halvings: int = _HALVINGS,
    budget: Budget | None = None,
    reference: Kind | None = None,
    on_interrupt: str = "raise",
) -> Convergence:
    """Run methods with ever shorter fixed steps and observe their order.

    Parameters
    ----------
    problem : Problem
    methods : str or Method, or iterable of them
        Of those that take fixed steps.
    steps : sequence of float or str, optional
        The steps, also with units.
    step : float or str, optional
        The first step, which is halved ``halvings`` times; a sixteenth of the interval without both.
    count : int, optional
        The first step, as the number of steps over the interval.
    halvings : int
    budget : Budget, optional
        Of each run; twenty seconds by default.
    reference : {"taylor"}, optional
        As for `compare`.
    on_interrupt : {"raise", "return"}
        As for `compare`.

    Returns
    -------
    Convergence

    Raises
    ------
    MethodError, OptionError
        A method is unknown or takes no fixed steps, or steps are unusable.
    Exception
        What the problem's own function raised, in every run.
    """
    refuse_no_problem(problem, "convergence")
    chosen, kind, ctrl_c = chosen_methods(methods), kind_of(reference, "convergence"), OnInterrupt(on_interrupt)
    for method in chosen:
        check_fits(method, 1.0, None, None)
    lengths = _lengths(problem, steps, step_for_count(problem, step, count), halvings)
    problem = shortened_to_stop(problem)
    references = References(problem, 0.0, kind)
    limits = budget_of(budget) if budget is not None else Budget(seconds=_SECONDS)
    rows: list[dict[str, Any]] = []
    runs: list[Attempt] = []
    orders: list[Orders] = []
    label = ""
    floor = _ROUNDING
    with ctrl_c:
        floor = max(references.disagreement() or 0.0, _ROUNDING)
    for method in chosen:
        known: Any = None
        with ctrl_c:
            if not ctrl_c.hit:
                names, truth, label = references.function_for(method)
                indices = [slot for slot in map(problem.model.layout.slot, names) if slot is not None]
                along: Any = references.truth_for(method)
                known = truth, indices, size_of(along.values), references.until
        pairs = []
        for length in lengths(method):
            pairs.append((_row_of(method, length, INTERRUPTED), INTERRUPTED))
            with ctrl_c:
                if not ctrl_c.hit:
                    pairs[-1] = _row(problem, method, length, limits, known)
        found = [row for row, _ in pairs]
        runs += [run for _, run in pairs]
        _observe(found)
        orders.append(_orders(method, found, floor))
        rows += found
    raise_common_error(runs)
    return Convergence(problem, tuple(rows), tuple(orders), label, floor, tuple(run.outcome for run in runs))


def _lengths(problem: Problem, steps: Any, step: Any, halvings: int) -> Callable[[Method], list[float]]:
    """Return the steps of a method, the longest first; where the user chose none, more for methods of high order.

    Parameters
    ----------
    problem : Problem
    steps : sequence of float or str, or None
        The steps that were given.
    step : float, str or None
        The first step.
    halvings : int

    Returns
    -------
    Callable[[Method], list[float]]

    Raises
    ------
    OptionError
        They exclude each other, or are too few.
    """
    if steps is not None and step is not None:
        raise OptionError("steps and a first step exclude each other", name="steps", location="convergence",
                          expected="either steps=[…] or step=…",
                          given=f"{excerpt(steps)} and {excerpt(step)}")  # fmt: skip
    if steps is not None:
        given = several("steps")(steps, "steps", "convergence")
        found = sorted((POSITIVE(in_time(problem, each, "steps"), "steps") for each in given), reverse=True)
        if len(set(found)) < 2:
            raise OptionError("an order needs several steps", name="steps", location="convergence",
                              expected="at least two different steps", given=excerpt(steps))  # fmt: skip
        return lambda method: found
    halvings = whole(1, 40)(halvings, "halvings", "convergence")
    start, end = problem.interval
    first = abs(end - start) / _STEPS if step is None else POSITIVE(in_time(problem, step, "step"), "step")
    halved = [first / 2**k for k in range(halvings + 1)]
    finer = [2.0 * first / 2 ** (0.5 * k) for k in range(2 * halvings + 1)]
    return lambda method: finer if step is None and method.order >= _HIGH else halved


def _row_of(method: Method, length: float, found: Attempt) -> dict[str, Any]:
    """Return a row in which nothing is measured yet.

    Parameters
    ----------
    method : Method
    length : float
        The step.
    found : Attempt

    Returns
    -------
    dict[str, Any]
    """
    row: dict[str, Any] = {**dict.fromkeys(COLUMNS), "method": method.name, "step": length}
    return row | {"ending": found.ending}


def _row(problem: Problem, method: Method, length: float, limits: Budget, known: Any) -> tuple[dict[str, Any], Attempt]:
    """Run a method with a fixed step; return its row and the run.

    Parameters
    ----------
    problem : Problem
    method : Method
    length : float
        The step.
    limits : Budget
    known : tuple
        What errors are measured against: a function of times, indices and sizes of the states, and until when it is
        trusted.

    Returns
    -------
    tuple[dict[str, Any], Attempt]
    """
    found = attempt_run(problem, method, step=length, budget=limits, ledger=False)
    row = _row_of(method, length, found)
    if found.run is None:
        return row, found
    run = found.run
    row |= {"steps": run.tally.accepted, "rate evaluations": run.tally.rate_evaluations}
    if found.done:
        row["error at end"], row["largest error"] = _errors(run.data.trajectory, *known)
    return row, found


def _errors(kept: Any, truth: Any, indices: list[int], size: Array, until: float | None) -> tuple[float, float]:
    """Return the error at the end, and the largest at the ends of steps, where the reference is trusted.

    Parameters
    ----------
    kept : Trajectory
    truth : callable
        The reference as a function of times.
    indices : list of int
        The states that are compared.
    size : ndarray, shape (n_compared,)
        Their largest sizes.
    until : float or None
        Until when the reference is trusted.

    Returns
    -------
    tuple[float, float]

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    if not isinstance(kept, StepTrajectory):
        raise unforeseen("a run whose steps were not kept")
    rows = np.unique(np.append(np.arange(0, kept.times.size, 1 + kept.times.size // _MAX_ROWS), kept.times.size - 1))
    times, states = kept.times[rows], kept.states[rows][:, indices]
    if until is not None:
        inside = np.abs(times - times[0]) <= abs(until - times[0])
        times, states = times[inside], states[inside]
    misses = (np.abs(states - truth(np.ascontiguousarray(times))) / size).max(axis=1)
    return float(misses[-1]), float(misses.max())


def _observe(rows: list[dict[str, Any]]) -> None:
    """Write the orders observed between neighbouring rows."""
    for name, order in (("error at end", "order at end"), ("largest error", "order")):
        for before, after in zip(rows, rows[1:], strict=False):
            if before[name] and after[name]:
                after[order] = float(np.log(before[name] / after[name]) / np.log(before["step"] / after["step"]))


def _orders(method: Method, rows: list[dict[str, Any]], floor: float) -> Orders:
    """Find the longest straight part above the floor, and the slopes over it.

    Parameters
    ----------
    method : Method
    rows : list of dict
    floor : float
        Errors near or below it are not certain.

    Returns
    -------
    Orders
    """
    usable = [row for row in rows if row["largest error"] and row["largest error"] > _FLOOR * floor]
    # Errors as large as the solution tell no order either.
    usable = [row for row in usable if row["largest error"] < 0.5]
    best: list[dict[str, Any]] = []
    for i in range(len(usable)):
        for j in range(i + _FEWEST, len(usable) + 1):
            part = usable[i:j]
            orders_of_part = [row["order"] for row in part[1:] if row["order"] is not None]
            wide = 2.0 * (_WITHIN + _SHARE * method.order)
            straight = len(orders_of_part) == len(part) - 1 and np.ptp(orders_of_part) <= wide
            # Of equally long parts the one of the shortest steps counts.
            if straight and len(part) >= len(best):
                best = part
    for row in rows:
        row["straight"] = any(row is each for each in best)
    observed, at_end, span = np.nan, np.nan, (np.nan, np.nan)
    if best:
        span = best[0]["step"], best[-1]["step"]
        logs = np.log([row["step"] for row in best])
        observed = float(np.polyfit(logs, np.log([row["largest error"] for row in best]), 1)[0])
        ends = [row["error at end"] for row in best]
        at_end = float(np.polyfit(logs, np.log(ends), 1)[0]) if all(ends) else np.nan
    fallen = [row for row in rows if row["largest error"] is not None and row["largest error"] <= _FLOOR * floor]
    stalled = [row["step"] for row in fallen if row["order"] is None or row["order"] < 0.5 * method.order]
    return Orders(method.name, method.order, observed, at_end, span, max(stalled, default=np.nan))
